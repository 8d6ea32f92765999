"""All frames of some passes together: which of them share surface, and the normal equations of their places.

Point-to-plane residuals (Chen & Medioni 1992) with correspondences by projection into neighbouring frames.
"""

from dataclasses import dataclass
from functools import partial

import numpy as np
from scipy.sparse import csr_matrix

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.borders import Pull, border_terms, border_weight
from lucid_relic.alignment.keyframes import keyframes
from lucid_relic.alignment.marker_ties import MarkerTies
from lucid_relic.alignment.motion_model import PassMotion
from lucid_relic.alignment.views import LIGHT_NOISE, STRIDE, FrameView, frame_view
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.progress import Progress
from lucid_relic.threads import side_by_side
from lucid_relic.types import PassState

MIN_NORMAL_COS = 0.6  # partners face within 53°, as in icp
MAX_VIEW_ANGLE_COS = np.cos(np.radians(80.0))  # frames that look more than 80° apart share next to nothing
NEIGHBOURS_OWN = 10  # frames of the same pass that each is held to: more add the same again
NEIGHBOURS_OTHER = 8  # frames of other passes that each is held to
SOME_POINTS = 30  # of a frame that tell how far it moved
EFFECTIVE_PER_FRAME = 100.0  # independent measurements that a frame counts for: its neighbouring points err together


