"""What hangs together with a place."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.geometry.topology import edge_table
from lucid_relic.types import TriangleMesh

LEAST_GAP_MM = 1e-3  # smaller gaps would need more cells than there are numbers for
HALF_SPAN = 1 << 20  # cells each way of the middle
# Half of the 26 cells around one; the others are found from their side.
HALF_AROUND = [(x, y, z) for x in (-1, 0, 1) for y in (-1, 0, 1) for z in (-1, 0, 1) if (x, y, z) > (0, 0, 0)]


class JoinedCells:
    """The cells of `gap_mm` that hang together with the one nearest to a place.

    Points in touching cells count as joined, so that a gap of up to one cell is bridged and one of two never is. Found
    on a thinned cloud it holds for every other sampling of the same surface: what is asked is a cell, not a point.
    """

    def __init__(self, points: np.ndarray, at: np.ndarray, gap_mm: float) -> None:
        self.gap = max(gap_mm, LEAST_GAP_MM)
        self.low = points.mean(axis=0) if len(points) else np.zeros(3)
        keys = np.unique(self._keys(points))
        if not len(keys):
            self.keys = keys
            return
        rows, columns = [], []
        for step in HALF_AROUND:
            beside = keys + _step(step)
            where = np.minimum(np.searchsorted(keys, beside), len(keys) - 1)
            hit = keys[where] == beside
            rows.append(np.flatnonzero(hit))
            columns.append(where[hit])
        r, c = np.concatenate(rows), np.concatenate(columns)
        graph = coo_matrix((np.ones(len(r), np.int8), (r, c)), shape=(len(keys),) * 2)
        _, label = connected_components(graph, directed=False)
        nearest = points[cKDTree(points).query(at)[1]]
        start = np.searchsorted(keys, self._keys(nearest[None])[0])
        self.keys = keys[label == label[start]]

    def _keys(self, points: np.ndarray) -> np.ndarray:
        cell = np.floor((points - self.low) / self.gap).astype(np.int64) + HALF_SPAN
        return (cell[:, 0] << 42) | (cell[:, 1] << 21) | cell[:, 2]

    def holds(self, points: np.ndarray) -> np.ndarray:
        """(n,) bool: points (n, 3) that lie in these cells."""
        if not len(self.keys):
            return np.zeros(len(points), np.bool_)
        asked = self._keys(points)
        where = np.minimum(np.searchsorted(self.keys, asked), len(self.keys) - 1)
        return np.asarray(self.keys[where] == asked)


def _step(step: tuple[int, int, int]) -> int:
    return (step[0] << 42) + (step[1] << 21) + step[2]


def joined_faces(mesh: TriangleMesh, at: np.ndarray, crease_deg: float) -> np.ndarray:
    """(m,) bool: triangles reached from the one nearest to a place over edges that bend by no more than `crease_deg`."""
    edges, _, side_edge = edge_table(mesh.faces)
    normals = mesh.face_normals()
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)
    owner = np.repeat(np.arange(len(mesh.faces)), 3)
    order = np.argsort(side_edge.ravel(), kind="stable")
    sides = side_edge.ravel()[order]
    pair = np.flatnonzero(sides[1:] == sides[:-1])
    a, b = owner[order][pair], owner[order][pair + 1]
    flat = np.einsum("ij,ij->i", normals[a], normals[b]) >= np.cos(np.radians(crease_deg)) - 1e-12
    graph = coo_matrix((np.ones(int(flat.sum()), np.int8), (a[flat], b[flat])), shape=(len(mesh.faces),) * 2)
    _, label = connected_components(graph, directed=False)
    start = cKDTree(mesh.face_centres()).query(at)[1]
    return np.asarray(label == label[start])
