"""How finely a pass was sampled."""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.memo import remembered
from lucid_relic.types import PassState

SLABS, SLAB_SHARE = 8, 0.15  # of a cloud that are asked for its spacing, and how much of it they hold
FEW_SAMPLES = 4  # a cloud of no more points than so many samples is asked as a whole


def pixel_spacing(scan: PassState) -> float:
    """Distance in mm between neighbouring pixels on the surface, in the middle used frame, or between points that came in.

    Raises `StepNotPossible` for a pass without frames or without any surface.
    """
    if scan.cloud is not None:
        return scan.cloud.spacing_mm
    return remembered(scan, "pixel_spacing", lambda: _pixel_spacing(scan))


def depth_noise(scan: PassState) -> float:
    """Scatter in mm of single depths about their surface: as it was found, else that of the middle used frame."""
    if scan.noise_mm > 0:
        return scan.noise_mm
    frames = scan.frames_used()
    if not len(frames):
        return 0.0
    return remembered(scan, "depth_noise", lambda: frame_map(scan, int(frames[len(frames) // 2])).noise_mm)


def nearest_spacing(points: np.ndarray, sample: int) -> float:
    """Median distance (mm) of points (n, 3) to their nearest other, from a seeded sample; inf of fewer than two.

    Of many points only some slabs are looked into, unless these turn out to be too thin to tell.
    """
    if len(points) <= FEW_SAMPLES * sample:
        return _nearest_other(points, points, sample)
    few = points[:: len(points) // sample]
    axis = int(np.argmax(np.ptp(few, axis=0)))
    low, high = np.percentile(few[:, axis], [1, 99])
    pitch = max(float(high - low) / SLABS, 1e-9)
    depth = np.mod(points[:, axis] - low, pitch) / (SLAB_SHARE * pitch)
    within, depth = points[depth < 1], depth[depth < 1]
    # Points near a side of their slab may have their nearest beyond it, so they are not asked.
    found = _nearest_other(within, within[(depth > 0.25) & (depth < 0.75)], sample)
    return found if found < 0.25 * SLAB_SHARE * pitch else _nearest_other(points, points, sample)


def _nearest_other(points: np.ndarray, asked: np.ndarray, sample: int) -> float:
    """Median distance of some of those asked, which are among the points, to the nearest other one."""
    if len(points) < 2 or not len(asked):
        return float("inf")
    chosen = np.random.default_rng(2).permutation(len(asked))[:sample]
    distance, _ = cKDTree(points, compact_nodes=False, balanced_tree=False).query(asked[chosen], k=2, workers=-1)
    return float(np.median(distance[:, 1]))


def _pixel_spacing(scan: PassState) -> float:
    frames = scan.frames_used()
    if not len(frames):
        raise StepNotPossible(f"“{scan.title}” has no frames in.")
    surface = frame_map(scan, int(frames[len(frames) // 2]))
    mask = surface.confidence > 0
    if not mask.any():
        raise StepNotPossible(f"“{scan.title}” has no usable surface: look at the working range and the exposure.")
    return float(np.median(surface.depth[mask])) / scan.camera.fx
