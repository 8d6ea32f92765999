"""Find fit: place one point set on another from any position, with a verdict.

Coarse candidates from descriptors, each refined and then judged by how much surface they share and by
whether they put surface where the other side's frames looked through. The second-best distinct
candidate says whether the fit is the only one.
"""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.alignment.coarse import candidate_motions, same_place
from lucid_relic.alignment.features import descriptors, match
from lucid_relic.alignment.fit_result import FitResult, RefusedFit, Side
from lucid_relic.alignment.fit_settings import DEFAULT_SETTINGS, FitSettings
from lucid_relic.alignment.fit_verdict import Candidate, judged, verdict
from lucid_relic.alignment.icp import Target, icp
from lucid_relic.geometry.points import extent_mm, thin
from lucid_relic.geometry.rigid import about_axis, transform_points
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PointCloud


def find_fit(fixed: Side, moving: Side, progress: Progress, settings: FitSettings = DEFAULT_SETTINGS) -> FitResult:
    """Find T_fixed_moving from any position; never raises for a bad fit, it refuses with a reason."""
    fewest = min(len(fixed.cloud), len(moving.cloud))
    if fewest < settings.min_points:
        return RefusedFit(reason=f"one side has only {fewest} points, {settings.min_points} are wanted")
    # 1. Describe both sides at a common coarse voxel.
    extent = min(extent_mm(fixed.cloud), extent_mm(moving.cloud))
    spacing = max(_spacing(side.cloud, settings.spacing_sample) for side in (fixed, moving))
    voxel = max(extent / settings.coarse_divisions, settings.coarse_spacings * spacing)
    f, m = thin(fixed.cloud, voxel), thin(moving.cloud, voxel)
    progress(0.05, "Describing the shape")
    pairs = match(descriptors(f, voxel), descriptors(m, voxel))
    # 2. Motions that many matches agree on.
    progress(0.3, "Looking for fits")
    starts = candidate_motions(f, m, pairs, voxel)
    if not starts:
        return RefusedFit(reason="nothing on the two passes looks alike; are they the same object?")
    # 3. Refine and judge each, then the best one turned about.
    targets = Target(f), Target(m)
    part = part_of(progress, 0.4, 0.85)
    candidates: list[Candidate] = []
    for k, start in enumerate(starts):
        part(k / len(starts), f"Trying fit {k + 1} of {len(starts)}")
        result = icp(targets[0], m, start, 3 * voxel, settings.coarse_rounds, 1.2 * voxel)
        candidates.append(judged(fixed, moving, targets, result.T_fixed_moving, voxel, settings))
    candidates = _best_distinct(candidates, m, voxel)
    progress(0.85, "Trying the object turned about")
    for start in _half_turns(f, m, candidates[0].motion):
        result = icp(targets[0], m, start, 5 * voxel, settings.coarse_rounds, 1.2 * voxel)
        candidates.append(judged(fixed, moving, targets, result.T_fixed_moving, voxel, settings))
    candidates = _best_distinct(candidates, m, voxel)
    # 4. Refine finely and decide.
    progress(0.9, "Refining the fit")
    fine = max(voxel / 3, settings.fine_spacings * spacing)
    return verdict(fixed, moving, candidates, targets, voxel, fine, settings)


def _spacing(cloud: PointCloud, sample: int) -> float:
    """Median distance of a point to its nearest neighbour, from a seeded sample."""
    chosen = np.random.default_rng(2).permutation(len(cloud))[:sample]
    tree = cKDTree(cloud.points, compact_nodes=False, balanced_tree=False)
    distance, _ = tree.query(cloud.points[chosen], k=2, workers=-1)
    return float(np.median(distance[:, 1]))


def _best_distinct(candidates: list[Candidate], m: PointCloud, voxel: float) -> list[Candidate]:
    """Best first, leaving out those that end where a better one does."""
    centre = m.points.mean(axis=0)
    kept: list[Candidate] = []
    for next_best in sorted(candidates, key=lambda c: -c.score):
        if all(not same_place(next_best.motion, other.motion, centre, 4 * voxel) for other in kept):
            kept.append(next_best)
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
