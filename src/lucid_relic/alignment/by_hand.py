"""Placing by hand: threads between picked spots, or a pass dragged near the others, refined and then judged.

A hand says roughly where a pass lies; the surfaces say it exactly, or speak against it. Of threads that do not agree
with each other the largest number that does is believed: as in random sample consensus (Fischler & Bolles 1981), but over
all triples, since a hand ties few.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations, islice

import numpy as np

from lucid_relic.alignment.find_fit import contradiction
from lucid_relic.alignment.fit_result import Side
from lucid_relic.alignment.icp import IcpResult, Target, icp
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import about_axis, difference, fit_rigid, inverse, transform_points
from lucid_relic.types import PointCloud

WANTED = 3  # threads that a rigid motion needs
LEAST_OFF_MM, OFF_SHARE = 4.0, 0.03  # a thread is off when its ends lie farther apart, or by this share of the size
MOST_TRIPLES = 4000  # tried of many threads
LEAST_SPREAD = 0.02  # of the size: threads nearer to one line hold no turn about it
REACHES = 3.0  # times the threads' residual that the surfaces are looked for within
REACH_SHARE = 0.02  # of the size at the least
COARSE_ROUNDS, FINE_ROUNDS = 25, 40
FINE_SPACINGS = 1.3  # of the coarse points at the least
LAST_SPACINGS = 0.8  # partners of the last rounds: wider ones pair the rim of one side with what lies beside it
COMMON_SPACINGS = 1.0  # within so many spacings of the other side a point lies on it
LEAST_COMMON = 0.08  # share of the smaller side; of less nobody can say whether it fits
TURNS_DEG = 9.0  # about each axis, tried beside the place where a pass was let go
PATCH_SHARE, LEAST_PATCH = 0.08, 60  # radius of the patch round a pick, of the size; points that it holds at the least
PATCH_ROUNDS = 25
SLID = 2.0  # times as far as a thread may be off: a refined fit that leaves the threads more is another one


@dataclass(frozen=True)
class Believed:
    """T_fixed_moving that the believed threads give, which those are (n,) bool, and how far the ends of all lie apart (mm)."""

    T_fixed_moving: np.ndarray
    used: np.ndarray
    residual_mm: np.ndarray


@dataclass(frozen=True)
class HandFit:
    """A motion refined from where a hand put it, the share of the smaller side that is common, and its rms (mm).

    against says in words what speaks against it, or is empty.
    """

    T_fixed_moving: np.ndarray
    overlap: float
    rms_mm: float
    against: str


def believed_threads(fixed: np.ndarray, moving: np.ndarray, size_mm: float) -> Believed:
    """The motion of threads from places (n, 3) of a moving pass to places (n, 3) of what holds still.

    Raises `StepNotPossible` for fewer than three, for spots on one line, and when no three agree.
    """
    if len(fixed) < WANTED:
        raise StepNotPossible(f"{len(fixed)} threads are tied; three are needed: tie {WANTED - len(fixed)} more.")
    off = max(LEAST_OFF_MM, OFF_SHARE * size_mm)
    best: tuple[int, float, np.ndarray] | None = None
    for triple in islice(combinations(range(len(fixed)), WANTED), MOST_TRIPLES):
        chosen = list(triple)
        if min(_spread(fixed[chosen]), _spread(moving[chosen])) < LEAST_SPREAD * size_mm:
            continue
        apart = _apart(fit_rigid(moving[chosen], fixed[chosen]), fixed, moving)
        used = apart < off
        if not used[chosen].all():
            continue
        rms = float(np.sqrt((apart[used] ** 2).mean()))
        if best is None or (int(used.sum()), -rms) > (best[0], -best[1]):
            best = int(used.sum()), rms, used
    if best is None:
        if min(_spread(fixed), _spread(moving)) < LEAST_SPREAD * size_mm:
            raise StepNotPossible("The spots lie on one line, which leaves a turn about it open. Tie one beside it.")
        raise StepNotPossible(
            "No three threads agree: their spots lie differently on the two sides. Move or untie some."
        )
    motion = fit_rigid(moving[best[2]], fixed[best[2]])
    return Believed(motion, best[2], _apart(motion, fixed, moving))


def _apart(motion: np.ndarray, fixed: np.ndarray, moving: np.ndarray) -> np.ndarray:
    return np.asarray(np.linalg.norm(transform_points(motion, moving) - fixed, axis=1))


def _spread(places: np.ndarray) -> float:
    """How far (mm) places (n, 3) reach off the line that runs through them best."""
    return float(np.linalg.svd(places - places.mean(axis=0), compute_uv=False)[1])


def sharpened(
    fixed: PointCloud,
    moving: PointCloud,
    believed: Believed,
    ends: tuple[np.ndarray, np.ndarray],
    size_mm: float,
    spacing_mm: float,
) -> np.ndarray:
    """T_fixed_moving of the believed threads, their moving ends (n, 3) brought to where the fixed ones (n, 3) were picked.

    The patch of a pick is laid on what lies around the other end, from where the believed threads put it. Threads that are
    not believed, lie on too little or would move farther than a hand picks amiss keep their ends.
    """
    spots, radius = ends[1].copy(), PATCH_SHARE * size_mm
    farthest = max(LEAST_OFF_MM, OFF_SHARE * size_mm)
    for n in np.flatnonzero(believed.used):
        own, other = (
            _around(c, e[n], r) for c, e, r in zip((moving, fixed), ends[::-1], (radius, 1.6 * radius), strict=True)
        )
        if min(len(own), len(other)) < LEAST_PATCH:
            continue
        laid = icp(Target(other), own, believed.T_fixed_moving, farthest, PATCH_ROUNDS, 1.5 * spacing_mm)
        spot = transform_points(inverse(laid.T_fixed_moving), ends[0][n][None])[0]
        if np.linalg.norm(spot - ends[1][n]) <= farthest:
            spots[n] = spot
    return fit_rigid(spots[believed.used], ends[0][believed.used])


def _around(cloud: PointCloud, place: np.ndarray, radius_mm: float) -> PointCloud:
    return cloud.select(np.linalg.norm(cloud.points - place, axis=1) < radius_mm)


def refined(
    fixed: PointCloud, moving: PointCloud, starts: Sequence[np.ndarray], reach_mm: float, spacing_mm: float
) -> IcpResult:
    """The best of some starts (T_fixed_moving) that lie within `reach_mm`, refined coarsely, then finely."""
    voxel = max(reach_mm / 4, FINE_SPACINGS * spacing_mm)
    target, m = Target(thin(fixed, voxel)), thin(moving, voxel)
    tried = [icp(target, m, start, reach_mm, COARSE_ROUNDS, 1.2 * voxel) for start in starts]
    best = max(tried, key=lambda r: (round(_on(target, m, r.T_fixed_moving, 0.5 * voxel), 3), -r.rms_mm))
    fine, last = thin(moving, spacing_mm), LAST_SPACINGS * spacing_mm
    return icp(Target(thin(fixed, spacing_mm)), fine, best.T_fixed_moving, 2 * voxel, FINE_ROUNDS, last)


def _on(target: Target, moving: PointCloud, motion: np.ndarray, within_mm: float) -> float:
    """Share of moving points that lie on the target."""
    away, cosine, _ = target.gaps(moving, motion, 3 * within_mm)
    return float(((cosine > 0.7) & (np.abs(away) < within_mm)).mean())


def joined(clouds: Sequence[PointCloud]) -> PointCloud:
    """The points and normals of some clouds of one frame as one."""
    return PointCloud(*(np.concatenate([getattr(c, n) for c in clouds]) for n in ("points", "normals")))


def common_share(fixed: PointCloud, moving: PointCloud, motion: np.ndarray, within_mm: float) -> float:
    """Share of the smaller of two sides, the moving one laid by T_fixed_moving, that lies on the other."""
    return max(_on(Target(fixed), moving, motion, within_mm), _on(Target(moving), fixed, inverse(motion), within_mm))


def placed_by_hand(
    fixed: Sequence[Side], moving: Side, starts: Sequence[np.ndarray], reach_mm: float, spacing_mm: float
) -> HandFit:
    """Refine starts of a moving side onto all fixed sides (one frame) together, and judge it against each of them."""
    joint = joined([side.cloud for side in fixed])
    bare = PointCloud(moving.cloud.points, moving.cloud.normals)
    result = refined(joint, bare, starts, reach_mm, spacing_mm)
    motion, within = result.T_fixed_moving, COMMON_SPACINGS * spacing_mm
    overlap = common_share(joint, bare, motion, within)
    against = "" if overlap >= LEAST_COMMON else f"only {overlap:.0%} of the smaller side lies on the other"
    for side in fixed:
        against = against or contradiction(side, moving, motion)
    return HandFit(motion, overlap, result.rms_mm, against)


def reach_of_threads(believed: Believed, size_mm: float) -> float:
    """How far (mm) from where threads put a pass its surfaces are looked for."""
    return max(REACHES * float(believed.residual_mm[believed.used].max()), REACH_SHARE * size_mm)


def left_threads(believed: Believed, fit: HandFit, fixed: np.ndarray, moving: np.ndarray, size_mm: float) -> str:
    """Why a refined fit is not the one that the threads mean, in words; empty when it is."""
    apart = _apart(fit.T_fixed_moving, fixed, moving)[believed.used]
    most = SLID * max(LEAST_OFF_MM, OFF_SHARE * size_mm)
    if apart.max() <= most:
        return ""
    turned, shifted = difference(believed.T_fixed_moving, fit.T_fixed_moving)
    return (
        f"the surfaces draw it {shifted:.1f} mm and {turned:.0f}° off what the threads say; "
        "tie more threads, farther apart"
    )


def turns_about(start: np.ndarray, cloud: PointCloud) -> list[np.ndarray]:
    """A start, and the same turned both ways about each axis through the middle of the moving points."""
    middle = cloud.points.mean(axis=0, dtype=np.float64)
    turns = [sign * np.radians(TURNS_DEG) * axis for axis in np.eye(3) for sign in (1, -1)]
    return [start] + [start @ about_axis(middle, turn, float(np.linalg.norm(turn))) for turn in turns]
