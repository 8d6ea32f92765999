"""Local descriptors and matching between two point sets.

Fast point feature histograms, Rusu et al. (2009), doi:10.1109/ROBOT.2009.5152473, at two radii.
"""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.alignment import _kernels
from lucid_relic.types import PointCloud

RADII = (3.0, 6.0)  # in voxels
NEIGHBOURS = 120
MUTUAL_RANK = 3
MAX_MATCHES = 2500


def descriptors(cloud: PointCloud, voxel_mm: float) -> np.ndarray:
    """(n, 66) float32: FPFH of every point at both radii, each histogram summing to one."""
    tree = cKDTree(cloud.points)
    k = min(NEIGHBOURS, len(cloud))
    distances, neighbours = tree.query(cloud.points, k=k, distance_upper_bound=RADII[-1] * voxel_mm, workers=-1)
    parts = []
    for radius in RADII:
        r = radius * voxel_mm
        simple = np.zeros((len(cloud), 33))
        _kernels.spfh(cloud.points, cloud.normals, neighbours, distances, r, simple)
        full = np.zeros_like(simple)
        _kernels.fpfh(simple, neighbours, distances, r, full)
        parts.append(full / np.maximum(full.sum(axis=1, keepdims=True), 1e-9))
    return np.concatenate(parts, axis=1).astype(np.float32)


def distinctiveness(features: np.ndarray) -> np.ndarray:
    """(n,) distance of each descriptor to the mean one; flat regions score low."""
    return np.linalg.norm(features - features.mean(axis=0), axis=1)


def match(fixed: np.ndarray, moving: np.ndarray) -> np.ndarray:
    """(k, 2) index pairs (fixed, moving) that are among each other's nearest, best first."""
    squared = (fixed**2).sum(axis=1)[:, None] + (moving**2).sum(axis=1)[None] - 2.0 * (fixed @ moving.T)
    rank = min(MUTUAL_RANK, *squared.shape)
    forward = np.argpartition(squared, rank - 1, axis=1)[:, :rank]
    backward = np.argpartition(squared, rank - 1, axis=0)[:rank]
    chosen = np.zeros(squared.shape, bool)
    np.put_along_axis(chosen, forward, True, axis=1)
    mutual = np.zeros(squared.shape, bool)
    np.put_along_axis(mutual, backward, True, axis=0)
    a, b = np.nonzero(chosen & mutual)
    worth = np.sqrt(np.maximum(squared[a, b], 0)) / (
        1e-6 + np.minimum(distinctiveness(fixed)[a], distinctiveness(moving)[b])
    )
    order = np.argsort(worth, kind="stable")[:MAX_MATCHES]
    return np.stack([a[order], b[order]], axis=1)
