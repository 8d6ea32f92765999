"""Settle: joint refinement of all frames of all passes against all their neighbours.

Gauss-Newton on point-to-plane residuals (Chen & Medioni 1992) with correspondences by projection into
neighbouring frames, a Geman-McClure kernel whose scale is annealed, the marker dots that two frames of a pass held by
markers both see, and one set of sparse
normal equations over the unknowns of `PassMotion`, solved directly.
"""

from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from scipy.sparse import block_diag, csr_matrix, diags, hstack, identity
from scipy.sparse.linalg import splu

from lucid_relic.alignment import _kernels
from lucid_relic.alignment.keyframes import follow, keyframes
from lucid_relic.alignment.marker_ties import MarkerTies
from lucid_relic.alignment.motion_model import PassMotion
from lucid_relic.alignment.views import LIGHT_NOISE, STRIDE, FrameView, frame_view
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.threads import side_by_side
from lucid_relic.types import PassState, Turntable

LEVELS = ((12.0, 6), (6.0, 5), (3.5, 5), (2.5, 6))  # greatest distance of partners in pixel spacings, iterations
MIN_NORMAL_COS = 0.6  # partners face within 53°, as in icp
MAX_VIEW_ANGLE_COS = np.cos(np.radians(80.0))  # frames that look more than 80° apart share next to nothing
NEIGHBOURS_OWN = 10  # frames of the same pass that each is held to: more add the same again
NEIGHBOURS_OTHER = 8  # frames of other passes that each is held to
EFFECTIVE_PER_FRAME = 100.0  # independent measurements that a frame counts for: its neighbouring points err together
BAD_FIT = 3.0  # times the median residual: beyond it a frame is left out when that is asked for
ISOLATED = 0.6  # a frame that shares less than this part of the median shows something else
AGREEMENT_DISTANCE = 4.0  # spacings: neighbours that lie further apart than this disagree


@dataclass(frozen=True)
class SettleResult:
    """Passes with refined poses, and the residual of the frames before and after (mm).

    frames_before_mm holds, per pass, the residual of every frame that was in, as it was before; after
    it stands in the pass's `fit_mm`. dropped names the frames left out. Frames that were not where their table put
    them, since the object had moved on it, got a motion of their own and stand in the pass's `knocked`.
    """

    passes: tuple[PassState, ...]
    rms_before_mm: float
    rms_after_mm: float
    dropped: list[tuple[str, int]]
    frames_before_mm: tuple[np.ndarray, ...] = ()


class _Problem:
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


def settle(
    passes: tuple[PassState, ...],
    progress: Progress,
    cleaned: bool = True,
    drop_bad: bool = True,
    coloured: bool = False,
    views: list[FrameView] | None = None,
) -> SettleResult:
    """Refine the frame poses of all passes together; the first pass's place stays fixed.

    coloured says that the fine detail of the photographs holds the frames too, not the shape alone. views are those of
    `read_views` where they have been read already.
    """
    problem = _Problem(passes, cleaned, part_of(progress, 0, 0.4), coloured, views)
    before = None
    done, total = 0, sum(n for _, n in LEVELS)
    for levels in (LEVELS, LEVELS[1:]):
        for distance, iterations in levels:
            max_dist = distance * problem.spacing
            scale = max(max_dist / 3, 2.5 * problem.noise)
            pairs = _neighbour_pairs(problem, max_dist)
            if before is not None:
                problem.find_breaks()
            for _ in range(iterations):
                progress(0.4 + 0.4 * min(done / total, 1.0), "Settling")
                residuals = _step(problem, pairs, max_dist, scale)
                before = residuals if before is None else before
                done += 1
        if not any(motion.knocked().any() for motion in problem.motions):
            break
        # Where each run of knocked frames belongs is known better now than when the pass was cut: once more.
    residuals, shares = _residuals(problem, pairs, max_dist, scale)
    return _finished(problem, before, residuals, shares, drop_bad, part_of(progress, 0.8, 1.0))


def agreement(scan: PassState, views: list[FrameView]) -> float:
    """Share (0-1) of points that find a partner in the next frame, with the poses as they are."""
    problem = _Problem((scan,), cleaned=False, progress=silent, views=views)
    poses = problem.poses()
    back = inverse(poses)
    max_dist = AGREEMENT_DISTANCE * problem.spacing
    found, asked = 0, 0
    for i, view in enumerate(problem.views):
        j = (i + 1) % len(problem.views)
        sample = _placed(view, poses[i], every=3)
        found += _terms(problem, sample, back[j], j, max_dist, max_dist)[2]
        asked += len(sample[0])
    return found / max(asked, 1)


