"""The way of a head over its places: tied one to the next, and to old ones where it comes back; drift spread over it."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.place_frame import looked_through
from lucid_relic.geometry.rigid import inverse, orthonormalised, turned_deg
from lucid_relic.tracking.live_volume import LiveVolume
from lucid_relic.tracking.loop import Tie, gap_mm, spread
from lucid_relic.tracking.model import NEAR, GrownModel, lay_onto
from lucid_relic.tracking.places import Place, Places, middle_of
from lucid_relic.tracking.quick_view import QuickFrame

HALF_EXTENT = 0.7  # of what the first frame sees, from the middle of a place's picture to its border
LOOP_PLACES = 10  # between two places that close a loop
LOOP_DEG = 14.0  # between the looks of two places that close a loop
REBUILT = 150  # places at most that the model is made anew from

Ready = Callable[[int], QuickFrame]


class Way:
    """The places of a pass and what was measured between them; ready makes an earlier frame ready by its number.

    Where something else than shape holds the frames the way is not tied by shape.
    """

    def __init__(self, model: GrownModel, ready: Ready, by_shape: bool = True) -> None:
        self.model = model
        self.places = Places(HALF_EXTENT * model.extent_mm)
        self._ready = ready
        self._by_shape = by_shape
        self._ties: list[tuple[int, int, np.ndarray]] = []
        self._righting: _Righting | None = None

    def pass_by(self, frame: QuickFrame, pose: np.ndarray, light: float) -> float:
        """Remember a frame as a place when it is a step on; returns the gap (mm) to old places that it meets."""
        if not self.places.a_step_on(pose, middle_of(frame.view)):
            return 0.0
        place = self.places.remember(frame.index, pose, frame.view, light)
        known = self.places.known
        if len(known) > 1:
            before = known[-2]
            self._ties.append((before.frame, place.frame, inverse(before.pose) @ place.pose))
        old = self._met(place) if self._by_shape else None
        return self._tied(frame, place, old) if old is not None else 0.0

    def _met(self, place: Place) -> Place | None:
        """The old place, long before this one, that looks at the object most from the same side."""
        old = self.places.known[:-LOOP_PLACES]
        if not old:
            return None
        turns = turned_deg(np.array([p.pose for p in old]), place.pose)
        nearest = int(np.argmin(turns))
        return old[nearest] if turns[nearest] < LOOP_DEG else None

    def _tied(self, frame: QuickFrame, place: Place, old: Place) -> float:
        view = self._ready(old.frame).view
        fit = lay_onto(frame.view, place.pose, old.pose, view, NEAR)
        fit = replace(fit, through=looked_through(frame.view, fit.pose, [(old.pose, view)]))
        if not self.model.fits(frame, fit):
            return 0.0
        motion = inverse(old.pose) @ fit.pose
        self._ties.append((old.frame, place.frame, motion))
        return gap_mm(old.pose, place.pose, motion, place.middle[2], self.places.half_mm)

    def begin_righting(self) -> None:
        """Spread the drift over the places; the model is made anew in `go_on_righting`, so that no frame waits for it."""
        known = self.places.known
        number = {p.frame: k for k, p in enumerate(known)}
        self._ties = [t for t in self._ties if t[0] in number and t[1] in number]
        ties = [Tie(number[a], number[b], m) for a, b, m in self._ties]
        # Of very many places some are given up: those beside them are tied as they stand.
        tied = {t.first for t in ties if t.second == t.first + 1}
        old = np.array([p.pose for p in known])
        ties += [Tie(k, k + 1, inverse(old[k]) @ old[k + 1]) for k in range(len(known) - 1) if k not in tied]
        if len(known) < 3 or len(ties) < len(known):
            return
        new = spread(old, ties, float(np.median([p.middle[2] for p in known])), self.places.half_mm)
        self._righting = _Righting(
            np.array([p.frame for p in known]), new @ inverse(old), self.model.volume.anew(), _even([p.frame for p in known])
        )  # fmt: skip

    def go_on_righting(self, poses: dict[int, np.ndarray], most: int | None = None) -> dict[int, np.ndarray] | None:
        """Take up to so many places into the model made anew; the poses of all frames when that is done, else None.

        What was passed since then moves as the newest place did.
        """
        work = self._righting
        if work is None:
            return None
        for _ in range(len(work.waiting) if most is None else min(most, len(work.waiting))):
            frame = work.waiting.pop(0)
            work.volume.add(self._ready(frame), work.moved({frame: poses[frame]})[frame])
        if work.waiting:
            return None
        after = work.moved(poses)
        self.places.move(after)
        for place in self.places.known:
            if place.frame > work.frames[-1]:
                work.volume.add(self._ready(place.frame), place.pose)
        self.model.volume, self._righting = work.volume, None
        return after

    @property
    def righting(self) -> bool:
        """Whether the model is being made anew."""
        return self._righting is not None

    def forget(self, frames: set[int]) -> None:
        """Forget some frames; the model is made anew without them."""
        self._ties = [t for t in self._ties if t[0] not in frames and t[1] not in frames]
        self.places.forget(frames)
        self.rebuild()

    def move(self, poses: dict[int, np.ndarray]) -> None:
        """Take new poses of the frames over; the model is made anew from the places."""
        self.places.move(poses)
        self.rebuild()

    def rebuild(self) -> None:
        """Make the model anew from the places."""
        poses = {p.frame: p.pose for p in self.places.known}
        self._righting = None
        self.model.volume = self.model.volume.anew()
        for frame in _even(list(poses)):
            self.model.volume.add(self._ready(frame), poses[frame])


@dataclass
class _Righting:
    """A model that is being made anew: how the frames of places move (n, 4, 4), and those that wait to be taken in."""

    frames: np.ndarray
    moves: np.ndarray
    volume: LiveVolume
    waiting: list[int]

    def moved(self, poses: dict[int, np.ndarray]) -> dict[int, np.ndarray]:
        """The poses of frames after their places have moved."""
        index = np.array(list(poses))
        place = np.maximum(np.searchsorted(self.frames, index, side="right") - 1, 0)
        after = orthonormalised(self.moves[place] @ np.array(list(poses.values())))
        return dict(zip(poses, after, strict=True))


def _even(frames: list[int]) -> list[int]:
    """At most `REBUILT` of some frames, evenly spread."""
    return [frames[k] for k in np.unique(np.linspace(0, len(frames) - 1, min(len(frames), REBUILT)).astype(int))]
