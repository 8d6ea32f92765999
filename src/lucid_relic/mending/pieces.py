"""Keeping the pieces of a mesh that belong to the object."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.types import TriangleMesh


def vertex_pieces(mesh: TriangleMesh) -> tuple[int, np.ndarray]:
    """How many pieces there are, and the piece (m,) of each face, joined through shared vertices."""
    count, labels = _labels(mesh)
    return count, labels[mesh.faces[:, 0]]


def _labels(mesh: TriangleMesh) -> tuple[int, np.ndarray]:
    """How many pieces there are, and the piece (n,) of each vertex; one that no face uses is a piece of its own."""
    n = len(mesh.vertices)
    sides = mesh.faces[:, [0, 1, 1, 2]].reshape(-1, 2)
    graph = coo_matrix((np.ones(len(sides), np.int8), (sides[:, 0], sides[:, 1])), shape=(n, n))
    count, labels = connected_components(graph, directed=False)
    return count, labels


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
    _, labels = _labels(mesh)
    order = np.argsort(labels, kind="stable")
    starts = np.flatnonzero(np.diff(labels[order], prepend=-1))
    places = mesh.vertices[order]
    spans = np.maximum.reduceat(places, starts) - np.minimum.reduceat(places, starts)
    large = np.linalg.norm(spans, axis=1) >= size_mm
    piece = labels[mesh.faces[:, 0]]
    kept = large[piece]
    return (mesh, 0) if kept.all() else (mesh.select_faces(kept), len(np.unique(piece[~kept])))