def _neighbour_pairs(problem: _Problem, max_dist: float) -> list[tuple[int, int]]:
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
        sample = _placed(view, poses[i], every=6)
        others = [int(j) for j in np.flatnonzero(facing[i]) if j != i]
        shared[others] = side_by_side(partial(_partners, problem, sample, back, max_dist), others)
        enough = shared > 0.05 * len(sample[0])
        for own, limit in ((True, NEIGHBOURS_OWN), (False, NEIGHBOURS_OTHER)):
            group = np.flatnonzero(enough & ((owner == owner[i]) == own))
            best = group[np.argsort(-shared[group], kind="stable")[:limit]]
            pairs += [(i, int(j)) for j in best]
    return pairs


def _partners(problem: _Problem, sample: tuple[np.ndarray, ...], back: np.ndarray, max_dist: float, j: int) -> int:
    """How many points of a sample frame j has partners for."""
    return _terms(problem, sample, back[j], j, max_dist, max_dist)[2]


def _placed(view: FrameView, pose: np.ndarray, every: int = 1) -> tuple[np.ndarray, ...]:
    points = view.points[::every].astype(np.float64) @ pose[:3, :3].T + pose[:3, 3]
    normals = view.point_normals[::every].astype(np.float64) @ pose[:3, :3].T
    return points, normals, view.weights[::every], view.point_light[::every]


def _terms(
    problem: _Problem, sample: tuple[np.ndarray, ...], T_camera_object: np.ndarray, j: int,
    max_dist: float, scale: float,
) -> tuple[np.ndarray, np.ndarray, int, float, float]:  # fmt: skip
    view = problem.views[j]
    hessian, gradient = np.zeros((6, 6)), np.zeros(6)
    count, weight, squares = _kernels.pair_terms(
        *sample, T_camera_object, view.cam, view.rays, view.fitted, view.normals, view.confidence, view.light,
        STRIDE, max_dist, scale, MIN_NORMAL_COS, problem.centre, problem.light_weight, hessian, gradient,
    )  # fmt: skip
    return hessian, gradient, count, weight, squares


def _step(problem: _Problem, pairs: list[tuple[int, int]], max_dist: float, scale: float) -> np.ndarray:
    """One Gauss-Newton step; returns the rms residual (n,) of each frame before it."""
    poses = problem.poses()
    back = inverse(poses)
    n = len(poses)
    diagonal = np.zeros((n, 6, 6))
    cross = np.zeros((len(pairs), 6, 6))
    g = np.zeros((n, 6))
    squares, weights = np.zeros(n), np.zeros(n)
    placed = [_placed(view, pose) for view, pose in zip(problem.views, poses, strict=True)]
    gain = _gain(problem)
    told = side_by_side(lambda p: _terms(problem, placed[p[0]], back[p[1]], p[1], max_dist, scale), pairs)
    for k, ((i, j), (upper, gradient, _, weight, square)) in enumerate(zip(pairs, told, strict=True)):
        full = (upper + np.triu(upper, 1).T) * gain
        gradient = gradient * gain
        tie = problem.ties.between(i, j, poses, problem.centre)
        if tie is not None:
            full, gradient = full + tie[0] / NEIGHBOURS_OWN, gradient + tie[1] / NEIGHBOURS_OWN
        diagonal[i] += full
        diagonal[j] += full
        cross[k] = -full
        g[i] += gradient
        g[j] -= gradient
        for frame in (i, j):
            squares[frame] += square
            weights[frame] += weight
    _solve_and_apply(problem, _assembled(diagonal, cross, pairs), g.ravel())
    return np.sqrt(squares / np.maximum(weights, 1e-12))


def _assembled(diagonal: np.ndarray, cross: np.ndarray, pairs: list[tuple[int, int]]) -> csr_matrix:
    """The (6n, 6n) normal equations of all frames from their 6×6 blocks."""
    n = len(diagonal)
    first = np.array([i for i, _ in pairs], np.int64)
    second = np.array([j for _, j in pairs], np.int64)
    own = np.arange(n)
    rows = np.concatenate([own, first, second])
    columns = np.concatenate([own, second, first])
    blocks = np.concatenate([diagonal, cross, cross])
    r = np.repeat(rows[:, None] * 6 + np.arange(6), 6, axis=1).ravel()
    c = np.tile(columns[:, None] * 6 + np.arange(6), (1, 6)).ravel()
    return csr_matrix((blocks.ravel(), (r, c)), shape=(6 * n, 6 * n))


def _gain(problem: _Problem) -> float:
    """Weight of one residual: neighbouring points are not independent, so they count for less."""
    sigma = max(problem.noise, 0.02 * problem.spacing)
    per_frame = np.mean([v.weights.sum() for v in problem.views]) * (NEIGHBOURS_OWN + NEIGHBOURS_OTHER)
    return EFFECTIVE_PER_FRAME / max(per_frame, 1.0) / sigma**2


