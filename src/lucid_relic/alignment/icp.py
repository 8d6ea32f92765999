"""Fine registration of two point sets: point-to-plane with a Geman-McClure kernel, coarse to fine."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.geometry.point_grid import Cells, PointGrid
from lucid_relic.geometry.rigid import small_motion, transform_points
from lucid_relic.types import PointCloud

MIN_NORMAL_COS = 0.6
BLOCK = 1024
ENOUGH = 4000
SHRINKING = 0.7  # of the iterations
SETTLED = 1e-3  # of the final reach: a smaller step changes nothing


@dataclass(frozen=True)
class IcpResult:
    """T_fixed_moving, share of moving points with a partner, rms of partners (mm), information (6, 6)."""

    T_fixed_moving: np.ndarray
    inlier_share: float
    rms_mm: float
    information: np.ndarray


class Target:
    """A point set with normals that others are laid onto; its grids are kept between calls."""

    def __init__(self, cloud: PointCloud) -> None:
        self.cloud = cloud
        self.grid = PointGrid(cloud.points)
        self._normals: dict[float, np.ndarray] = {}

    def near(self, reach_mm: float) -> tuple[Cells, np.ndarray]:
        """The grid for a reach, and the normals in its order."""
        cells = self.grid.cells(reach_mm)
        if cells.cell not in self._normals:
            self._normals[cells.cell] = np.ascontiguousarray(self.cloud.normals[cells.order], dtype=np.float32)
        return cells, self._normals[cells.cell]

    def gaps(self, moving: PointCloud, motion: np.ndarray, reach_mm: float) -> tuple[np.ndarray, ...]:
        """Of every moved point: mm along the normal to its nearest (inf without one), cosine, and its index."""
        cells, normals = self.near(reach_mm)
        n = len(moving)
        away, cosine = np.full(n, np.inf, np.float32), np.zeros(n, np.float32)
        index = np.full(n, -1, np.int64)
        _kernels.plane_gaps(
            moving.points, moving.normals, motion, *cells.arrays, normals, reach_mm, away, cosine, index
        )
        index[index >= 0] = cells.order[index[index >= 0]]
        return away, cosine, index


def icp(
    target: Target,
    moving: PointCloud,
    start: np.ndarray,
    reach_mm: float,
    iterations: int = 20,
    final_reach_mm: float | None = None,
) -> IcpResult:
    """Refine `start` (T_fixed_moving); the reach shrinks geometrically to `final_reach_mm` and stays there.

    While it shrinks an even share of the points is enough. Ends early when the last steps are nothing.
    """
    motion = start.astype(np.float64)
    last = final_reach_mm or reach_mm
    centre = transform_points(motion, moving.points).mean(axis=0).astype(np.float64)
    size = float(np.linalg.norm(np.ptp(moving.points, axis=0))) / 2
    share, rms, information = 0.0, float("inf"), np.zeros((6, 6))
    for k in range(iterations):
        reach = reach_mm * (last / reach_mm) ** min(k / max(SHRINKING * (iterations - 1), 1), 1.0)
        every = -(-len(moving) // ENOUGH) if reach > 1.05 * last else 1
        points, own = moving.points[::every], moving.normals[::every]
        cells, normals = target.near(reach)
        sums = np.zeros((-(-len(points) // BLOCK), 30))
        _kernels.plane_terms(
            points, own, motion, *cells.arrays, normals, reach, MIN_NORMAL_COS, reach / 3, centre, BLOCK, sums
        )
        total = sums.sum(axis=0)
        if total[27] < 6:
            break
        information = np.zeros((6, 6))
        information[np.triu_indices(6)] = total[:21]
        information = information + np.triu(information, 1).T
        damping = 1e-9 * np.trace(information) * np.eye(6)
        step = -np.linalg.solve(information + damping, total[21:27])
        move = small_motion(step)
        move[:3, 3] += centre - move[:3, :3] @ centre
        motion = move @ motion
        share, rms = float(total[27] / len(points)), float(np.sqrt(total[29] / total[28]))
        if reach < 1.05 * last and np.abs(step * [size, size, size, 1, 1, 1]).max() < SETTLED * last:
            break
    return IcpResult(motion, share, rms, information)
