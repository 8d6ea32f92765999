"""A table of places that says at once which of some points is nearest, to the width of its cells.

For the first rounds of a registration, which move a body by more than that: one look takes a fraction of a search, and
places with nothing near are passed over as quickly as others.
"""

import numpy as np

from lucid_relic.geometry import _kernels

CELLS_OF_REACH = 3  # cells on either side of a point that it is entered in: partners are right to a third of the reach
FARTHEST = 1e30  # squared cells, of a cell that no point is entered in: loops of fast arithmetic must meet no infinity
MOST_CELLS = 4_000_000  # of a table: 32 MB while it is made


class NearestTable:
    """Which of points (n, 3) float32 is nearest to the middle of every cell within `reach_mm` of one."""

    def __init__(self, points: np.ndarray, reach_mm: float) -> None:
        self.cell = reach_mm / CELLS_OF_REACH
        self.low, size = _box(points, reach_mm)
        self.nearest = np.full(size, -1, np.int32)
        _kernels.enter_nearest(
            points, self.low, self.cell, CELLS_OF_REACH, np.full(size, FARTHEST, np.float32), self.nearest
        )

    @staticmethod
    def fits(points: np.ndarray, reach_mm: float) -> bool:
        """Whether the table would be small enough to be worth making."""
        return len(points) > 0 and float(np.prod(_box(points, reach_mm)[1], dtype=np.float64)) <= MOST_CELLS


def _box(points: np.ndarray, reach_mm: float) -> tuple[np.ndarray, np.ndarray]:
    """Where a table begins (mm), and its cells along each axis."""
    margin = reach_mm * (1 + 1 / CELLS_OF_REACH)
    low, high = points.min(axis=0).astype(np.float64) - margin, points.max(axis=0).astype(np.float64) + margin
    return low, np.ceil((high - low) / (reach_mm / CELLS_OF_REACH)).astype(np.int64) + 1
