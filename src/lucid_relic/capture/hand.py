"""A virtual hand-held pass: the head moves round the object in even strokes at changing heights."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.capture.device import Shot
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import render_view
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner, tracked_by
from lucid_relic.geometry.rigid import inverse


@dataclass(frozen=True, kw_only=True)
class HandPlan:
    """How many frames, over how many turns, between which heights the hand moves (degrees), and how many marker dots
    are stuck on the tray."""

    frames: int = 300
    turns: float = 2.0
    low_deg: float = 12.0
    high_deg: float = 48.0
    tip_deg: float = 0.0
    sway_mm: float = 6.0
    dots: int = 0
    title: str = "by hand"


class VirtualHandScanner:
    """A `PlannedDevice` whose head is moved by hand; frames carry no pose, they are tracked by shape."""

    def __init__(self, model: ScanModel, plan: HandPlan, traits: ScannerTraits | None = None, seed: int = 0) -> None:
        table = TurntablePlan(stops=3, tip_deg=plan.tip_deg, title=plan.title, dots=plan.dots)
        self._still = VirtualScanner(model, table, traits, seed)
        self.camera = self._still.camera
        self.plan = plan
        self.seed = seed
        self._poses = self._path()

    def _path(self) -> np.ndarray:
        """(n, 4, 4) head poses over the plate: a rising and falling spiral with a little sway."""
        plan, rng = self.plan, np.random.default_rng([self.seed, 9])
        phase = rng.uniform(0, 2 * np.pi, 3)
        share = np.arange(plan.frames) / max(plan.frames, 1)
        middle = (plan.low_deg + plan.high_deg) / 2
        swing = (plan.high_deg - plan.low_deg) / 2
        poses = []
        for s in share:
            sway = plan.sway_mm * np.sin(2 * np.pi * 3 * s + phase)
            height = middle + swing * np.sin(2 * np.pi * s * plan.turns / 2)
            poses.append(self._still.head_at(2 * np.pi * plan.turns * s, np.radians(height), sway))
        return np.stack(poses)

    def manifest(self) -> dict[str, Any]:
        """Manifest fields: tracked by shape, or by the markers if there are any, without an axis."""
        by = "markers" if self.plan.dots else "shape"
        return {**tracked_by(self._still.manifest(), by), "device": {"name": "virtual hand head"}}

    def frame_count(self) -> int:
        return self.plan.frames

    def shoot(self, index: int) -> Shot:
        """Take the frame at position `index` of the path."""
        rng = np.random.default_rng([self.seed, 2, index])
        still = self._still
        depth, colour, clipped = render_view(still.scene, still.camera, still.traits, self._poses[index], rng)
        return Shot(depth, colour, clipped, {"time_s": round(index / 15, 4)})

    def truth_poses(self) -> np.ndarray:
        """(n, 4, 4) true camera → model poses, for tests and accuracy reports only."""
        return inverse(self._still.T_plate_model) @ self._poses
