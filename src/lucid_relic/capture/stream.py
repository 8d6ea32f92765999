"""A planned path played as a stream: the stand-in for a head that is moved by hand."""

from collections.abc import Iterator
from typing import Any

from lucid_relic.capture.device import ControlChannel, PlannedDevice, Shot


class PlayedStream:
    """A `StreamingDevice` that takes the frames of a `PlannedDevice` one after the other, at a rate."""

    def __init__(self, device: PlannedDevice, frames_per_s: float = 15.0) -> None:
        self._device = device
        self._seconds = 1 / frames_per_s
        self.camera = device.camera

    def manifest(self) -> dict[str, Any]:
        """As of the device that is played."""
        return self._device.manifest()

    def frames(self, control: ControlChannel) -> Iterator[Shot]:
        """The planned frames in order; a pause leaves none out."""
        for index in range(self._device.frame_count()):
            if not control.wait(self._seconds if index else 0.0):
                return
            yield self._device.shoot(index)
