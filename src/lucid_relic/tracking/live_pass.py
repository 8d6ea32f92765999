"""A hand-held pass followed live: every frame is laid onto the model that the frames before it made, and fused into it.

Frame to model by projective point-to-plane terms with the fine light of the photographs, from where the head would be
had it moved on (cf. Newcombe et al. 2011, doi:10.1109/ISMAR.2011.6092378). A frame that does not fit as the others did
is lost: then it is looked for among all places that were captured, and counts as found only where it fits in one place
alone. What the colours contradict has slipped: it is never fused. When a turn comes back to where it was, the drift is
spread over the way. A pass that is held by markers is placed by these alone, whatever its shape is like.
"""

from bisect import bisect, insort
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from lucid_relic.geometry.rigid import inverse, motion_vector, orthonormalised, small_motion
from lucid_relic.markers.constellation import WANTED, Constellation, Held
from lucid_relic.markers.in_space import SpaceDots, dots_in_space
from lucid_relic.tracking import verdict
from lucid_relic.tracking.finding import Search, caught, search
from lucid_relic.tracking.model import NEAR, GrownModel, Limits
from lucid_relic.tracking.places import Place, middle_of
from lucid_relic.tracking.quick_view import QuickFrame, grip_of, quick_frame
from lucid_relic.tracking.verdict import Fit, Followed
from lucid_relic.tracking.way import Way
from lucid_relic.types import Camera

Recall = Callable[[int], tuple[np.ndarray, np.ndarray | None]]
FEWEST = 120  # points of a sample: fewer have no shape to follow
STEPS = 3  # frames over which the motion is averaged that predicts the next: a hand trembles
PROOF = 2  # frames that must follow a found one before anything is fused
DOUBTS = 2  # frames in a row that the light contradicts: one slipped
LOOP_GAP_SPACINGS = 0.5  # drift from which on the way is set right at once
RIGHTED_AT_ONCE = 3  # places taken into the model made anew with every frame: some 30 ms
DARK_BYTE = 8.0  # mean of a photograph that shows nothing
NORMAL_NOISE_SPACINGS = 4.0  # over which a normal's window averages the noise
LEFT_EXTENTS = 1.5  # half widths of the object beside it, where the head looks past it


