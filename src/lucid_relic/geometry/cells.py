"""What hangs together: points in touching cells of a grid."""

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.geometry.points import voxel_keys

LEAST_GAP_MM = 1e-3  # smaller gaps would need more cells than there are numbers for
# Half of the 26 cells around one; the others are found from their side.
HALF_AROUND = [(x, y, z) for x in (-1, 0, 1) for y in (-1, 0, 1) for z in (-1, 0, 1) if (x, y, z) > (0, 0, 0)]


AROUND = 32  # neighbours of a point whose circle tells how densely they lie
SAMPLE = 2000


class Cells:
    """The cells of `gap_mm` that points (n, 3) lie in, and which of them hang together.

    Points in touching cells count as joined, so that a gap of up to one cell is bridged and one of two never is. Found
    on a thinned cloud it holds for every other sampling of the same surface: what is asked is a cell, not a point.
    keys (c,) are sorted; piece (c,) numbers the piece that a cell belongs to.
    """

    def __init__(self, points: np.ndarray, gap_mm: float) -> None:
        self.gap = max(gap_mm, LEAST_GAP_MM)
        self._points = points
        self._low = points.mean(axis=0) if len(points) else np.zeros(3)
        self.keys = np.unique(self._keys_of(points))
        self.pieces, self.piece = self._joined()

    def cell_of(self, points: np.ndarray) -> np.ndarray:
        """(m,) which of the cells points (m, 3) lie in, -1 for none."""
        if not len(self.keys):
            return np.full(len(points), -1)
        asked = self._keys_of(points)
        where = np.minimum(np.searchsorted(self.keys, asked), len(self.keys) - 1)
        return np.where(self.keys[where] == asked, where, -1)

    def piece_of(self, points: np.ndarray) -> np.ndarray:
        """(m,) the pieces that points (m, 3) belong to; those in no cell go with the nearest point, -1 without any."""
        cell = self.cell_of(points)
        away = np.flatnonzero(cell < 0)
        if not len(self.keys):
            return cell
        if len(away):
            cell[away] = self.cell_of(self._points[self._tree.query(points[away])[1]])
        return self.piece[cell]

    @cached_property
    def _tree(self) -> cKDTree:
        return cKDTree(self._points)

    def _joined(self) -> tuple[int, np.ndarray]:
        keys = self.keys
        if not len(keys):
            return 0, np.zeros(0, np.int32)
        rows, columns = [], []
        for step in HALF_AROUND:
            beside = keys + _step(step)
            where = np.minimum(np.searchsorted(keys, beside), len(keys) - 1)
            hit = keys[where] == beside
            rows.append(np.flatnonzero(hit))
            columns.append(where[hit])
        r, c = np.concatenate(rows), np.concatenate(columns)
        graph = coo_matrix((np.ones(len(r), np.int8), (r, c)), shape=(len(keys),) * 2)
        count, piece = connected_components(graph, directed=False)
        return int(count), piece

    def _keys_of(self, points: np.ndarray) -> np.ndarray:
        return voxel_keys(points - self._low, self.gap)


def _step(step: tuple[int, int, int]) -> int:
    return (step[0] << 42) + (step[1] << 21) + step[2]


def area_per_point(points: np.ndarray) -> float:
    """Usual mm² of surface for each of points (n, 3) spread evenly over it, from the circles that hold their neighbours."""
    if len(points) <= AROUND:
        return 0.0
    some = points[np.random.default_rng(4).permutation(len(points))[:SAMPLE]]
    away, _ = cKDTree(points, compact_nodes=False, balanced_tree=False).query(some, k=AROUND + 1, workers=-1)
    return float(np.median(np.pi * away[:, AROUND] ** 2) / AROUND)


def shared_areas(clouds: Sequence[np.ndarray], cell_mm: float) -> np.ndarray:
    """mm² of surface that each point of several clouds (n, 3), one after the other, stands for.

    Where several clouds have points in a cell of that side, they share its surface.
    """
    if not clouds:
        return np.zeros(0)
    owner = np.repeat(np.arange(len(clouds)), [len(c) for c in clouds])
    area = np.array([area_per_point(c) for c in clouds])[owner]
    if len(clouds) == 1:
        return area
    cell = np.unique(voxel_keys(np.concatenate(clouds), cell_mm), return_inverse=True)[1]
    there = np.unique(cell * len(clouds) + owner) // len(clouds)
    return np.asarray(area / np.bincount(there, minlength=cell.max(initial=0) + 1)[cell])
