"""Normals for bare points: local planes, turned towards the scanner or the same way across the set."""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree
from scipy.spatial import cKDTree

from lucid_relic.geometry import _cloud_kernels
from lucid_relic.geometry.points import thin
from lucid_relic.geometry.rigid import basis_from_z
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PointCloud

NEIGHBOURS = (16, 32, 64)  # that a plane is laid through: more where the noise is wide beside their reach
WIDE_NOISE = 0.2  # of the neighbours' reach: above it a normal is off by more than ten degrees
SAMPLE = 4000  # points that tell spacing and noise: their medians are steady to 2 %
AT_ONCE = 200_000  # points whose neighbours are held at once: 80 MB
TREE_NEIGHBOURS = 8  # along which directions spread
SPREAD_POINTS = 60_000  # that directions spread over; the others follow the nearest of them
WAYS = 400  # directions tried: eight degrees apart
ONE_SIDED = 0.93  # of the normals face a direction that the scan was taken from; noise turns some at its rims
HIDING_SPACINGS = 2.0  # of the cells in which points may hide each other
STEEPEST = 8.0  # cells: a surface that is seen at 80° falls by six within one
MOST_HIDDEN = 0.15  # of a scan from one side; a sheet behind a sheet is half
# Of the eighth neighbour's distance: evenly scattered points lie as close as those of a square grid so far apart.
SPACING_OF_EIGHTH = 0.63


def cloud_spacing(points: np.ndarray) -> float:
    """Usual distance (mm) between neighbouring points (n, 3), from a seeded sample."""
    if len(points) < 9:
        return 1.0
    tree = cKDTree(points, compact_nodes=False, balanced_tree=False)
    distance, _ = tree.query(points[_sample(points)], k=9, workers=-1)
    distance = distance[distance[:, 8] > 0, 8]
    return float(np.median(distance) * SPACING_OF_EIGHTH) if len(distance) else 1.0


def cloud_noise(points: np.ndarray) -> float:
    """Scatter (mm) of points (n, 3) about the planes through their neighbours; bends of the shape count with it."""
    if len(points) < NEIGHBOURS[0]:
        return 0.0
    return float(np.median(_planes(cKDTree(points), points[_sample(points)], NEIGHBOURS[0])[1]))


def _sample(points: np.ndarray) -> np.ndarray:
    return np.random.default_rng(2).permutation(len(points))[:SAMPLE]


def with_normals(
    cloud: PointCloud, outward_from: np.ndarray, scanner: np.ndarray | None = None, progress: Progress = silent
) -> PointCloud:
    """The cloud with normals; given ones are kept.

    They are turned towards where the scanner stood, where that is known. Otherwise directions spread along a
    minimum spanning tree of alignment (Hoppe et al. 1992, doi:10.1145/133994.134011), part by connected part. Where there is
    one direction that all parts can face together, as when they were seen from one side, they are turned so; else each on
    its own. In both cases most normals then point away from `outward_from` (3,).
    """
    if cloud.normals is not None:
        return cloud
    normals = local_normals(cloud.points, part_of(progress, 0, 0.7))
    if scanner is not None:
        away = np.einsum("ij,ij->i", normals, cloud.points - scanner.astype(np.float32)) > 0
        normals[away] *= -1
        return replace(cloud, normals=normals)
    progress(0.7, "Turning normals the same way")
    return replace(cloud, normals=_turned_alike(cloud.points, normals, outward_from))


def local_normals(points: np.ndarray, progress: Progress = silent) -> np.ndarray:
    """(n, 3) float32 normals of the planes through every point's neighbours, of no certain sign."""
    tree = cKDTree(points)
    some = points[_sample(points)]
    count = next((k for k in NEIGHBOURS[:-1] if _is_clear(tree, some, k)), NEIGHBOURS[-1])
    out = np.empty((len(points), 3), np.float32)
    for first in range(0, len(points), AT_ONCE):
        progress(first / len(points), "Finding normals")
        out[first : first + AT_ONCE] = _planes(tree, points[first : first + AT_ONCE], count)[0]
    return out


def _is_clear(tree: cKDTree, places: np.ndarray, count: int) -> bool:
    """Whether the points scatter little about their planes beside how far those reach."""
    _, scatter, reach = _planes(tree, places, count)
    return bool(np.median(scatter) < WIDE_NOISE * np.median(reach))


