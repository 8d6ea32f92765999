"""Relaxing triangles that cross each other apart, so that a closed mesh bounds a solid.

Where two sheets come closer than a simplification allows for, a few triangles may pass through each
other. Their vertices are drawn towards the middle of their neighbours, step by step and no farther than
a small part of the neighbouring edges, until nothing crosses.
"""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.spatial import cKDTree

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.types import TriangleMesh

ROUNDS = 12
PULL = 0.35
WIDEN_EVERY = 4
REACH = 8.0  # in the longest side of a crossing triangle


def untangled(mesh: TriangleMesh) -> TriangleMesh:
    """The mesh without crossing triangles where relaxing can part them; same faces, same order."""
    if not len(mesh.faces):
        return mesh
    crossing = TriangleTree(mesh).crossing_faces()
    if not len(crossing):
        return mesh
    n = len(mesh.vertices)
    i, j = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    links = coo_matrix((np.ones(len(i), np.float32), (i, j)), shape=(n, n)).tocsr()
    links = ((links + links.T) > 0).astype(np.float32)
    border = _border_vertices(mesh.faces)
    vertices = mesh.vertices.astype(np.float64)
    near = _faces_near(mesh, crossing)
    part = TriangleMesh(mesh.vertices, mesh.faces[near])
    best, fewest = mesh, len(crossing)
    for attempt in range(ROUNDS):
        moving = np.unique(mesh.faces[crossing])
        for _ in range(attempt // WIDEN_EVERY):
            moving = np.unique(links[moving].indices)
        moving = np.setdiff1d(moving, border)
        rows = links[moving]
        middle = (rows @ vertices) / np.maximum(np.diff(rows.indptr), 1)[:, None]
        vertices[moving] += PULL * (middle - vertices[moving])
        moved = vertices.astype(np.float32)
        crossing = near[TriangleTree(replace(part, vertices=moved)).crossing_faces()]
        if len(crossing) < fewest:
            best, fewest = replace(mesh, vertices=moved), len(crossing)
        if not len(crossing):
            break
    return best


def _faces_near(mesh: TriangleMesh, crossing: np.ndarray) -> np.ndarray:
    """Indices of all faces that could meet the crossing ones while these move about their neighbours."""
    corners = mesh.corners.astype(np.float64)
    sides = np.linalg.norm(corners[crossing] - np.roll(corners[crossing], 1, axis=1), axis=2)
    reach = REACH * float(sides.max())
    distance, _ = cKDTree(corners[crossing].mean(axis=1)).query(corners.mean(axis=1), distance_upper_bound=reach)
    return np.flatnonzero(np.isfinite(distance))


def _border_vertices(faces: np.ndarray) -> np.ndarray:
    sides = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1).astype(np.int64)
    keys, counts = np.unique(sides[:, 0] << 32 | sides[:, 1], return_counts=True)
    single = keys[counts == 1]
    return np.unique(np.concatenate([single >> 32, single & 0xFFFFFFFF]))
