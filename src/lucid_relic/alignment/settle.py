"""Settle: joint refinement of all frames of all passes against all their neighbours.

Gauss-Newton on point-to-plane residuals (Chen & Medioni 1992) with correspondences by projection into
neighbouring frames, a Geman-McClure kernel whose scale is annealed, the marker dots that two frames of a pass held by
markers both see, and one set of sparse
normal equations over the unknowns of `PassMotion`, solved directly.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import block_diag, csr_matrix, diags, hstack, identity
from scipy.sparse.linalg import splu

from lucid_relic.alignment.joint import JointFrames, equations, neighbour_pairs, placed, terms
from lucid_relic.alignment.keyframes import follow
from lucid_relic.alignment.loose import followed_plays, is_loose, keyframe_plays, seen_by_others
from lucid_relic.alignment.motion_model import PassMotion
from lucid_relic.alignment.views import FrameView
from lucid_relic.geometry.rigid import inverse
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PassState, Turntable

# The greatest distance of partners in pixel spacings, and the most steps.
LEVELS = ((12.0, 6), (6.0, 5), (3.5, 5), (2.5, 6))
# Pixel spacings, a 250th of usual noise: once no point moves farther, a level's next steps change nothing. With 0.002 a
# pass by hand came to lie elsewhere by 0.002 mm, and a fit that hung on a few patches was refused.
STILL = 0.0005
BAD_FIT = 3.0  # times the median residual: beyond it a frame is left out when that is asked for
ISOLATED = 0.6  # a frame that shares less than this part of the median shows something else
AGREEMENT_DISTANCE = 4.0  # spacings: neighbours that lie further apart than this disagree


@dataclass(frozen=True)
class SettleResult:
    """Passes with refined poses, and the residual of the frames before and after (mm).

    frames_before_mm holds, per pass, the residual of every frame that was in, as it was before; after
    it stands in the pass's `fit_mm`. dropped names the frames left out. Frames that were not where their table put
    them, since the object had moved on it, got a motion of their own and stand in the pass's `knocked`; those of a pass by
    hand that nothing holds in some direction in its `loose`.
    """

    passes: tuple[PassState, ...]
    rms_before_mm: float
    rms_after_mm: float
    dropped: list[tuple[str, int]]
    frames_before_mm: tuple[np.ndarray, ...] = ()


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
    problem = JointFrames(passes, cleaned, part_of(progress, 0, 0.4), coloured, views)
    before = None
    done, total = 0, sum(n for _, n in LEVELS)
    for levels in (LEVELS, LEVELS[1:]):
        if levels is not LEVELS:
            if not any(motion.knocked().any() for motion in problem.motions):
                break
            # Where each run of knocked frames belongs is known better now than when the pass was cut: once more.
            problem.find_axes()
        for distance, iterations in levels:
            max_dist = distance * problem.spacing
            scale = max(max_dist / 3, 2.5 * problem.noise)
            pairs = neighbour_pairs(problem, max_dist)
            if before is not None:
                problem.find_breaks()
            for n in range(iterations):
                progress(0.4 + 0.4 * min((done + n) / total, 1.0), "Settling")
                residuals, moved = _step(problem, pairs, max_dist, scale)
                before = residuals if before is None else before
                if moved < STILL * problem.spacing:
                    break
            done += iterations
    residuals, shares = _residuals(problem, pairs, max_dist, scale)
    loose = is_loose(keyframe_plays(problem, pairs, max_dist, scale), problem.spacing)
    return _finished(problem, before, residuals, shares, loose, drop_bad, part_of(progress, 0.8, 1.0))


def agreement(scan: PassState, views: list[FrameView]) -> float:
    """Share (0-1) of points that find a partner in the next frame, with the poses as they are."""
    problem = JointFrames((scan,), cleaned=False, progress=silent, views=views)
    poses = problem.poses()
    back = inverse(poses)
    max_dist = AGREEMENT_DISTANCE * problem.spacing
    found, asked = 0, 0
    for i, view in enumerate(problem.views):
        j = (i + 1) % len(problem.views)
        sample = placed(view, poses[i], every=3)
        found += terms(problem, sample, back[j], j, max_dist, max_dist)[2]
        asked += len(sample[0])
    return found / max(asked, 1)


def _step(
    problem: JointFrames, pairs: list[tuple[int, int]], max_dist: float, scale: float
) -> tuple[np.ndarray, float]:
    """One Gauss-Newton step; the rms residual (n,) of each frame before it, and how far it moved any point (mm)."""
    poses = problem.poses()
    told = equations(problem, poses, pairs, max_dist, scale)
    _solve_and_apply(problem, told.hessian, told.gradient)
    return np.sqrt(told.squares / np.maximum(told.weights, 1e-12)), problem.farthest_move(poses)


def _solve_and_apply(problem: JointFrames, H: csr_matrix, g: np.ndarray) -> None:
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
    problem: JointFrames, pairs: list[tuple[int, int]], max_dist: float, scale: float
) -> tuple[np.ndarray, np.ndarray]:
    """The rms residual (n,) of each frame, and the largest share (n,) of its points that a neighbour holds."""
    poses = problem.poses()
    back = inverse(poses)
    squares, weights = np.zeros(len(poses)), np.full(len(poses), 1e-12)
    shares = np.zeros(len(poses))
    for i, j in pairs:
        sample = placed(problem.views[i], poses[i])
        _, _, count, weight, square = terms(problem, sample, back[j], j, max_dist, scale)
        shares[i] = max(shares[i], count / max(len(sample[0]), 1))
        for k in (i, j):
            squares[k] += square
            weights[k] += weight
    return np.sqrt(squares / weights), shares


@dataclass
class _Settling:
    """A pass as settle leaves it but for the frames it leaves out: residuals (n,) mm before, frames alone, and loose."""

    scan: PassState
    before_mm: np.ndarray
    alone: np.ndarray
    loose: np.ndarray


def _finished(
    problem: JointFrames, before: np.ndarray, after: np.ndarray, shares: np.ndarray, loose: np.ndarray, drop_bad: bool,
    progress: Progress,
) -> SettleResult:  # fmt: skip
    isolated = shares < ISOLATED * np.median(shares)
    settling, k = [], 0
    for n in range(len(problem.passes)):
        own = slice(k, k + len(problem.frames[n]))
        part = part_of(progress, n / len(problem.passes), (n + 1) / len(problem.passes))
        settling.append(_settled_pass(problem, n, own, (before[own], after[own], isolated[own], loose[own]), part))
        k = own.stop
    median_fit = max(float(np.median(after)), problem.noise)
    dropped: list[tuple[str, int]] = []
    if drop_bad:
        out = [s.scan.frame_in & ((s.scan.fit_mm > BAD_FIT * median_fit) | s.alone) for s in settling]
        out = [bad | double for bad, double in zip(out, _seen_elsewhere(problem, settling, out), strict=True)]
        for s, bad in zip(settling, out, strict=True):
            s.scan = replace(s.scan, frame_in=s.scan.frame_in & ~bad)
            dropped += [(s.scan.title, int(i)) for i in np.flatnonzero(bad)]
    rms = lambda values: float(np.sqrt((values**2).mean()))  # noqa: E731
    figures = tuple(s.before_mm[p.frames_used()] for s, p in zip(settling, problem.passes, strict=True))
    return SettleResult(tuple(s.scan for s in settling), rms(before), rms(after), dropped, figures)


def _settled_pass(
    problem: JointFrames, n: int, own: slice, of_keys: tuple[np.ndarray, ...], progress: Progress
) -> _Settling:
    """Pass n with the poses found, own its keyframes among all, and of those residuals before and after, alone, loose."""
    scan, motion = problem.passes[n], problem.motions[n]
    frames, poses, fit = motion.frames, scan.frame_poses.copy(), scan.fit_mm.copy()
    was, alone, loose = np.zeros(scan.frame_count), np.zeros(scan.frame_count, bool), np.zeros(scan.frame_count, bool)
    poses[frames] = inverse(motion.T_object_pass) @ motion.poses()
    was[frames], fit[frames], alone[frames], loose[frames] = of_keys
    rest = follow(scan, replace(scan, frame_poses=poses), frames, problem.views[own], problem.read, progress)
    poses[rest.frames], was[rest.frames], fit[rest.frames] = rest.poses, rest.before_mm, rest.after_mm
    after = np.searchsorted(frames, rest.frames)
    between_loose = loose[frames][after - 1] & loose[frames][after]
    loose[rest.frames] = between_loose | is_loose(followed_plays(problem, scan, rest), problem.spacing)
    settled = replace(
        scan,
        frame_poses=poses,
        fit_mm=fit,
        noise_mm=problem.noise,
        T_object_pass=motion.T_object_pass,
        posed=True,
        turntable=_settled_table(scan, motion),
        knocked=tuple(map(int, frames[motion.knocked()])),
        loose=tuple(map(int, np.flatnonzero(loose))),
    )
    return _Settling(settled, was, alone, loose)


def _seen_elsewhere(problem: JointFrames, settling: list[_Settling], out: list[np.ndarray]) -> list[np.ndarray]:
    """Per pass the loose frames (n,) that others see all of, which are neither loose nor left out."""
    held, k = [], 0
    for s, bad, frames in zip(settling, out, problem.frames, strict=True):
        for index, view in zip(map(int, frames), problem.views[k : k + len(frames)], strict=True):
            if not s.loose[index] and not bad[index] and len(view.points):
                held.append((s.scan.T_object_camera(index), view))
        k += len(frames)
    double = [np.zeros(s.scan.frame_count, bool) for s in settling]
    for s, scan, own in zip(settling, problem.passes, double, strict=True):
        for index in map(int, np.flatnonzero(s.loose & s.scan.frame_in)):
            own[index] = seen_by_others(problem.read(scan, index), s.scan.T_object_camera(index), held)
    return double


def _settled_table(scan: PassState, motion: PassMotion) -> Turntable | None:
    if scan.turntable is None:
        return None
    return Turntable(motion.axis_point, motion.axis_frame[:, 2], scan.turntable.degrees)
