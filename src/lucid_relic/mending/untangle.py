"""Relaxing triangles that cross each other apart, so that a closed mesh bounds a solid.

Where two sheets come closer than a simplification allows for, a few triangles may pass through each
other. Their vertices are drawn towards the middle of their neighbours, step by step and no farther than
a small part of the neighbouring edges, until nothing crosses.
"""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix

from lucid_relic.geometry.bvh import TriangleTree, faces_near
from lucid_relic.geometry.topology import edge_table
from lucid_relic.types import TriangleMesh

ROUNDS = 16  # after which what still crosses is handed back
PULL = 0.35  # of the way to the middle of the neighbours
WIDEN_EVERY = 4  # rounds, by one ring of neighbours
REACH = 8.0  # in the longest side of a crossing triangle


def untangled(mesh: TriangleMesh) -> tuple[TriangleMesh, np.ndarray]:
    """The mesh with crossing triangles relaxed apart (same faces, same order), and the faces that still cross."""
    if not len(mesh.faces):
        return mesh, np.empty(0, np.int64)
    crossing = TriangleTree(mesh).crossing_faces()
    if not len(crossing):
        return mesh, crossing
    n = len(mesh.vertices)
    i, j = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    links = coo_matrix((np.ones(len(i), np.float32), (i, j)), shape=(n, n)).tocsr()
    links = ((links + links.T) > 0).astype(np.float32)
    border = _border_vertices(mesh.faces)
    vertices = mesh.vertices.astype(np.float64)
    near = faces_near(mesh, crossing, REACH)
    part = TriangleMesh(mesh.vertices, mesh.faces[near])
    best, fewest = mesh, crossing
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
        if len(crossing) < len(fewest):
            best, fewest = replace(mesh, vertices=moved), crossing
        if not len(crossing):
            break
    return best, fewest


def _border_vertices(faces: np.ndarray) -> np.ndarray:
    edges, counts, _ = edge_table(faces)
    return np.unique(edges[counts == 1])
