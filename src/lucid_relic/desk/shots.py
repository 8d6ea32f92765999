"""Single shots: each is placed on the former ones as it comes, or refused with its reason."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.desk.sight import OneFrame
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import difference, upright
from lucid_relic.operations.registry import get_operation
from lucid_relic.progress import silent
from lucid_relic.types import Camera, Part, PassState, ScanState

LEAP_DEG = 75.0  # from one shot to the next: what fits further off is another side that looks alike
ADVICE = "Turn the object less from shot to shot, so that half of what was seen stays in view, and take it again."


@dataclass
class _Several:
    """A `FrameSource` of frames that are held in memory."""

    key: str
    frames: tuple[OneFrame, ...]

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """(h, w) float32 mm of the whole image or a part."""
        return self.frames[index].depth(0, part)

    def colour(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """(h, w, 3) uint8 sRGB of the whole photograph or a part, None without one."""
        return self.frames[index].colour(0, part)


class ShotPlacer:
    """Places shots of one pass by find fit, frame to model; the first one is stood upright on what it shows of the plate.

    What a shot shows of the plate is cut away before: it does not turn with the object.
    """

    def __init__(self, camera: Camera) -> None:
        self._camera = camera
        self._shots: list[PassState] = []
        self._frames: list[OneFrame] = []
        self._poses: list[np.ndarray] = []

    def know(self, depth: np.ndarray, colour: np.ndarray | None, pose: np.ndarray) -> None:
        """Take a shot that was placed before, with its camera's pose (4, 4) in the pass."""
        self._keep(self._cut(depth, colour), pose)

    def place(self, depth: np.ndarray, colour: np.ndarray | None) -> np.ndarray:
        """The camera's pose (4, 4) for the next shot; raises `StepNotPossible` with the reason when it is refused."""
        shot = self._cut(depth, colour)
        if not self._shots:
            return self._keep(shot, _stood(shot))
        fit = get_operation("find_fit")
        state = ScanState((self._model(), replace(shot, title="this shot")))
        after, report = fit.run(state, fit.parameters.from_dict({"allow_unplaced": True}), silent)
        if not after.passes[1].placed:
            raise StepNotPossible(f"This shot was not placed on the others: {report['fits'][-1]['reason']}. {ADVICE}")
        pose = after.passes[1].T_object_pass
        turned, _ = difference(pose, self._poses[-1])
        if turned > LEAP_DEG:
            raise StepNotPossible(
                f"This shot would fit turned by {turned:.0f}° from the one before, which no hand did. {ADVICE}"
            )
        return self._keep(shot, pose)

    def forget_last(self) -> None:
        """Take back the shot that was placed last."""
        for kept in (self._shots, self._frames, self._poses):
            kept.pop()

    def _keep(self, shot: PassState, pose: np.ndarray) -> np.ndarray:
        self._shots.append(shot)
        self._frames.append(OneFrame(shot.source.key, shot.source.depth(0), shot.source.colour(0)))
        self._poses.append(pose)
        return pose

    def _cut(self, depth: np.ndarray, colour: np.ndarray | None) -> PassState:
        if not (depth > 0).any():
            raise StepNotPossible("Nothing was measured in this shot: look at distance, range and exposure.")
        source = OneFrame(f"shot {len(self._shots)}", depth, colour)
        one = np.ones(1, bool)
        scan = PassState("shot", source, self._camera, np.eye(4)[None], one, np.full(1, np.nan, np.float32), True)
        cut = get_operation("stand_cut")
        state, _ = cut.run(ScanState((scan,)), cut.parameters(), silent)
        return state.passes[0]

    def _model(self) -> PassState:
        """All shots that were placed, as one pass."""
        size = (self._camera.width * self._camera.height + 7) // 8
        whole = np.full((1, size), 255, np.uint8)
        keep = np.concatenate([whole if s.keep is None else s.keep for s in self._shots])
        count = len(self._shots)
        source = _Several(f"{count} shots", tuple(self._frames))
        return PassState(
            "the others", source, self._camera, np.stack(self._poses), np.ones(count, bool),
            np.full(count, np.nan, np.float32), True, keep=keep, placed=True,
        )  # fmt: skip


def _stood(shot: PassState) -> np.ndarray:
    """Camera → pass (4, 4) of the first shot: its plate level, or the camera level where there is none."""
    up = np.array([0.0, -1.0, 0.0])
    if shot.plate is not None:
        up = shot.plate[:3] if shot.plate[2] < 0 else -shot.plate[:3]
    found = upright(up, np.zeros(3))
    return np.eye(4) if found is None else found
