"""The protocols every scanner driver speaks; docs/devices.md says how to write one.

A `PlannedDevice` knows its whole path before it begins, as a turntable does. A `StreamingDevice` gives frames as they
come, as a head in somebody's hand does, and listens to its `ControlChannel` meanwhile.
"""

import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from lucid_relic.types import Camera


@dataclass(frozen=True)
class Shot:
    """One frame as a device delivers it.

    depth (h, w) float32 mm, 0 = nothing measured; colour (h, w, 3) uint8 sRGB; clipped the share
    of measured pixels that are over-exposed; fields go into the manifest's frame entry.
    """

    depth: np.ndarray
    colour: np.ndarray
    clipped: float
    fields: dict[str, Any]


class PlannedDevice(Protocol):
    """A scanner whose path is known; one instance makes one pass."""

    camera: Camera

    def manifest(self) -> dict[str, Any]:
        """The manifest's fields besides `frames`."""

    def frame_count(self) -> int:
        """How many frames the planned path has."""

    def shoot(self, index: int) -> Shot:
        """Move to the planned position and take one frame."""


class ControlChannel:
    """What a person says to a device while it runs: pause, go on, stop; safe to use from another thread."""

    def __init__(self) -> None:
        self._running = threading.Event()
        self._running.set()
        self._stopped = threading.Event()

    def pause(self) -> None:
        """Take no frames until `go_on`."""
        self._running.clear()

    def go_on(self) -> None:
        """Take frames again."""
        self._running.set()

    def stop(self) -> None:
        """End the pass; a device that is paused ends too."""
        self._stopped.set()
        self._running.set()

    @property
    def paused(self) -> bool:
        return not self._running.is_set()

    @property
    def stopped(self) -> bool:
        return self._stopped.is_set()

    def wait(self, seconds: float) -> bool:
        """Wait for the next frame's time, and as long as it is paused; False when the pass is to end."""
        self._stopped.wait(seconds)
        self._running.wait()
        return not self.stopped


class StreamingDevice(Protocol):
    """A scanner that gives frames as they come; one instance makes one pass."""

    camera: Camera

    def manifest(self) -> dict[str, Any]:
        """The manifest's fields besides `frames`."""

    def frames(self, control: ControlChannel) -> Iterator[Shot]:
        """Frames until the pass is stopped or the device has no more; asks `control` before each one."""
