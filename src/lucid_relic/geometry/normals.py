"""Normals for bare points: local planes, turned the same way across the set."""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree
from scipy.spatial import cKDTree

from lucid_relic.types import PointCloud

NEIGHBOURS = 16  # that a plane is laid through
TREE_NEIGHBOURS = 8  # along which directions spread


def with_normals(cloud: PointCloud, outward_from: np.ndarray) -> PointCloud:
    """The cloud with normals; given ones are kept.

    Directions spread along a minimum spanning tree of alignment (Hoppe et al. 1992,
    doi:10.1145/133994.134011); each connected part is turned so that most normals point away from
    `outward_from` (3,).
    """
    if cloud.normals is not None:
        return cloud
    points = cloud.points.astype(np.float64)
    tree = cKDTree(points)
    _, index = tree.query(points, k=min(NEIGHBOURS, len(points)), workers=-1)
    index = index.reshape(len(points), -1)  # of one point scipy gives one number
    local = points[index] - points[index].mean(axis=1, keepdims=True)
    _, vectors = np.linalg.eigh(np.einsum("nki,nkj->nij", local, local))
    normals = vectors[:, :, 0]
    normals = _turned_alike(points, normals, index[:, :TREE_NEIGHBOURS], outward_from)
    return replace(cloud, normals=normals.astype(np.float32))


def _turned_alike(points: np.ndarray, normals: np.ndarray, index: np.ndarray, outward_from: np.ndarray) -> np.ndarray:
    n = len(points)
    rows = np.repeat(np.arange(n), index.shape[1] - 1)
    columns = index[:, 1:].ravel()
    cost = 1.0001 - np.abs(np.einsum("ij,ij->i", normals[rows], normals[columns]))
    tree = minimum_spanning_tree(coo_matrix((cost, (rows, columns)), shape=(n, n)))
    tree = tree + tree.T
    count, part = connected_components(tree, directed=False)
    out = normals.copy()
    for label in range(count):
        members = np.flatnonzero(part == label)
        order, parent = breadth_first_order(tree, members[0], directed=False)
        for node in order[1:]:
            if out[node] @ out[parent[node]] < 0:
                out[node] = -out[node]
        outward = np.einsum("ij,ij->i", out[members], points[members] - outward_from)
        if (outward > 0).mean() < 0.5:
            out[members] *= -1
    return out