def _solve_and_apply(problem: _Problem, H: csr_matrix, g: np.ndarray) -> None:
    """Solve for the unknowns of all motion models (sparse, direct) and move the frames."""
    n6 = len(g)
    places, row, column = [], 0, 0
    gain = H.diagonal().sum() / n6
    prior, pull, jacobians, own = [], [], [], []
    for motion in problem.motions:
        size = 6 * len(motion.frames)
        jacobians.append(csr_matrix(motion.jacobian()))
        places.append((row, size, column, motion.own_unknowns))
        own.append(motion.own_prior())
        held = motion.prior(gain)
        prior.append(held)
        pull.append(held @ motion.pose_corrections.ravel())
        row += size
        column += motion.own_unknowns
    own_precision = np.concatenate([p for p, _ in own])
    precision = block_diag([diags(own_precision), *prior], format="csr")
    expected = np.concatenate([own_precision * np.concatenate([o for _, o in own]), *pull])
    mapping = hstack([block_diag(jacobians), identity(n6)], format="csr")
    right = -(mapping.T @ g) - expected
    normal = mapping.T @ H @ mapping
    damping = 1e-9 * normal.diagonal().sum() / normal.shape[0] + 1e-9
    step = splu((normal + precision + damping * identity(normal.shape[0])).tocsc(), permc_spec="MMD_AT_PLUS_A").solve(
        right
    )
    for motion, (r, size, c, count) in zip(problem.motions, places, strict=True):
        motion.apply(step[c : c + count], step[column + r : column + r + size])


def _residuals(
    problem: _Problem, pairs: list[tuple[int, int]], max_dist: float, scale: float
) -> tuple[np.ndarray, np.ndarray]:
    """The rms residual (n,) of each frame, and the largest share (n,) of its points that a neighbour holds."""
    poses = problem.poses()
    back = inverse(poses)
    squares, weights = np.zeros(len(poses)), np.full(len(poses), 1e-12)
    shares = np.zeros(len(poses))
    for i, j in pairs:
        sample = _placed(problem.views[i], poses[i])
        _, _, count, weight, square = _terms(problem, sample, back[j], j, max_dist, scale)
        shares[i] = max(shares[i], count / max(len(sample[0]), 1))
        for k in (i, j):
            squares[k] += square
            weights[k] += weight
    return np.sqrt(squares / weights), shares


def _finished(
    problem: _Problem, before: np.ndarray, after: np.ndarray, shares: np.ndarray, drop_bad: bool, progress: Progress
) -> SettleResult:
    median_fit = float(np.median(after))
    isolated = shares < ISOLATED * np.median(shares)
    out, dropped, k = [], [], 0
    per_pass = []
    for n, (scan, motion) in enumerate(zip(problem.passes, problem.motions, strict=True)):
        frames, own = motion.frames, slice(k, k + len(motion.frames))
        poses, fit, was = scan.frame_poses.copy(), scan.fit_mm.copy(), np.zeros(scan.frame_count)
        poses[frames] = inverse(motion.T_object_pass) @ motion.poses()
        fit[frames], was[frames] = after[own], before[own]
        alone = np.zeros(scan.frame_count, bool)
        alone[frames] = isolated[own]
        settled = replace(scan, frame_poses=poses)
        part = part_of(progress, n / len(problem.passes), (n + 1) / len(problem.passes))
        rest, own_poses, own_before, own_after = follow(scan, settled, frames, problem.views[own], problem.read, part)
        poses[rest], was[rest], fit[rest] = own_poses, own_before, own_after
        inside = scan.frame_in.copy()
        if drop_bad:
            bad = np.flatnonzero(inside & ((fit > BAD_FIT * max(median_fit, problem.noise)) | alone))
            inside[bad] = False
            dropped += [(scan.title, int(i)) for i in bad]
        out.append(
            replace(
                settled,
                fit_mm=fit,
                frame_in=inside,
                noise_mm=problem.noise,
                T_object_pass=motion.T_object_pass,
                posed=True,
                turntable=_settled_table(scan, motion),
                knocked=tuple(map(int, frames[motion.knocked()])),
            )  # fmt: skip
        )
        per_pass.append(was[scan.frames_used()])
        k = own.stop
    rms = lambda values: float(np.sqrt((values**2).mean()))  # noqa: E731
    return SettleResult(tuple(out), rms(before), rms(after), dropped, tuple(per_pass))


def _settled_table(scan: PassState, motion: PassMotion) -> Turntable | None:
    if scan.turntable is None:
        return None
    return Turntable(motion.axis_point, motion.axis_frame[:, 2], scan.turntable.degrees)