class LivePass:
    """Follows the frames of one pass; the first frame's camera is the pass's frame.

    recall gives depth (h, w) and photograph of an earlier frame by its number. Frames may be passed over and brought
    `late`. poses holds camera → pass of all frames that are placed, slips the first and last frame of every slip,
    drift_mm the largest gap at which the way met itself, newest the frame that was pushed last, dots the map of markers
    of a pass that is held by them, newest_dots those that the newest frame sees.
    """

    def __init__(self, camera: Camera, recall: Recall, limits: Limits | None = None, by_markers: bool = False) -> None:
        self.camera = camera
        self.poses: dict[int, np.ndarray] = {}
        self.slips: list[tuple[int, int]] = []
        self.drift_mm = 0.0
        self.newest: QuickFrame | None = None
        self.dots = Constellation() if by_markers else None
        self.newest_dots = SpaceDots.none()
        self._recall = recall
        self._limits = limits or Limits()
        self._way: Way | None = None
        self._order: list[int] = []
        self._lost = False
        self._reason = ""
        self._doubtful: list[int] = []
        self._unproven: list[int] = []

    @property
    def model(self) -> GrownModel | None:
        """What has grown so far; None before the first frame."""
        return self._way.model if self._way is not None else None

    @property
    def places(self) -> list[Place]:
        """The frames that stand a step apart, in the order they were passed."""
        return self._way.places.known if self._way is not None else []

    def push(self, index: int, depth: np.ndarray, image: np.ndarray | None) -> Followed:
        """Follow the next frame: depth (h, w) float32 mm, image (h, w, 3) uint8 sRGB or None."""
        self.newest = frame = quick_frame(index, depth, image, self.camera)
        self.newest_dots = SpaceDots.none()
        # 1. What sees nothing cannot be followed.
        if len(frame.view.points) < FEWEST:
            return self._lose(frame, _why_empty(frame))
        if self.dots is not None:
            self.newest_dots = self._dots_of(image, depth)
            return self._by_dots(frame, self.newest_dots, self.dots)
        # 2. The first frame is where everything is measured from.
        if self._way is None or not self._order:
            return self._begin(frame)
        # 3. Where the head would be had it moved on, or where it was; when it was lost, where it may be.
        if self._lost:
            looked = search(frame, self._way.model, self._way.places, self.poses[self._order[-1]])
        else:
            looked = self._near(frame, self._way)
        if looked.fit is None:
            return self._lose(frame, looked.reason)
        # 4. What fits by its shape alone may have slipped along it.
        fit = caught(frame, looked.fit, self._way.model)
        if self._way.model.contradicted(fit, bool(self._doubtful)):
            return self._doubt(frame, fit)
        kept = self._keep(frame, fit, self._way)
        return kept if fit is looked.fit else replace(kept, caught=True)

    def late(self, index: int, depth: np.ndarray, image: np.ndarray | None) -> Followed:
        """Place a frame that was passed over, from those before and after it."""
        frame = quick_frame(index, depth, image, self.camera)
        if self._way is None or len(frame.view.points) < FEWEST:
            return Followed(index, verdict.LOST, verdict.DARK)
        at = bisect(self._order, index)
        near = self._order[max(at - 1, 0) : at + 1]
        if self.dots is not None:
            dots = self._dots_of(image, depth)
            held = self.dots.held(dots, [self.poses[i] for i in near])
            if held is None:
                return Followed(index, verdict.LOST, verdict.FEW_DOTS)
            self._take(frame, held.pose)
            self.dots.learn(index, dots, held)
            self._way.model.volume.add(frame, self.poses[index])
            return Followed(index, verdict.HELD, pose=self.poses[index], dots=held.count)
        for beside in near:
            fit = self._way.model.laid(frame, self.poses[beside])
            if self._way.model.fits(frame, fit) and not self._way.model.contradicted(fit):
                self._take(frame, fit.pose)
                self._way.model.volume.add(frame, self.poses[index])
                return Followed(index, verdict.HELD, pose=self.poses[index], fit=fit)
        return Followed(index, verdict.LOST, verdict.TOO_FAST)

    def step_back(self, frame: int) -> None:
        """Forget what came after a frame: the model is as it was then; the pass goes on from any of its places."""
        self.drop(frame + 1, max([frame, *self.poses]))
        self._lost, self._reason = bool(self._order), verdict.LEFT

    def drop(self, first: int, last: int) -> None:
        """Forget the frames first … last."""
        gone = {i for i in self.poses if first <= i <= last}
        self.poses = {i: pose for i, pose in self.poses.items() if i not in gone}
        self._order = [i for i in self._order if i not in gone]
        self.slips = [s for s in self.slips if s[1] < first or s[0] > last]
        self._doubtful, self._unproven = [], []
        if self.dots is not None:
            self.dots.forget(gone, self.poses)
        if self._way is not None and gone:
            self._way.forget(gone)

    def finish(self) -> None:
        """Spread what is left of the drift over the whole way; markers and frames are made to agree."""
        if self.dots is not None and self._way is not None:
            self.poses |= {i: orthonormalised(pose) for i, pose in self.dots.settle(self.poses).items()}
            self._way.move(self.poses)
        elif self._way is not None:
            if not self._way.righting:
                self._way.begin_righting()
            self.poses = self._way.go_on_righting(self.poses) or self.poses

    def _begin(self, frame: QuickFrame) -> Followed:
        self._way = Way(GrownModel(frame, self._limits), self._ready, by_shape=self.dots is None)
        self._lost = False
        self._take(frame, np.eye(4))
        self._way.model.begin(frame, np.eye(4))
        self._way.pass_by(frame, np.eye(4), np.nan)
        return Followed(frame.index, verdict.HELD, pose=np.eye(4), fit=Fit(np.eye(4), 1.0, frame.view.noise_mm))

    def _ready(self, index: int) -> QuickFrame:
        """A frame made ready once more; the newest, which is not kept anywhere yet, is at hand."""
        if self.newest is not None and self.newest.index == index:
            return self.newest
        return quick_frame(index, *self._recall(index), self.camera)

    def _dots_of(self, image: np.ndarray | None, depth: np.ndarray) -> SpaceDots:
        if image is None:
            return SpaceDots.none()
        return dots_in_space(image, depth, self.camera)

    def _by_dots(self, frame: QuickFrame, seen: SpaceDots, known: Constellation) -> Followed:
        """Place a frame by the markers it sees: near where it is expected, or anywhere when it was lost."""
        if self._way is None or not self._order:
            if not seen.firm:
                return self._lose(frame, verdict.FEW_DOTS)
            begun = self._begin(frame)
            held = known.learn(frame.index, seen, Held.new(len(seen)))
            return replace(begun, dots=held.count)
        before = self.poses[self._order[-1]]
        held_now = known.held(seen, [] if self._lost else [self._predicted(frame.index), before])
        if held_now is None:
            return self._lose(frame, verdict.FEW_DOTS)
        kept = self._keep(frame, Fit(held_now.pose, np.nan, held_now.rms_mm), self._way)
        known.learn(frame.index, seen, held_now)
        few = held_now.count < WANTED
        return replace(
            kept,
            dots=held_now.count,
            state=verdict.WEAK if few else verdict.HELD,
            reason=verdict.FEW_DOTS if few else "",
        )

    def _near(self, frame: QuickFrame, way: Way) -> Search:
        """A frame where the head would be had it moved on, else where it was; why not, when it is at neither."""
        tried = []
        for start in (self._predicted(frame.index), self.poses[self._order[-1]]):
            fit = way.model.laid(frame, start)
            if way.model.fits(frame, fit):
                return Search(fit)
            tried.append(fit)
        return Search(None, self._why(frame, max(tried, key=lambda t: t.share), way))

    def _predicted(self, index: int) -> np.ndarray:
        """Where the head would be had it moved on as over the last few placed frames."""
        order = self._order[-STEPS - 1 :]
        a, b = order[0], order[-1]
        if len(order) < 2 or b - a > 3 * STEPS:
            return self.poses[b]
        step = motion_vector(inverse(self.poses[a]) @ self.poses[b]) * ((index - b) / (b - a))
        return self.poses[b] @ small_motion(step)

    def _keep(self, frame: QuickFrame, fit: Fit, way: Way) -> Followed:
        """Take a frame that fits; what was found is fused only after it was followed for a while."""
        found, self._lost, self._doubtful = self._lost, False, []
        if found or self._unproven:
            self._unproven.append(frame.index)
        speed = self._speed(frame, fit.pose, way)
        self._take(frame, fit.pose)
        if len(self._unproven) > PROOF:
            self._unproven = []
        if not self._unproven:
            way.model.usual.learn(fit)
            self._fuse(frame, way, fit.light)
        weak = (
            self.dots is None
            and not way.model.tells_by_light
            and bool(grip_of(frame.view, NORMAL_NOISE_SPACINGS).slips)
        )
        state, reason = (verdict.WEAK, verdict.NO_GRIP) if weak else (verdict.HELD, "")
        return Followed(frame.index, state, reason, self.poses[frame.index], fit, found, speed=speed)

    def _speed(self, frame: QuickFrame, pose: np.ndarray, way: Way) -> float:
        before = self._order[-1]
        moved, middle = inverse(self.poses[before]) @ pose, middle_of(frame.view)
        shift = np.linalg.norm(moved[:3, :3] @ middle + moved[:3, 3] - middle)
        turn = np.linalg.norm(motion_vector(moved)[:3]) * way.places.half_mm
        return float((shift + turn) / max(frame.index - before, 1) / (NEAR[0] * frame.view.spacing_mm))

    def _take(self, frame: QuickFrame, pose: np.ndarray) -> None:
        # Rounding would grow with every frame that is predicted from the ones before.
        self.poses[frame.index] = orthonormalised(pose)
        insort(self._order, frame.index)

    def _fuse(self, frame: QuickFrame, way: Way, light: float) -> None:
        """Fuse a placed frame; where the way meets itself with a gap, it is set right over the next frames."""
        way.model.volume.add(frame, self.poses[frame.index])
        gap = way.pass_by(frame, self.poses[frame.index], light)
        self.drift_mm = max(self.drift_mm, gap)
        if gap > LOOP_GAP_SPACINGS * frame.view.spacing_mm and not way.righting:
            way.begin_righting()
        self.poses = way.go_on_righting(self.poses, RIGHTED_AT_ONCE) or self.poses

    def _doubt(self, frame: QuickFrame, fit: Fit) -> Followed:
        """A frame that fits by its shape where the light contradicts: not fused, and a slip when it stays so."""
        self._doubtful.append(frame.index)
        if not self._lost and len(self._doubtful) < DOUBTS:
            return Followed(frame.index, verdict.LOST, verdict.SLIPPED, fit=fit)
        if not self._lost:
            self.slips.append((self._doubtful[0], frame.index))
        return self._lose(frame, verdict.SLIPPED)

    def _lose(self, frame: QuickFrame, reason: str) -> Followed:
        self._lost = self._way is not None
        self._reason = reason or self._reason
        # What was found and lost again at once was no find.
        for index in self._unproven:
            del self.poses[index]
            self._order.remove(index)
        if self.dots is not None and self._unproven:
            self.dots.forget(self._unproven, self.poses)
        self._unproven = []
        return Followed(frame.index, verdict.LOST, self._reason)

    def _why(self, frame: QuickFrame, best: Fit, way: Way) -> str:
        """Why a frame that sees something is lost."""
        before, middle, place = self.poses[self._order[-1]], middle_of(frame.view), way.places.known[-1]
        there, here = before[:3, :3] @ middle + before[:3, 3], place.pose[:3, :3] @ place.middle + place.pose[:3, 3]
        if np.linalg.norm(there - here) > LEFT_EXTENTS * way.places.half_mm:
            return verdict.LEFT
        return verdict.SLIPPED if way.model.shape_fits(best) else verdict.TOO_FAST


def _why_empty(frame: QuickFrame) -> str:
    dark = frame.image is None or float(frame.image[::8, ::8].mean()) < DARK_BYTE
    return verdict.DARK if dark else verdict.OUT_OF_SLOT
