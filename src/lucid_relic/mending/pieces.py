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
