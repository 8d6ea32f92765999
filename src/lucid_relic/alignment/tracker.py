"""Tracking by shape, frame by frame: poses for frames that come without any.

A frame is aligned to the frames just before it and to the nearest earlier ones by the projective
point-to-plane terms that settle uses, with the fine detail of the photographs where there are any; the motion of the
last two frames predicts the start, and holds what neither shape nor light holds. A frame that is lost, or whose step
was too large, is looked for anew from its shape among all frames placed so far, as find fit does.
"""

from bisect import insort
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.coarse import candidate_motions
from lucid_relic.alignment.features import descriptors, match
from lucid_relic.alignment.icp import Target, icp
from lucid_relic.alignment.place_frame import CORRESPONDENCE_DISTANCES, place_frame, residual
from lucid_relic.alignment.views import Views
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import inverse, motion_vector, orthonormalised, small_motion
from lucid_relic.types import PassState


@dataclass(frozen=True, kw_only=True)
class TrackerSettings:
    """What a tracker is steered by, each with its unit and reason."""

    recent: int = 3  # frames just before that one is aligned to
    alike: int = 2  # further frames that look the most alike way: they close the loop
    min_share: float = 0.25  # of the sample that finds a partner: less is another part of the object
    typical_share: float = 0.8  # of the median share so far: a slip shares a little less than all others do
    typical_fit: float = 3.0  # times the median residual so far: beyond it a frame counts as lost
    first_share: float = 0.4  # of the sample, for the first frames, which have no median yet
    first_fit: float = 2.5  # times the noise of the frame, for the first frames
    search_frames: int = 16  # placed frames, evenly spread, among which a lost one is looked for
    search_divisions: float = 55.0  # voxels across the frame's surface, as in find fit
    search_tries: int = 4  # candidates refined: the right one was never behind the third in the tests
    search_points: int = 55  # fewer have no shape to look for


@dataclass(frozen=True)
class TrackedFrame:
    """A frame that was placed: its pose camera → pass, the share of its sample with a partner, its residual (mm).

    found says that it was lost first and then found by its shape.
    """

    frame: int
    pose: np.ndarray
    share: float
    residual_mm: float
    found: bool = False


@dataclass(frozen=True)
class LostFrame:
    """A frame that could not be placed; it carries no pose."""

    frame: int
    reason: str


