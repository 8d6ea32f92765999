"""The protocol every scanner driver speaks; docs/devices.md says how to write one."""

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


class Device(Protocol):
    """A scanner with a fixed camera; one instance makes one pass."""

    camera: Camera

    def manifest(self) -> dict[str, Any]:
        """The manifest's fields besides `frames`."""

    def frame_count(self) -> int:
        """How many frames the planned path has."""

    def shoot(self, index: int) -> Shot:
        """Move to the planned position and take one frame."""
