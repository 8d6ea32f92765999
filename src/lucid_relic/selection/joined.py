"""What hangs together with a place."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.geometry.cells import Cells
from lucid_relic.geometry.topology import edge_table
from lucid_relic.types import TriangleMesh


class JoinedCells:
    """The cells of `gap_mm` that hang together with the one nearest to a place."""

    def __init__(self, points: np.ndarray, at: np.ndarray, gap_mm: float) -> None:
        self._cells = Cells(points, gap_mm)
        self._piece = self._cells.piece_of(at[None])[0]

    def holds(self, points: np.ndarray) -> np.ndarray:
        """(n,) bool: points (n, 3) that lie in these cells."""
        cell = self._cells.cell_of(points)
        inside = cell >= 0
        inside[inside] = self._cells.piece[cell[inside]] == self._piece
        return inside


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
