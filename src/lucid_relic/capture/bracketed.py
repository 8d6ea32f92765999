"""Several exposures at every stop, merged to one frame."""

from typing import Any

from lucid_relic.capture.device import PlannedDevice, Shot
from lucid_relic.light.exposures import merge_exposures


class Bracketed:
    """A `PlannedDevice` over several that differ by their exposure only."""

    def __init__(self, devices: list[PlannedDevice], exposures_ms: tuple[float, ...]) -> None:
        self._devices = devices
        self._exposures = exposures_ms
        self.camera = devices[0].camera

    def manifest(self) -> dict[str, Any]:
        """As of the first exposure."""
        return self._devices[0].manifest()

    def frame_count(self) -> int:
        return self._devices[0].frame_count()

    def shoot(self, index: int) -> Shot:
        """All exposures of a stop; the frame says how much each of them measured."""
        shots = [device.shoot(index) for device in self._devices]
        merged = merge_exposures([s.depth for s in shots], [s.colour for s in shots], self._exposures)
        told = {"exposures_ms": list(self._exposures), "valid": [round(v, 4) for v in merged.valid]}
        clipped = min(s.clipped for s in shots)
        return Shot(merged.depth, merged.colour, clipped, {**shots[0].fields, **told})
