"""Tracking by shape, frame by frame: poses for frames that come without any.

A frame is aligned to the frames just before it and to those that look the most alike way by the projective
point-to-plane terms that settle uses, with the fine detail of the photographs where there are any; the motion of the
last frames predicts the start, and holds what neither shape nor light holds. Where that does not fit, a hand moved
otherwise than before: what looks alike in the same frames puts it in from farther away. Only then is it looked for
among all frames placed so far by find fit, whose verdict refuses whatever fits in more than one place: a body that
looks alike from two sides must never jump from one to the other. What any of the frames looked through is never there.
"""

from bisect import insort
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.coarse import candidate_motions
from lucid_relic.alignment.features import descriptors, match
from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Side
from lucid_relic.alignment.icp import Target, icp
from lucid_relic.alignment.place_frame import CORRESPONDENCE_DISTANCES, looked_through, place_frame, residual
from lucid_relic.alignment.views import FrameView, Views
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import difference, inverse, motion_vector, orthonormalised, small_motion
from lucid_relic.progress import silent
from lucid_relic.types import PassState, PointCloud


@dataclass(frozen=True, kw_only=True)
class TrackerSettings:
    """What a tracker is steered by, each with its unit and reason."""

    recent: int = 3  # frames just before that one is aligned to
    alike: int = 2  # further frames that look the most alike way: they close the loop
    steps: int = 4  # frames over which the motion is averaged that predicts the next: a hand trembles
    min_share: float = 0.25  # of the sample that finds a partner: less is another part of the object
    typical_share: float = 0.8  # of the median share so far: a slip shares a little less than all others do
    typical_fit: float = 3.0  # times the median residual so far: beyond it a frame counts as lost
    first_share: float = 0.5  # of the sample, for the first frames, which have no median yet
    first_fit: float = 2.5  # times the noise of the frame, for the first frames
    most_through: float = 0.006  # of what two frames both see may be looked through by either: none was in right places
    typical_through: float = 4.0  # times the median so far, where a device tears edges
    search_divisions: float = 55.0  # voxels across the frame's surface, as in find fit
    search_tries: int = 4  # candidates refined: the right one was never behind the third in the tests
    leap_deg: float = 40.0  # from the prediction: what lies further off is not near it any more
    search_frames: int = 16  # placed frames, evenly spread, among which a lost one is looked for
    search_points: int = 55  # fewer have no shape to look for


