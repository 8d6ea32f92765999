"""Tracking by shape: poses for a pass whose frames come without any.

Each frame is aligned to the frames just before it and to the nearest earlier ones by the projective
point-to-plane terms that settle uses, with the fine detail of the photographs where there are any; the motion of the
last two frames predicts the start, and holds what neither shape nor light holds. A frame that is lost, or whose step
was too large, is looked for anew from its shape among all frames placed so far (as find fit does), and once more when
all others are placed.
"""

from bisect import insort
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.coarse import candidate_motions
from lucid_relic.alignment.features import descriptors, match
from lucid_relic.alignment.icp import Target, icp
from lucid_relic.alignment.motion_model import moved_about
from lucid_relic.alignment.views import LIGHT_NOISE, STRIDE, FrameView, Views
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import inverse, motion_vector, orthonormalised, small_motion
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState

REACHES = (24.0, 12.0, 6.0, 3.0)  # in pixel spacings
ROUNDS = 5
RECENT = 3
MIN_SHARE = 0.25
USUAL_SHARE, USUAL_FIT = 0.8, 3.0  # of the median share and residual so far: beyond them a frame counts as lost
FIRST_SHARE, FIRST_FIT = 0.4, 2.5  # for the first frames: of their sample, and of their noise
MIN_NORMAL_COS = 0.5
HELD = 1e-4  # the share of a wholly held motion's weight with which the prediction counts
LOOK_FRAMES = 16
LOOK_DIVISIONS = 55.0
LOOK_TRIED = 4
LOOK_POINTS = 55  # fewer have no shape to look for


@dataclass(frozen=True)
class Tracked:
    """The pass with its poses, and the frames that could not be tracked (left out)."""

    scan: PassState
    lost: list[int]


class _Track:
    """What is placed so far: poses, views, and how well frames usually fit."""

    def __init__(self, scan: PassState) -> None:
        self.scan = scan
        self.poses = scan.frame_poses.copy()
        self.views = Views(scan)
        self.done: list[int] = []
        self.shares: list[float] = []
        self.fits: list[float] = []

    def add(self, index: int, pose: np.ndarray, share: float, fit: float) -> None:
        # Rounding would grow with every frame that is predicted from the ones before.
        self.poses[index] = orthonormalised(pose)
        insort(self.done, index)
        self.shares.append(share)
        self.fits.append(fit)

    def tried(self, index: int, start: np.ndarray) -> tuple[np.ndarray, float, float]:
        """Pose, share and residual (mm) of a frame refined from a start."""
        view = self.views[index]
        near = [(self.poses[i], self.views[i]) for i in _neighbours(self.done, self.poses, index, start)]
        pose, share = place_frame(view, start, near)
        return pose, share, residual(view, pose, near, REACHES[-1])

    def fits_well(self, index: int, share: float, fit: float) -> bool:
        """Whether a frame fits about as well as those before it did, the first ones as well as their noise allows."""
        if share < MIN_SHARE:
            return False
        if len(self.shares) < RECENT:
            view = self.views[index]
            return share > FIRST_SHARE and fit < FIRST_FIT * max(view.noise_mm, 0.02 * view.spacing_mm)
        return bool(share > USUAL_SHARE * np.median(self.shares) and fit < USUAL_FIT * np.median(self.fits))

    def spread(self) -> list[int]:
        """At most `LOOK_FRAMES` of the placed frames, evenly spread."""
        return [self.done[k] for k in np.unique(np.linspace(0, len(self.done) - 1, LOOK_FRAMES).astype(int))]

    def looked_for(self, index: int) -> tuple[np.ndarray, float, float] | None:
        """Pose, share and residual of a frame found by its shape alone among the placed ones; None when it is not."""
        scan = replace(self.scan, frame_poses=self.poses)
        own = replace(scan, frame_poses=np.repeat(np.eye(4)[None], scan.frame_count, axis=0))
        fine = 2.0 * self.views[index].spacing_mm
        fixed, moving = pass_points(scan, fine, frames=self.spread()), pass_points(own, fine, frames=[index])
        if min(len(fixed), len(moving)) < LOOK_POINTS:
            return None
        voxel = max(float(np.linalg.norm(np.ptp(moving.points, axis=0))) / LOOK_DIVISIONS, 2.0 * fine)
        f, m = thin(fixed, voxel), thin(moving, voxel)
        pairs = match(descriptors(f, voxel), descriptors(m, voxel))
        target = Target(f)
        best = None
        for start in candidate_motions(f, m, pairs, voxel)[:LOOK_TRIED]:
            found = icp(target, m, start, 3 * voxel, 12, 1.2 * voxel)
            pose, share, fit = self.tried(index, found.T_fixed_moving)
            if self.fits_well(index, share, fit) and (best is None or share > best[1]):
                best = pose, share, fit
        return best


def track(scan: PassState, progress: Progress) -> Tracked:
    """Find a pose for every frame; the first frame's camera is the pass's frame."""
    frames = [int(i) for i in scan.frames_used()]
    so_far = _Track(scan)
    waiting: list[int] = []
    for k, index in enumerate(frames):
        progress(0.9 * k / len(frames), f"Tracking frame {k + 1} of {len(frames)}")
        if not so_far.done:
            so_far.add(index, np.eye(4), 1.0, so_far.views[index].noise_mm)
            continue
        found = so_far.tried(index, _predicted(so_far.poses, so_far.done, index))
        if not so_far.fits_well(index, *found[1:]):
            found = so_far.looked_for(index)
        if found is None:
            waiting.append(index)
        else:
            so_far.add(index, *found)
    lost = _placed_late(so_far, waiting, part_of(progress, 0.9, 1.0))
    if len(so_far.done) < 2 and len(frames) > 1:
        raise StepNotPossible(
            f"“{scan.title}”: tracking was lost at the second frame. The steps between frames are too "
            "large to follow by shape; give turntable angles or poses."
        )
    inside = scan.frame_in.copy()
    inside[lost] = False
    return Tracked(replace(scan, frame_poses=so_far.poses, frame_in=inside, posed=True), lost)


