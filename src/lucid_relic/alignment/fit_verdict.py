"""Whether a fit can be trusted: how much surface is shared, what the other side looked through, what else fits as well."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.alignment.by_colour import told_apart_by_colour
from lucid_relic.alignment.coarse import same_place
from lucid_relic.alignment.fit_result import Fit, FitFigures, FitResult, RefusedFit, Side
from lucid_relic.alignment.fit_settings import FitSettings
from lucid_relic.alignment.icp import IcpResult, Painted, Target, icp
from lucid_relic.geometry import _kernels
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import about_axis, inverse, transform_points
from lucid_relic.types import PointCloud

MIN_COMMON_COS, MAX_COMMON_VOXELS = 0.7, 0.6  # a common place faces the same way and lies within this of the other side
MIN_NEAR_COS = 0.5  # what faces this far away is another side of a thin wall


@dataclass(frozen=True)
class Candidate:
    """A motion T_fixed_moving with what speaks for and against it."""

    motion: np.ndarray
    overlap: float
    free_space_violation: float
    rms_mm: float
    information: np.ndarray

    @property
    def score(self) -> float:
        """Common area, less what the frames looked through: a sixth of it outweighs everything."""
        return self.overlap * max(0.0, 1 - 6 * self.free_space_violation)


def judged(
    fixed: Side, moving: Side, targets: tuple[Target, Target], motion: np.ndarray, voxel: float, settings: FitSettings
) -> Candidate:
    """A motion with its figures; targets are both sides thinned to `voxel` mm."""
    f, m = targets[0].cloud, targets[1].cloud
    back = inverse(motion)
    share_m, rms = _common(targets[0], m, motion, voxel)
    share_f, _ = _common(targets[1], f, back, voxel)
    against = [
        free_space_violation(side, cloud, T, voxel, settings)
        for side, cloud, T in ((fixed, m, motion), (moving, f, back))
        if side.scan is not None
    ]
    information = icp(targets[0], m, motion, voxel, 1).information
    overlap = max(share_m, share_f) if len(f) and len(m) else 0.0
    return Candidate(motion, overlap, max(against, default=0.0), rms, information)


def _common(fixed: Target, moving: PointCloud, motion: np.ndarray, voxel: float) -> tuple[float, float]:
    """Share of `moving` that lies on `fixed`, and the rms plane distance of that part."""
    away, cosine, _ = fixed.gaps(moving, motion, 1.5 * voxel)
    flat = (cosine > MIN_COMMON_COS) & (away < MAX_COMMON_VOXELS * voxel)
    rms = float(np.sqrt((away[flat].astype(np.float64) ** 2).mean())) if flat.any() else float("inf")
    return float(flat.mean()), rms


def free_space_violation(
    side: Side, cloud: PointCloud, motion: np.ndarray, voxel: float, settings: FitSettings
) -> float:
    """Share of `cloud` that the frames of `side` observed and looked through."""
    scan = side.scan
    frames = scan.frames_used()
    chosen = frames[np.linspace(0, len(frames) - 1, min(settings.free_space_frames, len(frames))).astype(int)]
    points = transform_points(motion, cloud.points.astype(np.float64))
    agree, contradict = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
    for index in chosen:
        _kernels.see_through(
            points, inverse(scan.frame_poses[index]), scan.camera.as_vector,
            scan.source.depth(int(index)), 1.5 * voxel, agree, contradict,
        )  # fmt: skip
    observed = (agree + contradict) > 0
    return float(((contradict > agree) & observed).sum() / max(observed.sum(), 1))


@dataclass(frozen=True)
class _Fine:
    """Both sides at the fine voxel, ready to be refined and compared."""

    target: Target
    moving: PointCloud
    painted: Painted | None
    voxel_mm: float
    within_mm: float  # how far two measurements of one place may lie apart

    def tight_share(self, motion: np.ndarray) -> float:
        return tight_share(self.target, self.moving, motion, self.voxel_mm, self.within_mm)


def verdict(
    fixed: Side, moving: Side, candidates: list[Candidate], targets: tuple[Target, Target], voxel: float,
    fine_mm: float, settings: FitSettings,
) -> FitResult:  # fmt: skip
    """Refine the best candidates, choose among them, and say whether the choice can be trusted."""
    m = targets[1].cloud
    # 1. Refine what scores nearly as well as the best, and turned objects about their axis.
    fine = _fine(fixed, moving, fine_mm, settings)
    close = [c for c in candidates if c.score >= settings.close_share * candidates[0].score][: settings.max_refined]
    refined = [(c, icp(fine.target, fine.moving, c.motion, 1.5 * voxel, 25, fine_mm)) for c in close]
    if constraint_strength(candidates[0].information, m) < settings.sweep_constraint_strength:
        refined += _swept(candidates[0], refined[0][1], fine, m, voxel, settings)
    # 2. Choose the one that lies tightest, and ask how nearly as well any other does.
    tight = [fine.tight_share(r.T_fixed_moving) for _, r in refined]
    order = np.argsort([-t for t in tight], kind="stable")
    best, result = refined[order[0]]
    share = tight[order[0]]
    centre = m.points.mean(axis=0)
    is_other = lambda T: not same_place(T, result.T_fixed_moving, centre, 4 * voxel)  # noqa: E731
    others = [tight[k] for k in order[1:] if is_other(refined[k][1].T_fixed_moving)]
    misfit = 1 - share + settings.least_misfit
    likeness = [misfit / (1 - t + settings.least_misfit) for t in others]
    # 3. Look for reasons against it.
    strength = constraint_strength(best.information, m)
    bare = fixed.scan is None or moving.scan is None
    doubts = _Doubts(
        rival=max(likeness, default=0.0),
        equals=sum(k > settings.max_rival for k in likeness),
        slides=strength < settings.min_constraint_strength and share < settings.tight_if_smooth,
        off=1 - share if share < (settings.min_tight_bare if bare else settings.min_tight) else 0.0,
        within_mm=fine.within_mm,
    )
    reason = _reason(best, doubts, settings)
    # 4. Where only the shape leaves it open, colour may tell.
    by = "no other fit as good"
    by_colour = False
    if fine.painted is not None and (doubts.equals or doubts.slides) and not _reason(best, doubts.of_shape(), settings):
        motions = [r.T_fixed_moving for _, r in refined]
        judge = lambda T: judged(fixed, moving, targets, T, voxel, settings)  # noqa: E731
        chosen = _by_colour(fine, motions, voxel, judge, settings)
        if chosen is not None:
            best, result, rival = chosen
            reason, by_colour, doubts = "", True, replace(doubts, rival=rival)
            by = f"told from {max(doubts.equals, 1)} alike by its colour"
    figures = FitFigures(
        overlap=best.overlap, rms_mm=result.rms_mm, free_space_violation=best.free_space_violation,
        rival=doubts.rival, constraint_strength=strength, by_colour=by_colour,
    )  # fmt: skip
    if reason:
        return RefusedFit(reason=reason, **vars(figures))
    words = f"common area {best.overlap:.0%}, residual {result.rms_mm:.3f} mm, {by}"
    return Fit(T_fixed_moving=result.T_fixed_moving, reason=words, **vars(figures))


def _fine(fixed: Side, moving: Side, fine_mm: float, settings: FitSettings) -> _Fine:
    f, m = thin(fixed.cloud, fine_mm), thin(moving.cloud, fine_mm)
    target = Target(f)
    painted = None if f.colours is None or m.colours is None else Painted(target, fine_mm)
    noise = max((side.scan.noise_mm for side in (fixed, moving) if side.scan is not None), default=0.0)
    # A small part of the relief, or the noise where that is more.
    within = max(settings.tight_share_of_voxel * fine_mm, settings.tight_noises * noise)
    return _Fine(target, m, painted, fine_mm, within)


def _by_colour(
    fine: _Fine,
    motions: list[np.ndarray],
    voxel: float,
    judge: Callable[[np.ndarray], Candidate],
    settings: FitSettings,
) -> tuple[Candidate, IcpResult, float] | None:
    """The fit that colour picks, judged anew by its shape, and how near the next one comes; None when it tells nothing."""
    found = told_apart_by_colour(fine.painted, fine.moving, motions, fine.voxel_mm, 4 * voxel)
    if found is None:
        return None
    again = judge(found.fit.T_fixed_moving)
    if _reason(again, _Doubts(within_mm=fine.within_mm), settings):
        return None
    return again, found.fit, found.rival


def constraint_strength(information: np.ndarray, cloud: PointCloud) -> float:
    """How strongly the weakest motion is held, as a share of the mean of all six."""
    eigen = np.linalg.eigvalsh(_scaled(information, extent_mm(cloud) / 2))
    return float(eigen[0] / max(eigen.sum() / 6, 1e-12))


def _swept(
    best: Candidate, start: IcpResult, fine: _Fine, m: PointCloud, voxel: float, settings: FitSettings
) -> list[tuple[Candidate, IcpResult]]:
    """Fits reached by turning about the axis that the shape holds least, as on a turned object.

    Of a painted one, those whose colours fit best among those whose shapes fit as well.
    """
    radius = extent_mm(m) / 2
    _, vectors = np.linalg.eigh(_scaled(best.information, radius))
    twist = vectors[:, 0] / np.array([radius] * 3 + [1.0] * 3)
    turn, slide = twist[:3], twist[3:]
    if np.linalg.norm(turn) * radius < np.linalg.norm(slide):
        return []
    centre = transform_points(best.motion, m.points).mean(axis=0)
    point = centre + np.cross(turn, slide) / (turn @ turn)
    fm, fine_mm = fine.moving, fine.voxel_mm
    chosen = np.random.default_rng(3).permutation(len(fm))[: settings.sweep_points]
    colours = None if fine.painted is None else fm.colours[chosen]
    sample = PointCloud(fm.points[chosen], fm.normals[chosen], colours)
    tried = []
    for angle in np.arange(settings.sweep_step_deg, 360, settings.sweep_step_deg):
        guess = about_axis(point, turn, np.radians(angle)) @ start.T_fixed_moving
        found = icp(fine.target, sample, guess, 0.7 * voxel, 12, fine_mm)
        within = settings.tight_share_of_voxel * fine_mm
        tried.append((tight_share(fine.target, sample, found.T_fixed_moving, fine_mm, within), found))
    tried.sort(key=lambda t: -t[0])
    if fine.painted is not None:
        alike = [t for t in tried if t[0] >= settings.max_rival * tried[0][0]]
        alike.sort(key=lambda t: -fine.painted.likeness(sample, t[1].T_fixed_moving, 1.5 * fine_mm)[0])
        tried = alike + tried
    kept: list[IcpResult] = []
    middle = m.points.mean(axis=0)
    for _, found in tried:
        if all(not same_place(found.T_fixed_moving, k.T_fixed_moving, middle, 4 * voxel) for k in kept):
            kept.append(found)
        if len(kept) == settings.sweep_kept:
            break
    full = [icp(fine.target, fm, k.T_fixed_moving, 2 * fine_mm, 15, fine_mm) for k in kept]
    return [(replace(best, motion=r.T_fixed_moving), r) for r in full]


def tight_share(target: Target, moving: PointCloud, motion: np.ndarray, voxel_mm: float, within_mm: float) -> float:
    """Share of the part of `moving` near the target that lies on it to `within_mm` along the normal."""
    away, cosine, _ = target.gaps(moving, motion, 1.5 * voxel_mm)
    near = np.isfinite(away) & (cosine > MIN_NEAR_COS)
    return float((near & (away < within_mm)).sum() / max(near.sum(), 1))


def _scaled(information: np.ndarray, radius: float) -> np.ndarray:
    """Information with rotations measured as the arc at `radius`, so that mm compare with mm."""
    scale = np.diag([1 / radius] * 3 + [1.0] * 3)
    return scale @ information @ scale


@dataclass(frozen=True, kw_only=True)
class _Doubts:
    """What may speak against the best candidate beside its own figures.

    rival and equals: the likeness of the next fit, and how many fit as well; slides says that the shape holds some
    motion too little for the misfit there is; off is the share of the common area that lies more than within_mm apart,
    where that is too much.
    """

    within_mm: float
    rival: float = 0.0
    equals: int = 0
    slides: bool = False
    off: float = 0.0

    def of_shape(self) -> "_Doubts":
        """Without those that colour can lift."""
        return replace(self, rival=0.0, equals=0, slides=False)


def _reason(best: Candidate, doubts: _Doubts, settings: FitSettings) -> str:
    """Why the fit is refused, or empty."""
    if best.overlap < settings.min_overlap or not np.isfinite(best.rms_mm):
        return (
            f"common area {best.overlap:.0%}, a third is wanted: "
            "capture a side view that both passes share, or match points by hand"
        )
    if best.free_space_violation > settings.max_free_space_violation:
        return (
            f"the best fit puts {best.free_space_violation:.0%} of the surface where the other pass looked "
            "through: the passes may show different objects, or the stand is still in one of them"
        )
    if doubts.rival > settings.max_rival:
        return f"{doubts.equals + 1} turns fit equally well: add a marker or match a point by hand"
    if doubts.off:
        return (
            f"{doubts.off:.0%} of the common area lies more than {doubts.within_mm:.2g} mm apart, more than the noise "
            "explains: the surfaces are alike but not the same; match points by hand"
        )
    if doubts.slides:
        return "the common area is too smooth to hold the pass in place: match points by hand"
    return ""
