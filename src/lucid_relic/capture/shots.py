"""Single shots with the stand-in: the head stands still, and somebody turns the object on by hand between them."""

from typing import Any

import numpy as np

from lucid_relic.capture.device import Shot
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import render_view
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner, tracked_by
from lucid_relic.geometry.rigid import inverse

MOST_SHOTS = 200
TURN_DEG = (20.0, 32.0)  # that a hand turns it from one shot to the next
LESS = 0.6  # of that when a shot is taken again
TILT_DEG, SHIFT_MM = 2.5, 3.0  # how unevenly it does so


class SingleShots:
    """A `PlannedDevice` without a path: every shot sees the object turned a little further; a hand never turns evenly."""

    def __init__(
        self, model: ScanModel, plan: TurntablePlan, traits: ScannerTraits | None = None, seed: int = 0
    ) -> None:
        self._still = VirtualScanner(model, plan, traits, seed)
        self.camera = self._still.camera
        self._seed = seed
        self._elevation = np.radians(plan.elevation_deg)
        self._turned: list[float] = []  # degrees at every shot so far
        self._tries = 0

    def _pose(self, index: int, tried: int) -> np.ndarray:
        """T_plate_camera for a shot; whoever is asked to take one again turns the object less."""
        rng = np.random.default_rng([self._seed, 31, index, tried])
        known = self._turned[:index]
        before = known[-1] if known else index * float(np.mean(TURN_DEG))
        self._turned = [*known, before + rng.uniform(*TURN_DEG) * LESS**tried]
        uneven = np.radians(TILT_DEG) * rng.normal()
        return self._still.head_at(
            np.radians(self._turned[-1]), self._elevation + uneven, SHIFT_MM * rng.normal(size=3)
        )

    def manifest(self) -> dict[str, Any]:
        """Manifest fields: tracked by shape, without an axis."""
        return tracked_by(self._still.manifest())

    def frame_count(self) -> int:
        return MOST_SHOTS

    def shoot(self, index: int) -> Shot:
        """Take a shot of the object as it lies after being turned on that often."""
        self._tries = self._tries + 1 if index + 1 == len(self._turned) else 0
        rng = np.random.default_rng([self._seed, 4, index, self._tries])
        still = self._still
        self._T_plate_camera = self._pose(index, self._tries)
        depth, colour, clipped = render_view(still.scene, self.camera, still.traits, self._T_plate_camera, rng)
        return Shot(depth, colour, clipped, {"time_s": float(index)})

    def truth_pose(self) -> np.ndarray:
        """(4, 4) true camera → model pose of the newest shot, for tests only."""
        return inverse(self._still.T_plate_model) @ self._T_plate_camera