class JointFrames:
    """All frames of all passes, flattened, with their views."""

    def __init__(
        self, passes: tuple[PassState, ...], cleaned: bool, progress: Progress, coloured: bool = False,
        views: list[FrameView] | None = None,
    ) -> None:  # fmt: skip
        self.passes = passes
        self.read = partial(frame_view, cleaned=cleaned, coloured=coloured)
        self.frames = [keyframes(p) for p in passes]
        self.owner = [n for n, frames in enumerate(self.frames) for _ in frames]
        self.views = views if views is not None else read_views(passes, progress, cleaned, coloured)
        if not self.views or not any(len(v.points) for v in self.views):
            raise StepNotPossible("No frame has any surface left, so there is nothing to settle.")
        self.centre = self._middle()
        self.motions = [
            PassMotion(p, self.frames[n], anchored=n == 0, centre=self.centre) for n, p in enumerate(passes)
        ]
        self.spacing = float(np.median([v.spacing_mm for v in self.views if v.spacing_mm > 0]))
        self.noise = float(np.median([v.noise_mm for v in self.views]))
        # mm² per squared unit of light: how much a difference of light weighs against one of shape.
        self.ties = MarkerTies(passes, self.frames)
        # How much a border weighs against a point of the shape.
        self.border_weight = border_weight(self.noise, self.spacing)
        self.light_weight = (max(self.noise, 0.02 * self.spacing) / LIGHT_NOISE) ** 2 if coloured else 0.0

    def _middle(self) -> np.ndarray:
        middles = []
        k = 0
        for scan, frames in zip(self.passes, self.frames, strict=True):
            for index in frames:
                if len(self.views[k].points):
                    seen = transform_points(scan.T_object_camera(int(index)), self.views[k].points)
                    middles.append(seen.mean(axis=0))
                k += 1
        return np.mean(middles, axis=0)

    def poses(self) -> np.ndarray:
        return np.concatenate([m.poses() for m in self.motions])

    def farthest_move(self, since: np.ndarray) -> float:
        """How far (mm) any point of any frame lies from where poses (n, 4, 4) had it, told by some points of each."""
        change = self.poses() - since
        some = [
            np.linalg.norm(view.points[:: len(view.points) // SOME_POINTS + 1] @ T[:3, :3].T + T[:3, 3], axis=1)
            for view, T in zip(self.views, change, strict=True)
        ]
        return float(max(away.max(initial=0.0) for away in some))

    def find_axes(self) -> None:
        for motion in self.motions:
            motion.find_axis()

    def find_breaks(self) -> None:
        for motion in self.motions:
            motion.find_breaks()


def read_views(
    passes: tuple[PassState, ...], progress: Progress, cleaned: bool = True, coloured: bool = False
) -> list[FrameView]:
    """What settle needs to know of the keyframes of some passes, pass after pass."""
    wanted = [(scan, int(index)) for scan in passes for index in keyframes(scan)]
    views: list[FrameView] = []
    for scan, index in wanted:
        progress(len(views) / len(wanted), "Reading frames")
        views.append(frame_view(scan, index, cleaned, coloured))
    return views


def neighbour_pairs(problem: JointFrames, max_dist: float) -> list[tuple[int, int]]:
    """For every frame the neighbours that share most surface with it, as (points of, map of)."""
    poses = problem.poses()
    back = inverse(poses)
    forward = poses[:, :3, 2]
    facing = forward @ forward.T > MAX_VIEW_ANGLE_COS
    owner = np.array(problem.owner)
    pairs = []
    for i, view in enumerate(problem.views):
        if not len(view.points):
            continue
        shared = np.zeros(len(owner))
        sample = placed(view, poses[i], every=6)
        others = [int(j) for j in np.flatnonzero(facing[i]) if j != i]
        shared[others] = side_by_side(partial(_partners, problem, sample, back, max_dist), others)
        enough = shared > 0.05 * len(sample[0])
        for own, limit in ((True, NEIGHBOURS_OWN), (False, NEIGHBOURS_OTHER)):
            group = np.flatnonzero(enough & ((owner == owner[i]) == own))
            best = group[np.argsort(-shared[group], kind="stable")[:limit]]
            pairs += [(i, int(j)) for j in best]
    return pairs


def _partners(problem: JointFrames, sample: tuple[np.ndarray, ...], back: np.ndarray, max_dist: float, j: int) -> int:
    """How many points of a sample frame j has partners for."""
    return terms(problem, sample, back[j], j, max_dist, max_dist)[2]


def placed(view: FrameView, pose: np.ndarray, every: int = 1) -> tuple[np.ndarray, ...]:
    points = view.points[::every].astype(np.float64) @ pose[:3, :3].T + pose[:3, 3]
    normals = view.point_normals[::every].astype(np.float64) @ pose[:3, :3].T
    return points, normals, view.weights[::every], view.point_light[::every]


def terms(
    problem: JointFrames, sample: tuple[np.ndarray, ...], T_camera_object: np.ndarray, j: int,
    max_dist: float, scale: float,
) -> tuple[np.ndarray, np.ndarray, int, float, float]:  # fmt: skip
    view = problem.views[j]
    hessian, gradient = np.zeros((6, 6)), np.zeros(6)
    count, weight, squares = _kernels.pair_terms(
        *sample, T_camera_object, view.cam, view.rays, view.fitted, view.normals, view.confidence, view.light,
        STRIDE, max_dist, scale, MIN_NORMAL_COS, problem.centre, problem.light_weight, hessian, gradient,
    )  # fmt: skip
    return hessian, gradient, count, weight, squares


@dataclass(frozen=True)
class Equations:
    """The normal equations (6n, 6n) and (6n,) of a motion of each of n frames; squares and weights (n,) of the residuals."""

    hessian: csr_matrix
    gradient: np.ndarray
    squares: np.ndarray
    weights: np.ndarray


def equations(
    problem: JointFrames, poses: np.ndarray, pairs: list[tuple[int, int]], max_dist: float, scale: float
) -> Equations:
    """How frames that lie at poses (n, 4, 4) pull at each other; scale (mm) is that of the kernel that lets go."""
    back = inverse(poses)
    n = len(poses)
    diagonal = np.zeros((n, 6, 6))
    g = np.zeros((n, 6))
    squares, weights = np.zeros(n), np.zeros(n)
    samples = [placed(view, pose) for view, pose in zip(problem.views, poses, strict=True)]
    borders = [view.borders.placed(pose) for view, pose in zip(problem.views, poses, strict=True)]
    pull = Pull(max_dist, scale, problem.border_weight, problem.centre)
    gain = weight_of_residuals(problem, NEIGHBOURS_OWN + NEIGHBOURS_OTHER)
    told = side_by_side(lambda p: terms(problem, samples[p[0]], back[p[1]], p[1], max_dist, scale), pairs)
    upper = np.array([t[0] for t in told]).reshape(-1, 6, 6)
    gradient = np.array([t[1] for t in told]).reshape(-1, 6)
    for k, (i, j) in enumerate(pairs):
        if len(borders[i][0]):
            ends = border_terms(borders[i], problem.views[j].borders, back[j], pull)
            upper[k] += ends[0]
            gradient[k] += ends[1]
    full = (upper + np.triu(upper, 1).swapaxes(1, 2)) * gain
    gradient *= gain
    for k, (i, j) in enumerate(pairs):
        tie = problem.ties.between(i, j, poses, problem.centre)
        if tie is not None:
            full[k] += tie[0] / NEIGHBOURS_OWN
            gradient[k] += tie[1] / NEIGHBOURS_OWN
    first, second = np.array(pairs, np.int64).reshape(-1, 2).T
    np.add.at(g, first, gradient)
    np.subtract.at(g, second, gradient)
    for frame in (first, second):
        np.add.at(diagonal, frame, full)
        squares += np.bincount(frame, [t[4] for t in told], n)
        weights += np.bincount(frame, [t[3] for t in told], n)
    return Equations(_assembled(diagonal, -full, first, second), g.ravel(), squares, weights)


def _assembled(diagonal: np.ndarray, cross: np.ndarray, first: np.ndarray, second: np.ndarray) -> csr_matrix:
    """The (6n, 6n) normal equations of all frames from their own 6×6 blocks and those of some pairs (first, second)."""
    n = len(diagonal)
    own = np.arange(n)
    rows = np.concatenate([own, first, second])
    columns = np.concatenate([own, second, first])
    blocks = np.concatenate([diagonal, cross, cross])
    r = np.repeat(rows[:, None] * 6 + np.arange(6), 6, axis=1).ravel()
    c = np.tile(columns[:, None] * 6 + np.arange(6), (1, 6)).ravel()
    return csr_matrix((blocks.ravel(), (r, c)), shape=(6 * n, 6 * n))


def weight_of_residuals(problem: JointFrames, neighbours: int) -> float:
    """Weight (1/mm²) of one residual of a frame laid onto so many others: neighbouring points are not independent."""
    sigma = max(problem.noise, 0.02 * problem.spacing)
    per_frame = np.mean([v.weights.sum() for v in problem.views]) * neighbours
    return float(EFFECTIVE_PER_FRAME / max(per_frame, 1.0) / sigma**2)
