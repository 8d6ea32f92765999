"""Fine registration of two point sets: point-to-plane with a Geman-McClure kernel, coarse to fine.

With colour, the difference of the light joins in: a coloured surface also holds a body in the directions in which
its shape lets it slip (Park, Zhou & Koltun 2017, doi:10.1109/ICCV.2017.25).
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lucid_relic.alignment import _kernels
from lucid_relic.geometry.nearest_table import NearestTable
from lucid_relic.geometry.point_grid import Cells, PointGrid
from lucid_relic.geometry.points import voxel_keys
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.light.srgb import log_light
from lucid_relic.types import PointCloud

MIN_NORMAL_COS = 0.6  # partners face within 53°: both sides of a thin wall never meet
BLOCK = 1024  # points summed by one thread at a time, in an order that does not depend on how many threads there are
ENOUGH = 4000  # points while the distance still shrinks: more move the fit by less than the next step does
ENOUGH_AT_LAST = 12_000  # until the steps are nothing with so many
SHRINKING = 0.7  # of the iterations
LIGHT_SHARE = 0.3  # of the weight that makes light count as much as shape
TELLING_RATIO = 0.15  # natural logarithm: ratios of channels that spread less than this tell less than the light does
AROUND_SPACINGS = 8.0  # a cell of the light's surroundings: shading hardly changes in it, paint does
DAMPING = 1e-9  # of the information: what nothing holds stays where it is
SETTLED = 1e-3  # of the final distance: a smaller step changes nothing


@dataclass(frozen=True)
class IcpResult:
    """T_fixed_moving, share of moving points with a partner, rms of partners (mm), information (6, 6)."""

    T_fixed_moving: np.ndarray
    inlier_share: float
    rms_mm: float
    information: np.ndarray


def enough_of(cloud: PointCloud, most: int = ENOUGH) -> PointCloud:
    """An even share of a cloud's points, `most` at the most."""
    return cloud.every(-(-len(cloud) // most))


class Target:
    """A point set with normals that others are laid onto; its grids are kept between calls."""

    def __init__(self, cloud: PointCloud) -> None:
        self.cloud = cloud
        self.grid = PointGrid(cloud.points)
        self._normals: dict[float, np.ndarray] = {}
        self._rough: dict[float, tuple[PointCloud, NearestTable] | None] = {}

    def near(self, max_dist: float) -> tuple[Cells, np.ndarray]:
        """The grid for a greatest distance (mm), and the normals in its order."""
        cells = self.grid.cells(max_dist)
        if cells.cell not in self._normals:
            self._normals[cells.cell] = np.ascontiguousarray(self.cloud.normals[cells.order], dtype=np.float32)
        return cells, self._normals[cells.cell]

    def rough(self, reach_mm: float) -> tuple[PointCloud, NearestTable] | None:
        """An even share of the points with the table of the nearest of them; None where that would be too large."""
        if reach_mm not in self._rough:
            some = enough_of(self.cloud)
            fits = NearestTable.fits(some.points, reach_mm)
            self._rough[reach_mm] = (some, NearestTable(some.points, reach_mm)) if fits else None
        return self._rough[reach_mm]

    def gaps(self, moving: PointCloud, motion: np.ndarray, max_dist: float) -> tuple[np.ndarray, ...]:
        """Of every moved point: mm along the normal to its nearest (inf without one), cosine, and its index."""
        cells, normals = self.near(max_dist)
        n = len(moving)
        away, cosine = np.full(n, np.inf, np.float32), np.zeros(n, np.float32)
        index = np.full(n, -1, np.int64)
        _kernels.plane_gaps(
            moving.points, moving.normals, motion, *cells.arrays, normals, max_dist, away, cosine, index
        )
        index[index >= 0] = cells.order[index[index >= 0]]
        return away, cosine, index


def _telling_channels(logs: np.ndarray) -> np.ndarray:
    """(3,) float32 weights of the channels' logarithms (n, 3): the ratio that tells most, or the mean where none does.

    A ratio of channels is the same in any light; the mean of them changes with the slant to the lamps.
    """
    ratios = logs[:, [0, 2]] - logs[:, 1:2]
    spread, direction = np.linalg.eigh(np.cov(ratios.T)) if len(logs) > 1 else (np.zeros(2), np.eye(2))
    if spread[1] < TELLING_RATIO**2:
        return np.full(3, 1 / 3, np.float32)
    r, b = direction[:, 1]
    return np.array([r, -r - b, b], np.float32)


class Painted:
    """The light of a coloured target (weighted logarithms of its channels) and how it changes over the surface."""

    def __init__(self, target: Target, spacing_mm: float) -> None:
        self.target = target
        self.logs = log_light(target.cloud.colours)
        self.channels = _telling_channels(self.logs)
        self.light = self.logs @ self.channels
        _, self.cell = np.unique(voxel_keys(target.cloud.points, AROUND_SPACINGS * spacing_mm), return_inverse=True)
        self.spacing_mm = spacing_mm

    @cached_property
    def gradient(self) -> np.ndarray:
        """(n, 3) float32 change of the light per mm."""
        cloud, out = self.target.cloud, np.zeros((len(self.target.cloud), 3), np.float32)
        around = self.target.grid.around(2.5 * self.spacing_mm)
        _kernels.light_gradients(cloud.points, cloud.normals, self.light, *around, out)
        return out

    def likeness(self, moving: PointCloud, motion: np.ndarray, max_dist: float) -> tuple[float, float]:
        """Correlation (to 1) of the paint where both are, and how far it spreads there (natural logarithm).

        Paint is what lamps and slant do not change: two ratios of channels, and the light less that of its surroundings.
        """
        _, cosine, index = self.target.gaps(moving, motion, max_dist)
        ok = (index >= 0) & (cosine > MIN_NORMAL_COS)
        if ok.sum() < 6:
            return 0.0, 0.0
        here, there = (self._paint(logs, index[ok]) for logs in (log_light(moving.colours[ok]), self.logs[index[ok]]))
        norms = float(np.sqrt((here**2).sum() * (there**2).sum()))
        spread = float(np.sqrt(min((here**2).mean(), (there**2).mean())))
        return float((here * there).sum()) / max(norms, 1e-12), spread

    def _paint(self, logs: np.ndarray, index: np.ndarray) -> np.ndarray:
        """(n, 3) red and blue over green less their means, and the light less that of the target's cell around `index`."""
        light, cell = logs.mean(axis=1), self.cell[index]
        around = np.bincount(cell, light) / np.maximum(np.bincount(cell), 1)
        ratios = logs[:, [0, 2]] - logs[:, 1:2]
        return np.column_stack([ratios - ratios.mean(axis=0), light - around[cell]])

    def add_terms(
        self, moving: PointCloud, motion: np.ndarray, max_dist: float, centre: np.ndarray, sums: np.ndarray
    ) -> None:
        """Add the terms of the light's differences to those of the shape."""
        cells, normals = self.target.near(max_dist)
        light = log_light(moving.colours) @ self.channels
        _, cosine, index = self.target.gaps(moving, motion, max_dist)
        ok = (index >= 0) & (cosine > MIN_NORMAL_COS)
        offset = float(np.median(light[ok] - self.light[index[ok]])) if ok.any() else 0.0
        factor = (LIGHT_SHARE * max_dist / 3 / _kernels.LIGHT_SCALE) ** 2
        _kernels.light_terms(
            moving.points, moving.normals, light, motion, *cells.arrays, normals, self.light[cells.order],
            self.gradient[cells.order], max_dist, MIN_NORMAL_COS, offset, factor, centre, BLOCK, sums,
        )  # fmt: skip


def icp(
    target: Target,
    moving: PointCloud,
    start: np.ndarray,
    max_correspondence_distance: float,
    iterations: int = 20,
    final_correspondence_distance: float | None = None,
    painted: Painted | None = None,
) -> IcpResult:
    """Refine `start` (T_fixed_moving).

    The greatest distance of partners (mm) shrinks geometrically to `final_correspondence_distance` and stays there.

    While it shrinks an even share of the points is enough, and rough partners; then a larger share, and all of them for
    the last steps. Ends early when these are nothing.
    painted is the target's light, for coloured points.
    """
    motion = start.astype(np.float64)
    last = final_correspondence_distance or max_correspondence_distance
    some, most = enough_of(moving), enough_of(moving, ENOUGH_AT_LAST)
    centre = transform_points(motion, some.points).mean(axis=0).astype(np.float64)
    size = float(np.linalg.norm(np.ptp(some.points, axis=0))) / 2
    arcs = np.array([size, size, size, 1.0, 1.0, 1.0])
    settled = False
    share, rms, information, step = 0.0, float("inf"), np.zeros((6, 6)), np.zeros(6)
    for k in range(iterations):
        shrunk = min(k / max(SHRINKING * (iterations - 1), 1), 1.0)
        max_dist = max_correspondence_distance * (last / max_correspondence_distance) ** shrunk
        ending = max_dist <= 1.05 * last
        part = some if not ending else moving if settled or k >= iterations - 2 else most
        sums = np.zeros((-(-len(part) // BLOCK), 30))
        asked = part.points, part.normals, motion
        how = max_dist, MIN_NORMAL_COS, max_dist / 3, centre, BLOCK, sums
        rough = None if ending else target.rough(max_correspondence_distance)
        if rough is None:
            cells, normals = target.near(max_dist)
            _kernels.plane_terms(*asked, *cells.arrays, normals, *how)
        else:
            fixed, table = rough
            _kernels.rough_plane_terms(*asked, fixed.points, fixed.normals, table.low, table.cell, table.nearest, *how)
        if painted is not None:
            painted.add_terms(part, motion, max_dist, centre, sums)
        partners, weight, squares = _kernels.move_by_terms(sums, DAMPING, centre, motion, information, step)
        if partners < 6:
            break
        share, rms = partners / len(part), float(np.sqrt(squares / weight))
        if ending and np.abs(step * arcs).max() < SETTLED * last:
            if len(part) == len(moving):
                break
            settled = True
    return IcpResult(motion, share, rms, information)
