"""How the faces of a mesh hang together: edges, fans around vertices."""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.geometry import _face_kernels
from lucid_relic.types import TriangleMesh


def _ordered(faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The faces as loops want them, and their sides (3m,), as face·3 + side, in the order of their ends."""
    faces = np.ascontiguousarray(faces, dtype=np.int32)
    order = np.empty(3 * len(faces), np.int64)
    _face_kernels.side_order(faces, int(faces.max(initial=-1)) + 1, order)
    return faces, order


def edge_table(faces: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Unique undirected edges (e, 2), how many faces use each (e,), and (m, 3) edge of each side."""
    faces, order = _ordered(faces)
    most = len(order)
    edges, counts, edge_of = np.empty((most, 2), np.int64), np.empty(most, np.int64), np.empty(faces.shape, np.int64)
    count = _face_kernels.number_sides(faces, order, edges, counts, edge_of)
    return edges[:count], counts[:count], edge_of


def face_components(faces: np.ndarray) -> tuple[int, np.ndarray]:
    """How many pieces connected by edges there are, and the piece (m,) of each face."""
    if not len(faces):
        return 0, np.empty(0, np.int32)
    edges, _, side_edge = edge_table(faces)
    m = len(faces)
    rows = np.repeat(np.arange(m), 3)
    graph = coo_matrix((np.ones(3 * m, np.int8), (rows, m + side_edge.ravel())), shape=(m + len(edges),) * 2)
    _, labels = connected_components(graph, directed=False)
    _, faces_label = np.unique(labels[:m], return_inverse=True)
    return int(faces_label.max()) + 1, faces_label


def side_pairs(faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Sides (k,), (k,) that lie on each other, as face·3 + side; of more than two the first in a row."""
    faces, order = _ordered(faces)
    first, second = np.empty_like(order), np.empty_like(order)
    count = _face_kernels.pair_sides(faces, order, first, second)
    return first[:count], second[:count]


def corner_fans(faces: np.ndarray, over: np.ndarray | None = None) -> np.ndarray:
    """(m, 3) number of the fan that each corner belongs to; corners of one vertex in two fans differ.

    A fan goes round over the sides in over (m, 3) bool only, over all when left out. Fans are numbered by their first
    corner.
    """
    faces = np.ascontiguousarray(faces, dtype=np.int32)
    a, b = side_pairs(faces)
    if over is not None:
        both = over.ravel()[a] & over.ravel()[b]
        a, b = a[both], b[both]
    fan = np.empty(3 * len(faces), np.int64)
    _face_kernels.join_corners(faces, a, b, fan)
    return fan.reshape(len(faces), 3)


def split_fans(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh with every vertex that joins several fans split, so that it is vertex-manifold.

    Faces keep their order; the first fan of a vertex keeps its index, others get new ones at the end.
    """
    if not len(mesh.faces):
        return mesh
    fan, vertex = corner_fans(mesh.faces).ravel(), mesh.faces.ravel()
    of = np.empty(int(fan.max()) + 1, np.int64)
    of[fan] = vertex
    order = np.argsort(of, kind="stable")
    extra = order[1:][of[order[1:]] == of[order[:-1]]]
    if not len(extra):
        return mesh
    new_index = np.full(len(of), -1)
    new_index[extra] = len(mesh.vertices) + np.arange(len(extra))
    moved = new_index[fan]
    faces = np.where(moved >= 0, moved, vertex).reshape(-1, 3).astype(np.int32)
    source = of[extra]
    colours = None if mesh.colours is None else np.concatenate([mesh.colours, mesh.colours[source]])
    return replace(mesh, vertices=np.concatenate([mesh.vertices, mesh.vertices[source]]), faces=faces, colours=colours)


def consistently_oriented(faces: np.ndarray) -> bool:
    """True when no directed edge is used twice."""
    sides = np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2).astype(np.int64)
    keys = sides[:, 0] << 32 | sides[:, 1]
    return len(np.unique(keys)) == len(keys)


def is_watertight(faces: np.ndarray, counts: np.ndarray) -> bool:
    """The one rule: every edge has two triangles (counts (e,) of `edge_table`), and they run through it opposite ways."""
    return len(counts) > 0 and bool((counts == 2).all()) and consistently_oriented(faces)