def find_lost(scan: PassState, lost: list[int], progress: Progress) -> Tracked:
    """Look for lost frames again among the others, whose poses have been settled since; found ones are in again."""
    so_far = _Track(scan)
    so_far.done = [int(i) for i in scan.frames_used()]
    sample = so_far.spread()
    for k, index in enumerate(sample):
        progress(0.5 * k / len(sample), "Looking for lost frames")
        _, share, fit = so_far.tried(index, scan.frame_poses[index])
        so_far.shares.append(share)
        so_far.fits.append(fit)
    still = _placed_late(so_far, lost, part_of(progress, 0.5, 1.0))
    inside = scan.frame_in.copy()
    inside[np.setdiff1d(lost, still)] = True
    return Tracked(replace(scan, frame_poses=so_far.poses, frame_in=inside), still)


def _placed_late(so_far: _Track, waiting: list[int], progress: Progress) -> list[int]:
    """Look for the frames that were lost again, as long as that places any; returns those that stay lost."""
    placed = True
    while waiting and placed:
        placed, still = False, []
        for n, index in enumerate(waiting):
            progress(n / len(waiting), f"Looking for frame {index + 1} again")
            nearest = min(so_far.done, key=lambda i: abs(i - index))
            found = so_far.tried(index, so_far.poses[nearest])
            again = found if so_far.fits_well(index, *found[1:]) else so_far.looked_for(index)
            if again is None:
                still.append(index)
            else:
                so_far.add(index, *again)
                placed = True
        waiting = still
    return waiting


def _predicted(poses: np.ndarray, done: list[int], index: int) -> np.ndarray:
    """Where the head would be had it moved on as between the last two placed frames before."""
    earlier = [i for i in done if i < index]
    if len(earlier) < 2:
        return poses[done[-1] if not earlier else earlier[-1]]
    a, b = earlier[-2], earlier[-1]
    step = motion_vector(poses[b] @ inverse(poses[a])) * ((index - b) / (b - a))
    return small_motion(step) @ poses[b]


def _neighbours(done: list[int], poses: np.ndarray, index: int, start: np.ndarray) -> list[int]:
    """The frames taken just before and after, and those that look the most alike way."""
    by_time = sorted((i for i in done if i != index), key=lambda i: abs(i - index))
    recent, others = by_time[:RECENT], by_time[RECENT:]
    if not others:
        return recent
    alike = poses[others][:, :3, 2] @ start[:3, 2]
    return recent + [others[k] for k in np.argsort(-alike, kind="stable")[:2]]


def place_frame(
    view: FrameView,
    start: np.ndarray,
    neighbours: list[tuple[np.ndarray, FrameView]],
    reaches: Sequence[float] = REACHES,
) -> tuple[np.ndarray, float]:
    """Refined pose of a frame, and the share of its sample that found a partner; reaches are in pixel spacings."""
    pose, share = start, 0.0
    gone = np.zeros(6)
    for reach in reaches:
        for _ in range(ROUNDS):
            H, g, centre, best, _, _ = _terms(view, pose, neighbours, reach)
            full = H + np.triu(H, 1).T
            share = best / max(len(view.points), 1)
            if share < 0.05:
                return pose, share
            # What nothing holds stays where the start had it.
            held = HELD * np.concatenate([np.full(3, np.trace(full[:3, :3])), np.full(3, np.trace(full[3:, 3:]))]) / 3
            step = -np.linalg.solve(full + np.diag(held), g + held * gone)
            gone += step
            pose = moved_about(step, centre) @ pose
    return pose, share


def residual(view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]], reach: float) -> float:
    """Weighted rms distance (mm) of a frame's sample to the planes of its neighbours, within `reach` pixel spacings."""
    *_, weight, squares = _terms(view, pose, neighbours, reach)
    return float(np.sqrt(squares / max(weight, 1e-12)))


def _terms(
    view: FrameView, pose: np.ndarray, neighbours: list[tuple[np.ndarray, FrameView]], reach: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, int, float, float]:
    """Normal equations about a centre, the most partners any neighbour gave, Σw and Σwr²."""
    max_dist = reach * view.spacing_mm
    points = view.points.astype(np.float64) @ pose[:3, :3].T + pose[:3, 3]
    normals = view.point_normals.astype(np.float64) @ pose[:3, :3].T
    centre = points.mean(axis=0) if len(points) else np.zeros(3)
    H, g, best, total, squares = np.zeros((6, 6)), np.zeros(6), 0, 0.0, 0.0
    light_weight = (view.noise_mm / LIGHT_NOISE) ** 2 if view.has_light else 0.0
    for other, target in neighbours:
        count, weight, square = _kernels.pair_terms(
            points, normals, view.weights, view.point_light, inverse(other), target.cam, target.rays,
            target.fitted, target.normals, target.confidence, target.light, STRIDE, max_dist,
            max_dist / 3, MIN_NORMAL_COS, centre, light_weight, H, g,
        )  # fmt: skip
        best, total, squares = max(best, count), total + weight, squares + square
    return H, g, centre, best, total, squares