def _planes(tree: cKDTree, places: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Normals (n, 3) of the planes through the neighbours of some places, their scatter (n,) and reach (n,)."""
    distance, index = tree.query(places, k=min(count, tree.n), workers=-1)
    index = index.reshape(len(places), -1)  # of one point scipy gives one number
    local = tree.data[index]
    local -= local.mean(axis=1, keepdims=True)
    values, vectors = np.linalg.eigh(np.einsum("nki,nkj->nij", local, local))
    scatter = np.sqrt(np.maximum(values[:, 0], 0) / max(index.shape[1] - 3, 1))
    return vectors[:, :, 0], scatter, distance.reshape(len(places), -1)[:, -1]


def _turned_alike(points: np.ndarray, normals: np.ndarray, outward_from: np.ndarray) -> np.ndarray:
    """The normals, each turned as the nearest of a thinned set is."""
    cloud, voxel = PointCloud(points), cloud_spacing(points)
    while len(cloud) > SPREAD_POINTS:
        voxel *= 1.4
        cloud = thin(PointCloud(points), voxel)
    own = normals if len(cloud) == len(points) else _planes(cKDTree(points), cloud.points, NEIGHBOURS[0])[0]
    turned = _spread(cloud.points.astype(np.float64), own.astype(np.float64), outward_from)
    if len(cloud) == len(points):
        return turned.astype(np.float32)
    _, nearest = cKDTree(cloud.points).query(points, workers=-1)
    against = np.einsum("ij,ij->i", normals, turned[nearest].astype(np.float32)) < 0
    return np.where(against[:, None], -normals, normals)


def _spread(points: np.ndarray, normals: np.ndarray, outward_from: np.ndarray) -> np.ndarray:
    n = len(points)
    _, index = cKDTree(points).query(points, k=min(TREE_NEIGHBOURS, n), workers=-1)
    index = index.reshape(n, -1)
    rows = np.repeat(np.arange(n), index.shape[1] - 1)
    columns = index[:, 1:].ravel()
    cost = 1.0001 - np.abs(np.einsum("ij,ij->i", normals[rows], normals[columns]))
    tree = minimum_spanning_tree(coo_matrix((cost, (rows, columns)), shape=(n, n)))
    tree = csr_matrix(tree + tree.T)
    count, part = connected_components(tree, directed=False)
    starts = np.unique(part, return_index=True)[1]
    out = normals.copy()
    for start in starts:
        order, parent = breadth_first_order(tree, start, directed=False)
        _cloud_kernels.turn_along(order, parent, out)
    together = _facing_one_way(points, out, part, count)
    if together is not None:
        out *= together[part][:, None]
        part, count = np.zeros(n, np.int64), 1
    outward = np.bincount(part, np.einsum("ij,ij->i", out, points - outward_from) > 0, count)
    out[outward[part] < 0.5 * np.bincount(part, minlength=count)[part]] *= -1
    return out


def _facing_one_way(points: np.ndarray, normals: np.ndarray, part: np.ndarray, count: int) -> np.ndarray | None:
    """Signs (count,) of the parts that let nearly all normals face one direction; None when there is no such direction.

    Nor is there one where much of the surface would hide from it behind the rest.
    """
    sums = np.stack([np.bincount(part, normals[:, c], count) for c in range(3)], axis=1)
    ways = _even_directions(WAYS)
    along = sums @ ways.T
    best = int(np.abs(along).sum(axis=0).argmax())
    signs = np.where(along[:, best] < 0, -1.0, 1.0)
    mean = (sums * signs[:, None]).sum(axis=0)
    way = mean / max(float(np.linalg.norm(mean)), 1e-12)
    facing = ((normals * signs[part][:, None]) @ way > 0).mean()
    return signs if facing > ONE_SIDED and _hidden(points, way) < MOST_HIDDEN else None


def _hidden(points: np.ndarray, way: np.ndarray) -> float:
    """Share (0-1) of points that others hide from an eye far off in a direction, whichever end of it."""
    cell = HIDING_SPACINGS * cloud_spacing(points)
    flat = points @ basis_from_z(way)[:, :2]
    _, group = np.unique(np.floor((flat - flat.min(axis=0)) / cell).astype(np.int64), axis=0, return_inverse=True)
    depth = points @ way
    nearest = np.full(group.max() + 1, -np.inf)
    np.maximum.at(nearest, group, depth)
    return float((nearest[group] - depth > STEEPEST * cell).mean())


def _even_directions(count: int) -> np.ndarray:
    """(count, 3) unit directions spread evenly over a sphere, by the golden angle."""
    k = np.arange(count) + 0.5
    z, turn = 1 - 2 * k / count, np.pi * (1 + 5**0.5) * k
    flat = np.sqrt(1 - z**2)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), z], axis=1)
