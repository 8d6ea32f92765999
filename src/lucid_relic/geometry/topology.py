"""How the faces of a mesh hang together: edges, fans around vertices."""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.types import TriangleMesh


def edge_table(faces: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Unique undirected edges (e, 2), how many faces use each (e,), and (m, 3) edge of each side."""
    sides = np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2)
    sides = np.sort(sides, axis=1).astype(np.int64)
    keys = sides[:, 0] << 32 | sides[:, 1]
    unique, inverse, counts = np.unique(keys, return_inverse=True, return_counts=True)
    edges = np.stack([unique >> 32, unique & 0xFFFFFFFF], axis=1)
    return edges, counts, inverse.reshape(-1, 3)


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
    sides = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1).astype(np.int64)
    keys = sides[:, 0] << 32 | sides[:, 1]
    order = np.argsort(keys, kind="stable")
    pair = np.flatnonzero(keys[order][1:] == keys[order][:-1])
    return order[pair], order[pair + 1]


def corner_fans(faces: np.ndarray, over: np.ndarray | None = None) -> np.ndarray:
    """(m, 3) number of the fan that each corner belongs to; corners of one vertex in two fans differ.

    A fan goes round over the sides in over (m, 3) bool only, over all when left out.
    """
    m = len(faces)
    if not m:
        return np.empty((0, 3), np.int64)
    a, b = side_pairs(faces)
    if over is not None:
        both = over.ravel()[a] & over.ravel()[b]
        a, b = a[both], b[both]
    fa, fb, ka, kb = a // 3, b // 3, a % 3, b % 3
    rows, columns = [], []
    for end in (0, 1):
        mine = fa * 3 + (ka + end) % 3
        vertex = faces[fa, (ka + end) % 3]
        other = np.where(faces[fb, kb] == vertex, fb * 3 + kb, fb * 3 + (kb + 1) % 3)
        rows.append(mine)
        columns.append(other)
    r, c = np.concatenate(rows), np.concatenate(columns)
    graph = coo_matrix((np.ones(len(r), np.int8), (r, c)), shape=(3 * m, 3 * m))
    return connected_components(graph, directed=False)[1].reshape(m, 3)


def split_fans(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh with every vertex that joins several fans split, so that it is vertex-manifold.

    Faces keep their order; the first fan of a vertex keeps its index, others get new ones at the end.
    """
    if not len(mesh.faces):
        return mesh
    fan = corner_fans(mesh.faces).ravel()
    vertex = mesh.faces.ravel()
    keys = np.unique(vertex.astype(np.int64) << 32 | fan)
    pairs = np.stack([keys >> 32, keys & 0xFFFFFFFF], axis=1)
    extra = np.flatnonzero(np.concatenate([[False], pairs[1:, 0] == pairs[:-1, 0]]))
    if not len(extra):
        return mesh
    new_index = np.full(fan.max() + 1, -1)
    new_index[pairs[extra, 1]] = len(mesh.vertices) + np.arange(len(extra))
    moved = new_index[fan]
    faces = np.where(moved >= 0, moved, vertex).reshape(-1, 3).astype(np.int32)
    source = pairs[extra, 0]
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
