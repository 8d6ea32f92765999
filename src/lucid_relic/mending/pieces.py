"""Keeping the pieces of a mesh that belong to the object."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.types import TriangleMesh


def vertex_pieces(mesh: TriangleMesh) -> tuple[int, np.ndarray]:
    """How many pieces there are, and the piece (m,) of each face, joined through shared vertices."""
    n = len(mesh.vertices)
    sides = mesh.faces[:, [0, 1, 1, 2]].reshape(-1, 2)
    graph = coo_matrix((np.ones(len(sides), np.int8), (sides[:, 0], sides[:, 1])), shape=(n, n))
    count, labels = connected_components(graph, directed=False)
    return count, labels[mesh.faces[:, 0]]


def keep_largest(mesh: TriangleMesh) -> tuple[TriangleMesh, int]:
    """Only the piece with the largest area, and how many pieces were dropped."""
    if not len(mesh.faces):
        return mesh, 0
    _, piece = vertex_pieces(mesh)
    area = np.bincount(piece, np.linalg.norm(mesh.face_normals(), axis=1))
    found = int((np.bincount(piece) > 0).sum())
    return mesh.select_faces(piece == int(np.argmax(area))), found - 1


def keep_over(mesh: TriangleMesh, size_mm: float) -> tuple[TriangleMesh, int]:
    """The pieces whose box has a diagonal of `size_mm` or more, and how many were dropped."""
    if not len(mesh.faces):
        return mesh, 0
    _, piece = vertex_pieces(mesh)
    numbers, piece = np.unique(piece, return_inverse=True)
    if len(numbers) == 1 and np.linalg.norm(np.ptp(mesh.vertices, axis=0)) >= size_mm:
        return mesh, 0
    order = np.argsort(piece, kind="stable")
    starts = np.searchsorted(piece[order], np.arange(len(numbers)))
    low = np.minimum.reduceat(mesh.corners.min(axis=1)[order], starts)
    high = np.maximum.reduceat(mesh.corners.max(axis=1)[order], starts)
    large = np.linalg.norm(high - low, axis=1) >= size_mm
    return mesh.select_faces(large[piece]), int((~large).sum())