@dataclass(frozen=True)
class TrackedFrame:
    """A frame that was placed: its pose camera → pass, the share of its sample with a partner, its residual (mm).

    through is the share of what it and its neighbours both see that either looked through; found says that it was lost
    first and then found by its shape.
    """

    frame: int
    pose: np.ndarray
    share: float
    residual_mm: float
    through: float = 0.0
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
        self._missed = 0
        self._shares: list[float] = []
        self._residuals: list[float] = []
        self._through: list[float] = []

    def push(self, frame: int) -> TrackedFrame | LostFrame:
        """Place the next frame."""
        # 1. The first frame is where everything is measured from.
        if not self.placed:
            return self.keep(TrackedFrame(frame, np.eye(4), 1.0, self.views[frame].noise_mm))
        # 2. Near where the head would be had it moved on as before, or where it was.
        earlier = [i for i in self.placed if i < frame] or self.placed[:1]
        tracked = self.near(frame, [self._predicted(frame), self.poses[earlier[-1]]])
        # 3. If it is not there, look for it among all that is placed; less and less often while nothing is found.
        if isinstance(tracked, LostFrame):
            self._missed += 1
            if self._missed & (self._missed - 1) == 0:
                tracked = self.searched(frame) or tracked
        return tracked if isinstance(tracked, LostFrame) else self.keep(tracked)

    def push_late(self, frame: int) -> TrackedFrame | LostFrame:
        """Try a lost frame again from the placed frames next to it."""
        sides = [
            max((i for i in self.placed if i < frame), default=None),
            min((i for i in self.placed if i > frame), default=None),
        ]
        tracked = self.near(frame, [self.poses[i] for i in sides if i is not None])
        return tracked if isinstance(tracked, LostFrame) else self.keep(tracked)

    def near(self, frame: int, starts: list[np.ndarray]) -> TrackedFrame | LostFrame:
        """A frame looked for near some starts: as they stand, then by what looks alike in the frames around the first."""
        tried = []
        for start in starts:
            tried.append(self.refined(frame, start))
            if self._fits(tried[-1]):
                return tried[-1]
        for start in self._alike(frame, starts[0]):
            tried.append(self.refined(frame, start))
        fitting = [t for t in tried if self._fits(t) and difference(t.pose, starts[0])[0] < self.settings.leap_deg]
        if not fitting:
            return LostFrame(frame, self._why(max(tried, key=lambda t: t.share)))
        return min(fitting, key=lambda t: difference(t.pose, starts[0])[0])

    def keep(self, tracked: TrackedFrame) -> TrackedFrame:
        """Take a placed frame into what later ones are aligned to."""
        # Rounding would grow with every frame that is predicted from the ones before.
        self.adopt(tracked.frame, orthonormalised(tracked.pose))
        self._missed = 0
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
        self._through.append(tracked.through)

    def refined(self, frame: int, start: np.ndarray) -> TrackedFrame:
        """A frame refined from a start."""
        view = self.views[frame]
        near = self._neighbours(frame, start)
        pose, share = place_frame(view, start, near)
        fit = residual(view, pose, near, CORRESPONDENCE_DISTANCES[-1])
        return TrackedFrame(frame, pose, share, fit, looked_through(view, pose, near))

    def spread(self) -> list[int]:
        """Some of the placed frames, evenly spread."""
        even = np.linspace(0, len(self.placed) - 1, self.settings.search_frames)
        return [self.placed[k] for k in np.unique(even.astype(int))]

    def searched(self, frame: int) -> TrackedFrame | None:
        """A frame found by its shape alone among the placed ones; None when it is not, or not in one place only."""
        inside = np.zeros(self.scan.frame_count, bool)
        inside[self.spread()] = True
        poses = np.repeat(np.eye(4)[None], self.scan.frame_count, axis=0)
        for index, pose in self.poses.items():
            poses[index] = pose
        own = np.zeros(self.scan.frame_count, bool)
        own[frame] = True
        fixed = replace(self.scan, frame_poses=poses, frame_in=inside)
        moving = replace(self.scan, frame_poses=np.repeat(np.eye(4)[None], len(poses), axis=0), frame_in=own)
        cloud = self._surface([(self.poses[i], self.views[i]) for i in self.spread()])
        sides = Side(cloud, fixed), Side(self.views[frame].cloud(), moving)
        if min(len(side.cloud) for side in sides) < self.settings.search_points:
            return None
        fit = find_fit(sides[0], sides[1], silent)
        if not fit.accepted:
            return None
        tracked = self.refined(frame, fit.T_fixed_moving)
        return replace(tracked, found=True) if self._fits(tracked) else None

    def _alike(self, frame: int, start: np.ndarray) -> list[np.ndarray]:
        """Poses at which much of a frame looks like the frames around a start, best first, roughly refined."""
        settings = self.settings
        fixed, moving = self._surface(self._neighbours(frame, start)), self.views[frame].cloud()
        if min(len(fixed), len(moving)) < settings.search_points:
            return []
        voxel = max(extent_mm(moving) / settings.search_divisions, 4.0 * self.views[frame].spacing_mm)
        f, m = thin(fixed, voxel), thin(moving, voxel)
        pairs = match(descriptors(f, voxel), descriptors(m, voxel))
        target = Target(f)
        return [
            icp(target, m, motion, 3 * voxel, 12, 1.2 * voxel).T_fixed_moving
            for motion in candidate_motions(f, m, pairs, voxel)[: settings.search_tries]
        ]

    def _surface(self, frames: list[tuple[np.ndarray, FrameView]]) -> PointCloud:
        """What some frames saw together, one point per two pixels."""
        clouds = [view.cloud().transformed(pose) for pose, view in frames]
        both = PointCloud(np.concatenate([c.points for c in clouds]), np.concatenate([c.normals for c in clouds]))
        return thin(both, 2.0 * frames[0][1].spacing_mm)

    def _predicted(self, frame: int) -> np.ndarray:
        """Where the head would be had it moved on as over the last few placed frames before."""
        earlier = [i for i in self.placed if i < frame]
        if len(earlier) < 2:
            return self.poses[self.placed[0] if not earlier else earlier[-1]]
        a, b = earlier[-min(self.settings.steps + 1, len(earlier))], earlier[-1]
        step = motion_vector(self.poses[b] @ inverse(self.poses[a])) * ((frame - b) / (b - a))
        return small_motion(step) @ self.poses[b]

    def _neighbours(self, frame: int, start: np.ndarray) -> list[tuple[np.ndarray, FrameView]]:
        """The frames taken just before and after, and those that look the most alike way: their poses and views."""
        by_time = sorted((i for i in self.placed if i != frame), key=lambda i: abs(i - frame))
        chosen, others = by_time[: self.settings.recent], by_time[self.settings.recent :]
        if others:
            alike = np.stack([self.poses[i][:3, 2] for i in others]) @ start[:3, 2]
            chosen += [others[k] for k in np.argsort(-alike, kind="stable")[: self.settings.alike]]
        return [(self.poses[i], self.views[i]) for i in chosen]

    def _fits(self, tracked: TrackedFrame) -> bool:
        """Whether a frame fits about as well as those before it did, the first ones as well as their noise allows."""
        settings = self.settings
        if tracked.share < settings.min_share or tracked.through > self._through_allowed():
            return False
        if len(self._shares) < settings.recent:
            view = self.views[tracked.frame]
            noise = max(view.noise_mm, 0.02 * view.spacing_mm)
            return tracked.share > settings.first_share and tracked.residual_mm < settings.first_fit * noise
        enough = tracked.share > settings.typical_share * np.median(self._shares)
        return bool(enough and tracked.residual_mm < settings.typical_fit * np.median(self._residuals))

    def _through_allowed(self) -> float:
        usual = self.settings.typical_through * float(np.median(self._through)) if self._through else 0.0
        return max(self.settings.most_through, usual)

    def _why(self, tracked: TrackedFrame) -> str:
        """Why a frame counts as lost, from the best that could be made of it."""
        if tracked.share < self.settings.min_share:
            return f"only {tracked.share:.0%} of what it sees is known already"
        if tracked.through > self._through_allowed():
            return f"the frames beside it look through {tracked.through:.0%} of what it sees"
        return f"it fits to {tracked.residual_mm:.2f} mm only, worse than the frames before it"
