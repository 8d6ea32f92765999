"""Points in a hashed grid of cells: nearest neighbours within a distance, and all neighbours of a radius.

For the nearest, cells are twice as wide as that distance, so that the eight cells around a place hold all that can be
near it; for all neighbours as wide as the radius, since the 27 cells around then hold fewer points in vain.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry import _kernels

LEAST_CELL_MM = 1e-6  # smaller cells would overflow their keys


@dataclass(frozen=True)
class Cells:
    """One grid: points (n, 3) float32 ordered by cell, where they stood before, and the table of the cells.

    The loops in `geometry._kernels` take the fields as `arrays`.
    """

    points: np.ndarray
    order: np.ndarray
    low: np.ndarray
    cell: float
    table: np.ndarray
    start: np.ndarray
    end: np.ndarray

    @property
    def arrays(self) -> tuple[np.ndarray, np.ndarray, float, np.ndarray, np.ndarray, np.ndarray]:
        return self.points, self.low, self.cell, self.table, self.start, self.end


class PointGrid:
    """Grids over points (n, 3), made when a distance first asks for them; distances are rounded up to powers of √2."""

    def __init__(self, points: np.ndarray) -> None:
        self.points = np.ascontiguousarray(points, dtype=np.float32)
        self._made: dict[int, Cells] = {}

    def cells(self, max_distance_mm: float) -> Cells:
        """The grid for neighbours up to `max_distance_mm` away."""
        level = int(np.ceil(2 * np.log2(max(max_distance_mm, LEAST_CELL_MM)) - 1e-9))
        if level not in self._made:
            self._made[level] = self._sorted(2.0 * 2.0 ** (level / 2))
        return self._made[level]

    def _sorted(self, cell: float) -> Cells:
        low = self.points.min(axis=0).astype(np.float64) - cell if len(self.points) else np.zeros(3)
        place = ((self.points - low) / cell).astype(np.int64)
        keys = (place[:, 0] << 42) | (place[:, 1] << 21) | place[:, 2]
        order = np.argsort(keys, kind="stable")
        keys = keys[order]
        first = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]])) if len(keys) else np.empty(0, np.int64)
        slots = 1 << max(int(np.ceil(np.log2(max(2 * len(first), 2)))), 1)
        table, start, end = np.zeros(slots, np.int64), np.zeros(slots, np.int32), np.zeros(slots, np.int32)
        _kernels.fill_cells(keys, first, table, start, end)
        return Cells(self.points[order], order, low, cell, table, start, end)

    def around(self, radius_mm: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """All neighbours of every point: begin (n + 1,), and per neighbour its index and distance (mm)."""
        cells = self._sorted(radius_mm)
        count = np.zeros(len(self.points), np.int64)
        begin = np.zeros(len(self.points) + 1, np.int64)
        _kernels.count_around(self.points, *cells.arrays, radius_mm, count)
        begin[1:] = np.cumsum(count)
        index, distance = np.empty(begin[-1], np.int32), np.empty(begin[-1], np.float32)
        _kernels.neighbours_around(self.points, *cells.arrays, cells.order, radius_mm, begin, index, distance)
        return begin, index, distance
