"""Keeping a texture through a change of triangles: where its seams run, and carrying it over."""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.geometry.topology import side_pairs
from lucid_relic.types import TriangleMesh

SAME_UV = 1e-6  # a hundredth of a texel of the largest texture


def charts(mesh: TriangleMesh) -> np.ndarray:
    """(m,) chart of each face: faces joined by edges on which both give the same texture coordinates."""
    m = len(mesh.faces)
    first, second = side_pairs(mesh.faces)
    a, b, side_a, side_b = first // 3, second // 3, first % 3, second % 3
    uv = mesh.texture.uv
    same = np.ones(len(a), bool)
    for end in (0, 1):
        # The neighbour runs along the shared side the other way round.
        mine, theirs = uv[a, (side_a + end) % 3], uv[b, (side_b + 1 - end) % 3]
        same &= np.abs(mine - theirs).max(axis=1) < SAME_UV
    graph = coo_matrix((np.ones(int(same.sum()), np.int8), (a[same], b[same])), shape=(m, m))
    return connected_components(graph, directed=False)[1]


def seam_vertices(mesh: TriangleMesh) -> np.ndarray:
    """Indices of vertices that lie on the border between charts or of the mesh."""
    chart = charts(mesh)
    pairs = np.unique(np.stack([mesh.faces.ravel(), np.repeat(chart, 3)], axis=1), axis=0)
    vertex, count = np.unique(pairs[:, 0], return_counts=True)
    return vertex[count > 1]


def carried_texture(mesh: TriangleMesh, reduced: TriangleMesh, birth: np.ndarray) -> TriangleMesh:
    """`reduced` with the texture of `mesh`; birth (k,) names the face each of its faces came from.

    A corner takes the coordinates of the closest place on the old surface when that lies in the chart
    of its face, else those of the nearest old vertex in that chart.
    """
    chart = charts(mesh)
    points = reduced.corners.reshape(-1, 3).astype(np.float64)
    wanted = np.repeat(chart[birth], 3)
    _, nearest, share = TriangleTree(mesh).foot(points)
    uv = np.einsum("nk,nkc->nc", share, mesh.texture.uv[nearest].astype(np.float64))
    for c in np.unique(wanted[chart[nearest] != wanted]):
        off = np.flatnonzero((wanted == c) & (chart[nearest] != c))
        own = np.flatnonzero(chart == c)
        _, corner = cKDTree(mesh.corners[own].reshape(-1, 3)).query(points[off])
        uv[off] = mesh.texture.uv[own].reshape(-1, 2)[corner]
    texture = replace(mesh.texture, uv=uv.reshape(-1, 3, 2).astype(np.float32))
    return replace(reduced, texture=texture)
