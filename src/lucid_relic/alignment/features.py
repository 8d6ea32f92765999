"""Local descriptors and matching between two point sets.

Fast point feature histograms, Rusu et al. (2009), doi:10.1109/ROBOT.2009.5152473, at two radii.
"""

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.geometry.point_grid import PointGrid
from lucid_relic.types import PointCloud

RADII = (3.0, 6.0)  # in voxels
MUTUAL_RANK = 3  # as many as `_kernels.three_nearest` keeps
MAX_MATCHES = 2500  # their table of agreement is square: 6 MB; with 1600 part scans with a third in common were refused
ROWS = 256  # of the table of distances at once: 2 MB stay in the cache


def descriptors(cloud: PointCloud, voxel_mm: float) -> np.ndarray:
    """(n, 66) float32: FPFH of every point at both radii, each histogram summing to one."""
    around = PointGrid(cloud.points).around(RADII[-1] * voxel_mm)
    radii = np.array(RADII, np.float32) * np.float32(voxel_mm)
    simple = np.zeros((len(RADII), len(cloud), 3 * _kernels.ANGLE_BINS), np.float32)
    _kernels.spfh(cloud.points, cloud.normals, *around, radii, simple)
    out = np.empty((len(cloud), len(RADII) * simple.shape[2]), np.float32)
    _kernels.fpfh(simple, *around, radii, out)
    return out


def distinctiveness(features: np.ndarray) -> np.ndarray:
    """(n,) distance of each descriptor to the mean one; flat regions score low."""
    return np.linalg.norm(features - features.mean(axis=0), axis=1)


def match(fixed: np.ndarray, moving: np.ndarray) -> np.ndarray:
    """(k, 2) index pairs (fixed, moving) that are among each other's three nearest, best first."""
    squared = [(d**2).sum(axis=1) for d in (fixed, moving)]
    best = [np.full((len(d), MUTUAL_RANK), np.inf, np.float32) for d in (fixed, moving)]
    which = [np.full((len(d), MUTUAL_RANK), -1, np.int64) for d in (fixed, moving)]
    limits = np.full(len(moving), np.inf, np.float32)
    for first in range(0, len(fixed), ROWS):
        products = fixed[first : first + ROWS] @ moving.T
        _kernels.three_nearest(products, first, *squared, limits, best[0], which[0], best[1], which[1])
    a, b = np.repeat(np.arange(len(fixed)), MUTUAL_RANK), which[0].ravel()
    mutual = b >= 0
    mutual[mutual] = (which[1][b[mutual]] == a[mutual][:, None]).any(axis=1)
    away = best[0].ravel()[mutual]
    a, b = a[mutual], b[mutual]
    worth = np.sqrt(np.maximum(away, 0)) / (1e-6 + np.minimum(distinctiveness(fixed)[a], distinctiveness(moving)[b]))
    order = np.argsort(worth, kind="stable")[:MAX_MATCHES]
    return np.stack([a[order], b[order]], axis=1)
