"""Find fit: place one point set on another from any position, with a verdict.

Coarse candidates from descriptors, each refined and ranked by how much surface it shares; which of them
and of their rivals is right, and whether it can be trusted, is for `fit_verdict`.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment.coarse import candidate_motions, same_place
from lucid_relic.alignment.features import descriptors, match
from lucid_relic.alignment.fit_result import FitResult, RefusedFit, Side
from lucid_relic.alignment.fit_settings import DEFAULT_SETTINGS, FitSettings
from lucid_relic.alignment.fit_verdict import against, verdict
from lucid_relic.alignment.icp import Target, enough_of, icp
from lucid_relic.alignment.rivals import half_turns
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import inverse
from lucid_relic.geometry.spacing import nearest_spacing
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PointCloud

MIN_COMMON_COS, MAX_COMMON_VOXELS = 0.7, 0.6  # a common place faces the same way and lies within this of the other side


def find_fit(fixed: Side, moving: Side, progress: Progress, settings: FitSettings = DEFAULT_SETTINGS) -> FitResult:
    """Find T_fixed_moving from any position; never raises for a bad fit, it refuses with a reason."""
    fewest = min(len(fixed.cloud), len(moving.cloud))
    if fewest < settings.min_points:
        return RefusedFit(reason=f"one side has only {fewest} points, {settings.min_points} are wanted")
    # 1. Describe both sides at a common coarse voxel.
    voxel, fine = _voxels(fixed, moving, settings)
    f, m = thin(fixed.cloud, voxel), thin(moving.cloud, voxel)
    progress(0.05, "Describing the shape")
    pairs = match(descriptors(f, voxel), descriptors(m, voxel))
    # 2. Motions that many matches agree on.
    progress(0.3, "Looking for fits")
    starts = candidate_motions(f, m, pairs, voxel)
    if not starts:
        return RefusedFit(reason="nothing on the two passes looks alike; are they the same object?")
    # 3. Refine and rank each, then the best one turned about.
    targets = Target(f), Target(m)
    part = part_of(progress, 0.4, 0.75)
    candidates: list[_Candidate] = []
    for k, start in enumerate(starts):
        part(k / len(starts), f"Trying fit {k + 1} of {len(starts)}")
        candidates.append(_refined(targets, start, 3 * voxel, voxel, settings))
    candidates = _best_distinct(candidates, m, voxel)
    progress(0.75, "Trying the object turned about")
    both = np.concatenate([f.points, m.transformed(candidates[0].motion).points])
    for start in half_turns(both, candidates[0].motion):
        candidates.append(_refined(targets, start, 5 * voxel, voxel, settings))
    candidates = _best_distinct(candidates, m, voxel)
    # 4. Refine finely and decide.
    progress(0.8, "Comparing with whatever else fits")
    close = [c.motion for c in candidates if c.overlap >= settings.close_share * candidates[0].overlap]
    return verdict(fixed, moving, close[: settings.max_refined], targets, voxel, fine, settings)


def contradiction(
    fixed: Side, moving: Side, T_fixed_moving: np.ndarray, settings: FitSettings = DEFAULT_SETTINGS
) -> str:
    """What speaks against a motion that was found by other means, in words; empty when nothing does.

    How much the two have in common is not asked: passes of different sides may share nothing.
    """
    if min(len(fixed.cloud), len(moving.cloud)) < settings.min_points:
        return ""
    return against(fixed, moving, T_fixed_moving, *_voxels(fixed, moving, settings), settings)


def _voxels(fixed: Side, moving: Side, settings: FitSettings) -> tuple[float, float]:
    """The coarse and the fine voxel (mm) for two sides."""
    extent = min(extent_mm(fixed.cloud), extent_mm(moving.cloud))
    spacing = max(nearest_spacing(side.cloud.points, settings.spacing_sample) for side in (fixed, moving))
    voxel = max(extent / settings.coarse_divisions, settings.coarse_spacings * spacing)
    return voxel, max(voxel / 3, settings.fine_spacings * spacing)


@dataclass(frozen=True)
class _Candidate:
    """A motion T_fixed_moving, and the share (0-1) of the smaller side that lies on the other."""

    motion: np.ndarray
    overlap: float


def _refined(
    targets: tuple[Target, Target], start: np.ndarray, reach_mm: float, voxel: float, settings: FitSettings
) -> _Candidate:
    """Refine a start on both sides thinned to `voxel` mm."""
    f, m = (t.cloud for t in targets)
    motion = icp(targets[0], enough_of(m), start, reach_mm, settings.coarse_rounds, 1.2 * voxel).T_fixed_moving
    return _Candidate(
        motion, max(_common(targets[0], m, motion, voxel), _common(targets[1], f, inverse(motion), voxel))
    )


def _common(fixed: Target, moving: PointCloud, motion: np.ndarray, voxel: float) -> float:
    """Share of `moving` that lies on `fixed`."""
    away, cosine, _ = fixed.gaps(moving, motion, 1.5 * voxel)
    return float(((cosine > MIN_COMMON_COS) & (away < MAX_COMMON_VOXELS * voxel)).mean())


def _best_distinct(candidates: list[_Candidate], m: PointCloud, voxel: float) -> list[_Candidate]:
    """Best first, leaving out those that end where a better one does."""
    centre = m.points.mean(axis=0)
    kept: list[_Candidate] = []
    for next_best in sorted(candidates, key=lambda c: -c.overlap):
        if all(not same_place(next_best.motion, other.motion, centre, 4 * voxel) for other in kept):
            kept.append(next_best)
    return kept
