"""Find fit: place one point set on another from any position, with a verdict.

Coarse candidates from descriptors, each refined and then judged by how much surface they share and by
whether they put surface where the other side's frames looked through. The second-best distinct
candidate says whether the fit is the only one.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.alignment.by_colour import told_by_colour
from lucid_relic.alignment.coarse import candidate_motions, same_place
from lucid_relic.alignment.features import descriptors, match
from lucid_relic.alignment.icp import IcpResult, Painted, Target, icp
from lucid_relic.executor import in_order, worker_count
from lucid_relic.geometry import _kernels
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import about_axis, inverse, transform_points
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PassState, PointCloud

COARSE_DIVISIONS = 55.0
COARSE_SPACINGS, FINE_SPACINGS = 2.0, 1.3  # of the points: finer steps would find no partners
SPACING_SAMPLE = 4000
COARSE_ROUNDS = 12
FREE_FRAMES = 8
MIN_POINTS = 100
MIN_COMMON = 0.3
MAX_CONTRADICTION = 0.02  # right fits of the trials in the benchmarks stay under 0.003
RIVAL_SHARE = 0.8
CLOSE_SHARE = 0.6
MAX_REFINED = 8
TIGHT_REACH = 0.12
LEAST_MISFIT = 0.003
MIN_TIGHT = 0.78
MIN_TIGHT_BARE = 0.4
TIGHT_NOISES = 2.0
SWEEP_FIRMNESS = 0.03
SWEEP_STEP_DEG = 4.0
SWEEP_POINTS = 6000
SWEEP_KEPT = 5
MIN_FIRMNESS = 0.01
TIGHT_IF_SMOOTH = 0.95  # a nearly symmetric body is trusted only when its relief fits as closely as this


@dataclass(frozen=True)
class Side:
    """One side of a fit: its points with normals and, when known, the pass whose frames saw them."""

    cloud: PointCloud
    scan: PassState | None = None


@dataclass(frozen=True)
class FitResult:
    """A fit and what speaks for and against it.

    overlap is the share (0-1) of the smaller side that lies on the other; contradiction the share
    of observed points that the other side's frames looked through; rival how nearly as well the next
    distinct fit does (1 = just as well), by the share of common surface that is off; firmness the
    smallest eigenvalue's share of the information; by_colour says that only its colour told the fit from others.
    """

    T_fixed_moving: np.ndarray
    accepted: bool
    reason: str
    overlap: float
    rms_mm: float
    contradiction: float
    rival: float
    firmness: float
    by_colour: bool = False


@dataclass(frozen=True)
class _Judged:
    motion: np.ndarray
    overlap: float
    contradiction: float
    rms_mm: float
    information: np.ndarray

    @property
    def score(self) -> float:
        return self.overlap * max(0.0, 1 - 6 * self.contradiction)


def find_fit(fixed: Side, moving: Side, progress: Progress) -> FitResult:
    """Find T_fixed_moving from any position; never raises for a bad fit, it refuses with a reason."""
    fewest = min(len(fixed.cloud), len(moving.cloud))
    if fewest < MIN_POINTS:
        return _refused(f"one side has only {fewest} points, {MIN_POINTS} are wanted")
    extent = min(_extent(fixed.cloud), _extent(moving.cloud))
    spacing = max(_spacing(fixed.cloud), _spacing(moving.cloud))
    voxel = max(extent / COARSE_DIVISIONS, COARSE_SPACINGS * spacing)
    f, m = thin(fixed.cloud, voxel), thin(moving.cloud, voxel)
    progress(0.05, "Describing the shape")
    pairs = match(descriptors(f, voxel), descriptors(m, voxel))
    progress(0.3, "Looking for fits")
    candidates = candidate_motions(f, m, pairs, voxel)
    if not candidates:
        return _refused("nothing on the two passes looks alike; are they the same object?")
    targets = Target(f), Target(m)
    judge = part_of(progress, 0.4, 0.85)
    judged: list[_Judged] = []
    for k, start in enumerate(candidates):
        judge(k / len(candidates), f"Trying fit {k + 1} of {len(candidates)}")
        result = icp(targets[0], m, start, 3 * voxel, COARSE_ROUNDS, 1.2 * voxel)
        judged.append(_judge(fixed, moving, targets, result.T_fixed_moving, voxel))
    judged = _best_distinct(judged, m, voxel)
    progress(0.85, "Trying the object turned about")
    for start in _half_turns(f, m, judged[0].motion):
        result = icp(targets[0], m, start, 5 * voxel, COARSE_ROUNDS, 1.2 * voxel)
        judged.append(_judge(fixed, moving, targets, result.T_fixed_moving, voxel))
    judged = _best_distinct(judged, m, voxel)
    progress(0.9, "Refining the fit")
    return _verdict(fixed, moving, judged, targets, voxel, max(voxel / 3, FINE_SPACINGS * spacing))


def _spacing(cloud: PointCloud) -> float:
    """Median distance of a point to its nearest neighbour, from a seeded sample."""
    chosen = np.random.default_rng(2).permutation(len(cloud))[:SPACING_SAMPLE]
    tree = cKDTree(cloud.points, compact_nodes=False, balanced_tree=False)
    distance, _ = tree.query(cloud.points[chosen], k=2, workers=-1)
    return float(np.median(distance[:, 1]))


def _best_distinct(judged: list[_Judged], m: PointCloud, voxel: float) -> list[_Judged]:
    """Best first, leaving out those that end where a better one does."""
    centre = m.points.mean(axis=0)
    kept: list[_Judged] = []
    for one in sorted(judged, key=lambda j: -j.score):
        if all(not same_place(one.motion, other.motion, centre, 4 * voxel) for other in kept):
            kept.append(one)
    return kept


def _half_turns(f: PointCloud, m: PointCloud, motion: np.ndarray) -> list[np.ndarray]:
    """The fit turned by 180° about the principal axes of both sides together.

    A body with flat sides fits itself nearly as well the other way round, and its flat sides can hide
    the right way from the descriptors.
    """
    both = np.concatenate([f.points, transform_points(motion, m.points)]).astype(np.float64)
    _, _, axes = np.linalg.svd(both - both.mean(axis=0), full_matrices=False)
    along = (both - both.mean(axis=0)) @ axes.T
    middle = both.mean(axis=0) + ((along.min(axis=0) + along.max(axis=0)) / 2) @ axes
    return [about_axis(middle, axis, np.pi) @ motion for axis in axes]


def _extent(cloud: PointCloud) -> float:
    low, high = np.percentile(cloud.points, [1, 99], axis=0)
    return float(np.linalg.norm(high - low))


def _judge(fixed: Side, moving: Side, targets: tuple[Target, Target], motion: np.ndarray, voxel: float) -> _Judged:
    f, m = targets[0].cloud, targets[1].cloud
    back = inverse(motion)
    share_m, rms = _common(targets[0], m, motion, voxel)
    share_f, _ = _common(targets[1], f, back, voxel)
    against = [
        _contradiction(side, cloud, T, voxel)
        for side, cloud, T in ((fixed, m, motion), (moving, f, back))
        if side.scan is not None
    ]
    information = icp(targets[0], m, motion, voxel, 1).information
    overlap = max(share_m, share_f) if len(f) and len(m) else 0.0
    return _Judged(motion, overlap, max(against, default=0.0), rms, information)


def _common(fixed: Target, moving: PointCloud, motion: np.ndarray, voxel: float) -> tuple[float, float]:
    """Share of `moving` that lies on `fixed`, and the rms plane distance of that part."""
    away, cosine, _ = fixed.gaps(moving, motion, 1.5 * voxel)
    flat = (cosine > 0.7) & (away < 0.6 * voxel)
    rms = float(np.sqrt((away[flat].astype(np.float64) ** 2).mean())) if flat.any() else float("inf")
    return float(flat.mean()), rms


def _contradiction(side: Side, cloud: PointCloud, motion: np.ndarray, voxel: float) -> float:
    """Share of `cloud` that the frames of `side` observed and looked through."""
    scan = side.scan
    frames = scan.frames_used()
    chosen = frames[np.linspace(0, len(frames) - 1, min(FREE_FRAMES, len(frames))).astype(int)]
    points = transform_points(motion, cloud.points.astype(np.float64))
    agree, contradict = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
    for index in chosen:
        _kernels.see_through(
            points, inverse(scan.frame_poses[index]), scan.camera.as_vector,
            scan.source.depth(int(index)), 1.5 * voxel, agree, contradict,
        )  # fmt: skip
    observed = (agree + contradict) > 0
    return float(((contradict > agree) & observed).sum() / max(observed.sum(), 1))


def _verdict(
    fixed: Side, moving: Side, judged: list[_Judged], targets: tuple[Target, Target], voxel: float, fine: float
) -> FitResult:
    m = targets[1].cloud
    close = [j for j in judged if j.score >= CLOSE_SHARE * judged[0].score][:MAX_REFINED]
    ff, fm = thin(fixed.cloud, fine), thin(moving.cloud, fine)
    target = Target(ff)
    painted = None if ff.colours is None or fm.colours is None else Painted(target, fine)
    refined = [(j, icp(target, fm, j.motion, 1.5 * voxel, 25, fine)) for j in close]
    if _firmness(judged[0].information, m) < SWEEP_FIRMNESS:
        refined += _swept(judged[0], refined[0][1], target, painted, fm, m, voxel, fine)
    within = _tight_reach(fixed, moving, fine)
    tight = [_tight_share(target, fm, r.T_fixed_moving, fine, within) for _, r in refined]
    order = np.argsort([-t for t in tight], kind="stable")
    best, result = refined[order[0]]
    centre = m.points.mean(axis=0)
    rivals = [
        tight[k]
        for k in order[1:]
        if not same_place(refined[k][1].T_fixed_moving, result.T_fixed_moving, centre, 4 * voxel)
    ]
    misfit = 1 - tight[order[0]] + LEAST_MISFIT
    likeness = [misfit / (1 - t + LEAST_MISFIT) for t in rivals]
    rival = max(likeness, default=0.0)
    firmness = _firmness(best.information, m)
    equals = sum(k > RIVAL_SHARE for k in likeness)
    bare = fixed.scan is None or moving.scan is None
    share = tight[order[0]]
    off = 1 - share if share < (MIN_TIGHT_BARE if bare else MIN_TIGHT) else 0.0
    slack = firmness < MIN_FIRMNESS and share < TIGHT_IF_SMOOTH
    reason = _reason(best, rival, equals, slack, off, within)
    by, told = "no other fit as good", None
    if painted is not None and (equals or slack) and not _reason(best, 0.0, 0, False, off, within):
        motions = [r.T_fixed_moving for _, r in refined]
        told = told_by_colour(painted, fm, motions, fine, 4 * voxel)
    if told is not None:
        again = _judge(fixed, moving, targets, told.fit.T_fixed_moving, voxel)
        told = None if _reason(again, 0.0, 0, False, 0.0, within) else told
    if told is not None:
        best, result, reason, rival = again, told.fit, "", told.rival
        by = f"told from {max(equals, 1)} alike by its colour"
    return FitResult(
        T_fixed_moving=result.T_fixed_moving,
        accepted=reason == "",
        reason=reason or f"common area {best.overlap:.0%}, residual {result.rms_mm:.3f} mm, {by}",
        overlap=best.overlap,
        rms_mm=result.rms_mm,
        contradiction=best.contradiction,
        rival=rival,
        firmness=firmness,
        by_colour=told is not None,
    )  # fmt: skip


def _firmness(information: np.ndarray, cloud: PointCloud) -> float:
    """How firmly the weakest motion is held, as a share of the mean of all six."""
    eigen = np.linalg.eigvalsh(_scaled(information, _extent(cloud) / 2))
    return float(eigen[0] / max(eigen.sum() / 6, 1e-12))


def _swept(
    best: _Judged,
    start: IcpResult,
    target: Target,
    painted: Painted | None,
    fm: PointCloud,
    m: PointCloud,
    voxel: float,
    fine: float,
) -> list[tuple[_Judged, IcpResult]]:
    """Fits reached by turning about the axis that the shape holds least, as on a turned object.

    Of a painted one, those whose colours fit best among those whose shapes fit as well.
    """
    radius = _extent(m) / 2
    _, vectors = np.linalg.eigh(_scaled(best.information, radius))
    twist = vectors[:, 0] / np.array([radius] * 3 + [1.0] * 3)
    turn, slide = twist[:3], twist[3:]
    if np.linalg.norm(turn) * radius < np.linalg.norm(slide):
        return []
    centre = transform_points(best.motion, m.points).mean(axis=0)
    point = centre + np.cross(turn, slide) / (turn @ turn)
    chosen = np.random.default_rng(3).permutation(len(fm))[:SWEEP_POINTS]
    colours = None if painted is None else fm.colours[chosen]
    sample = PointCloud(fm.points[chosen], fm.normals[chosen], colours)
    tried = []
    for angle in np.arange(SWEEP_STEP_DEG, 360, SWEEP_STEP_DEG):
        guess = about_axis(point, turn, np.radians(angle)) @ start.T_fixed_moving
        found = icp(target, sample, guess, 0.7 * voxel, 12, fine)
        tried.append((_tight_share(target, sample, found.T_fixed_moving, fine, TIGHT_REACH * fine), found))
    tried.sort(key=lambda t: -t[0])
    if painted is not None:
        alike = [t for t in tried if t[0] >= RIVAL_SHARE * tried[0][0]]
        alike.sort(key=lambda t: -painted.likeness(sample, t[1].T_fixed_moving, 1.5 * fine)[0])
        tried = alike + tried
    kept: list[IcpResult] = []
    for _, found in tried:
        if all(not same_place(found.T_fixed_moving, k.T_fixed_moving, m.points.mean(axis=0), 4 * voxel) for k in kept):
            kept.append(found)
        if len(kept) == SWEEP_KEPT:
            break
    full = [icp(target, fm, k.T_fixed_moving, 2 * fine, 15, fine) for k in kept]
    return [(replace(best, motion=r.T_fixed_moving), r) for r in full]


def _tight_share(target: Target, moving: PointCloud, motion: np.ndarray, reach: float, within: float) -> float:
    """Share of the part of `moving` near the target that lies on it to `within` mm along the normal."""
    away, cosine, _ = target.gaps(moving, motion, 1.5 * reach)
    near = np.isfinite(away) & (cosine > 0.5)
    return float((near & (away < within)).sum() / max(near.sum(), 1))


def _scaled(information: np.ndarray, radius: float) -> np.ndarray:
    """Information with rotations measured as the arc at `radius`, so that mm compare with mm."""
    scale = np.diag([1 / radius] * 3 + [1.0] * 3)
    return scale @ information @ scale


def _tight_reach(fixed: Side, moving: Side, fine: float) -> float:
    """How far (mm) two measurements of one place may lie apart: a small part of the relief, or the noise."""
    noise = max((side.scan.noise_mm for side in (fixed, moving) if side.scan is not None), default=0.0)
    return max(TIGHT_REACH * fine, TIGHT_NOISES * noise)


def _reason(best: _Judged, rival: float, rivals: int, slack: bool, off: float, within: float) -> str:
    """Why the fit is refused, or empty.

    slack says that the shape holds some motion too little for the misfit there is; off is the share of
    the common area that lies more than `within` mm apart, where that is too much.
    """
    if best.overlap < MIN_COMMON or not np.isfinite(best.rms_mm):
        return (
            f"common area {best.overlap:.0%}, a third is wanted: "
            "capture a side view that both passes share, or match points by hand"
        )
    if best.contradiction > MAX_CONTRADICTION:
        return (
            f"the best fit puts {best.contradiction:.0%} of the surface where the other pass looked "
            "through: the passes may show different objects, or the stand is still in one of them"
        )
    if rival > RIVAL_SHARE:
        return f"{rivals + 1} turns fit equally well: add a marker or match a point by hand"
    if off:
        return (
            f"{off:.0%} of the common area lies more than {within:.2g} mm apart, more than the noise explains: "
            "the surfaces are alike but not the same; match points by hand"
        )
    if slack:
        return "the common area is too smooth to hold the pass in place: match points by hand"
    return ""


def _refused(reason: str) -> FitResult:
    return FitResult(np.eye(4), False, reason, 0.0, float("inf"), 0.0, 0.0, 0.0)


def place_passes(
    passes: tuple[PassState, ...], clouds: list[PointCloud], progress: Progress
) -> tuple[tuple[PassState, ...], list[tuple[int, int, FitResult]]]:
    """Place every pass on what is placed already, best common area first.

    The first pass (or all that are placed) holds still. Returns the passes, those that could not be
    placed left out, and every fit tried as (fixed, moving, result).
    """
    out = list(passes)
    if not any(p.placed for p in out):
        out[0] = replace(out[0], placed=True)
    tried: list[tuple[int, int, FitResult]] = []
    waiting = [i for i, p in enumerate(out) if not p.placed]
    total, done = max(len(waiting), 1), 0
    while waiting:
        placed = [j for j, p in enumerate(out) if p.placed]
        known = {t[:2] for t in tried}
        fresh = [(j, i) for i in waiting for j in placed if (j, i) not in known]
        part = part_of(progress, done / total, (done + 1) / total)
        if worker_count() == 1:
            for k, (j, i) in enumerate(fresh):
                one = part_of(part, k / len(fresh), (k + 1) / len(fresh))
                tried.append((j, i, find_fit(Side(clouds[j], out[j]), Side(clouds[i], out[i]), one)))
        else:
            calls = ((Side(clouds[j], out[j]), Side(clouds[i], out[i]), silent) for j, i in fresh)
            fits_found = in_order(find_fit, calls, len(fresh), part, "Finding fits on the cluster")
            tried += [(j, i, fit) for (j, i), fit in zip(fresh, fits_found, strict=True)]
        fits = [t for t in tried if t[1] in waiting and t[0] in placed]
        good = [t for t in fits if t[2].accepted]
        if not good:
            break
        j, i, fit = max(good, key=lambda t: t[2].overlap)
        out[i] = replace(out[i], T_object_pass=out[j].T_object_pass @ fit.T_fixed_moving, placed=True)
        waiting.remove(i)
        done += 1
    return tuple(out), tried