class Tracker:
    """Places frames one after the other; the first frame's camera is the pass's frame.

    Frames are named by their index; the pass's source must be able to read a frame when it is pushed, not before.
    """

    def __init__(self, scan: PassState, settings: TrackerSettings | None = None) -> None:
        self.scan = scan
        self.settings = settings or TrackerSettings()
        self.views = Views(scan)
        self.poses: dict[int, np.ndarray] = {}
        self.placed: list[int] = []
        self._shares: list[float] = []
        self._residuals: list[float] = []

    def push(self, frame: int) -> TrackedFrame | LostFrame:
        """Place the next frame."""
        # 1. The first frame is where everything is measured from.
        if not self.placed:
            return self.keep(TrackedFrame(frame, np.eye(4), 1.0, self.views[frame].noise_mm))
        # 2. Where the head would be had it moved on as before.
        start = self._predicted(frame)
        # 3. Refine that by shape and light, against the frames next to it.
        tracked = self.refined(frame, start)
        # 4. Does it fit as frames here usually do?
        if self._fits(tracked):
            return self.keep(tracked)
        # 5. If not, look for it by its shape alone among all that is placed.
        found = self.searched(frame)
        return self.keep(found) if found is not None else LostFrame(frame, self._why(tracked))

    def push_late(self, frame: int) -> TrackedFrame | LostFrame:
        """Try a lost frame again, from the placed frame nearest in time, then by its shape."""
        nearest = min(self.placed, key=lambda i: abs(i - frame))
        tracked = self.refined(frame, self.poses[nearest])
        if self._fits(tracked):
            return self.keep(tracked)
        found = self.searched(frame)
        return self.keep(found) if found is not None else LostFrame(frame, self._why(tracked))

    def keep(self, tracked: TrackedFrame) -> TrackedFrame:
        """Take a placed frame into what later ones are aligned to."""
        # Rounding would grow with every frame that is predicted from the ones before.
        self.adopt(tracked.frame, orthonormalised(tracked.pose))
        self.learn(tracked)
        return tracked

    def adopt(self, frame: int, pose: np.ndarray) -> None:
        """Take a frame whose pose is known already."""
        self.poses[frame] = pose
        insort(self.placed, frame)

    def learn(self, tracked: TrackedFrame) -> None:
        """Count a frame among those that say how well frames usually fit."""
        self._shares.append(tracked.share)
        self._residuals.append(tracked.residual_mm)

    def refined(self, frame: int, start: np.ndarray) -> TrackedFrame:
        """A frame refined from a start."""
        view = self.views[frame]
        near = [(self.poses[i], self.views[i]) for i in self._neighbours(frame, start)]
        pose, share = place_frame(view, start, near)
        return TrackedFrame(frame, pose, share, residual(view, pose, near, CORRESPONDENCE_DISTANCES[-1]))

    def spread(self) -> list[int]:
        """Some of the placed frames, evenly spread."""
        even = np.linspace(0, len(self.placed) - 1, self.settings.search_frames)
        return [self.placed[k] for k in np.unique(even.astype(int))]

    def searched(self, frame: int) -> TrackedFrame | None:
        """A frame found by its shape alone among the placed ones; None when it is not."""
        settings = self.settings
        poses = np.repeat(np.eye(4)[None], max([frame, *self.placed]) + 1, axis=0)
        own = replace(self.scan, frame_poses=poses.copy())
        for index, pose in self.poses.items():
            poses[index] = pose
        scan = replace(self.scan, frame_poses=poses)
        fine = 2.0 * self.views[frame].spacing_mm
        fixed, moving = pass_points(scan, fine, frames=self.spread()), pass_points(own, fine, frames=[frame])
        if min(len(fixed), len(moving)) < settings.search_points:
            return None
        size = float(np.linalg.norm(np.ptp(moving.points, axis=0)))
        voxel = max(size / settings.search_divisions, 2.0 * fine)
        f, m = thin(fixed, voxel), thin(moving, voxel)
        pairs = match(descriptors(f, voxel), descriptors(m, voxel))
        target = Target(f)
        best: TrackedFrame | None = None
        for start in candidate_motions(f, m, pairs, voxel)[: settings.search_tries]:
            coarse = icp(target, m, start, 3 * voxel, 12, 1.2 * voxel)
            tracked = self.refined(frame, coarse.T_fixed_moving)
            if self._fits(tracked) and (best is None or tracked.share > best.share):
                best = tracked
        return None if best is None else replace(best, found=True)

    def _predicted(self, frame: int) -> np.ndarray:
        """Where the head would be had it moved on as between the last two placed frames before."""
        earlier = [i for i in self.placed if i < frame]
        if len(earlier) < 2:
            return self.poses[self.placed[-1] if not earlier else earlier[-1]]
        a, b = earlier[-2], earlier[-1]
        step = motion_vector(self.poses[b] @ inverse(self.poses[a])) * ((frame - b) / (b - a))
        return small_motion(step) @ self.poses[b]

    def _neighbours(self, frame: int, start: np.ndarray) -> list[int]:
        """The frames taken just before and after, and those that look the most alike way."""
        by_time = sorted((i for i in self.placed if i != frame), key=lambda i: abs(i - frame))
        recent, others = by_time[: self.settings.recent], by_time[self.settings.recent :]
        if not others:
            return recent
        alike = np.stack([self.poses[i][:3, 2] for i in others]) @ start[:3, 2]
        return recent + [others[k] for k in np.argsort(-alike, kind="stable")[: self.settings.alike]]

    def _fits(self, tracked: TrackedFrame) -> bool:
        """Whether a frame fits about as well as those before it did, the first ones as well as their noise allows."""
        settings = self.settings
        if tracked.share < settings.min_share:
            return False
        if len(self._shares) < settings.recent:
            view = self.views[tracked.frame]
            noise = max(view.noise_mm, 0.02 * view.spacing_mm)
            return tracked.share > settings.first_share and tracked.residual_mm < settings.first_fit * noise
        enough = tracked.share > settings.typical_share * np.median(self._shares)
        return bool(enough and tracked.residual_mm < settings.typical_fit * np.median(self._residuals))

    def _why(self, tracked: TrackedFrame) -> str:
        """Why a frame counts as lost, from the best that could be made of it."""
        if tracked.share < self.settings.min_share:
            return f"only {tracked.share:.0%} of what it sees is known already"
        return f"it fits to {tracked.residual_mm:.2f} mm only, worse than the frames before it"
