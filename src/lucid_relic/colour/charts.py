"""Cutting a mesh into charts.

Regions are grown over the faces from evenly spread seeds, dearer where the surface turns away, and the
seeds moved to the middles of their regions a few times (after Cohen-Steiner et al. 2004,
doi:10.1145/1015706.1015817). This sees a lightly smoothed copy (Taubin 1995, doi:10.1145/218380.218473), so
that noise and fine relief do not fray the charts; small ones join a neighbour.
"""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.colour import _kernels
from lucid_relic.geometry.topology import side_pairs
from lucid_relic.types import TriangleMesh

MIN_COS = 0.2  # of a face to its chart: flatter ones would be drawn to lines
FOLD_COST = 6.0  # times the length, where a path crosses a fold: charts end at edges
FACES_PER_CHART = 1500  # aimed at: larger ones bend too much, smaller ones have more seams
CHARTS = (60, 220)  # least and most to begin with
LLOYD_ROUNDS = 5  # after which seeds hardly move
STRAIGHTENING = 20  # rounds in which borders lose their teeth
SMOOTHING_ROUNDS = 10  # of the normals that charts grow by: noise must not cut them
TAUBIN = (0.55, -0.58)  # shrinking and growing steps that smooth without shrinking (Taubin 1995)
SMALL_SHARE = 0.0008  # charts with less of the area than this join a neighbour
SMALL_ROUNDS = 16  # in which small charts join their neighbours


def face_neighbours(faces: np.ndarray) -> np.ndarray:
    """(m, 3) face across each side, -1 at a border."""
    out = np.full(3 * len(faces), -1, np.int64)
    a, b = side_pairs(faces)
    out[a], out[b] = b // 3, a // 3
    return out.reshape(-1, 3)


def smoothed(mesh: TriangleMesh) -> TriangleMesh:
    n = len(mesh.vertices)
    i, j = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    links = csr_matrix(coo_matrix((np.ones(len(i), np.float32), (i, j)), shape=(n, n)))
    links = links + links.T
    degree = np.maximum(np.asarray(links.sum(axis=1)).ravel(), 1)[:, None]
    v = mesh.vertices.astype(np.float64)
    for _ in range(SMOOTHING_ROUNDS):
        for step in TAUBIN:
            v += step * (links @ v / degree - v)
    return replace(mesh, vertices=v.astype(np.float32), texture=None)


def cut_charts(smooth: TriangleMesh, neighbours: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(m,) chart of each face: compact regions that turn little, grown from evenly spread seeds."""
    normals = unit(smooth.face_normals())
    centres = smooth.face_centres().astype(np.float64)
    count = min(int(np.clip(len(area) / FACES_PER_CHART, *CHARTS)), len(area))
    seeds = np.random.default_rng(7).choice(len(area), count, replace=False, p=area / area.sum())
    proxies = normals[seeds]
    chart = np.full(len(area), -1, np.int64)
    for _ in range(LLOYD_ROUNDS):
        chart = _grown(centres, normals, neighbours, seeds, proxies)
        seeds, proxies = _recentred(chart, centres, normals, area)
    chart = _grown(centres, normals, neighbours, seeds, proxies)
    _kernels.straighten(normals, neighbours, chart_normals(chart, normals, area), MIN_COS, chart, STRAIGHTENING)
    return _small_joined(connected(neighbours, chart), neighbours, normals, area)


def _grown(
    centres: np.ndarray, normals: np.ndarray, neighbours: np.ndarray, seeds: np.ndarray, proxies: np.ndarray
) -> np.ndarray:
    """Charts from seeds; where none reaches, new ones start until every face has one."""
    chart, cost = np.full(len(centres), -1, np.int64), np.full(len(centres), np.inf)
    _kernels.grow_charts(centres, normals, neighbours, seeds, proxies, FOLD_COST, MIN_COS, chart, cost)
    while (left := chart < 0).any():
        parts = connected(neighbours, np.where(left, -1, chart))
        _, first = np.unique(parts[left], return_index=True)
        fresh = np.flatnonzero(left)[first]
        cost[~left] = -1.0
        seeds, proxies = np.concatenate([seeds, fresh]), np.concatenate([proxies, normals[fresh]])
        _kernels.grow_charts(centres, normals, neighbours, seeds, proxies, FOLD_COST, MIN_COS, chart, cost)
    return np.unique(chart, return_inverse=True)[1]


def _recentred(
    chart: np.ndarray, centres: np.ndarray, normals: np.ndarray, area: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """The face nearest the middle of each chart, and each chart's mean normal."""
    count = int(chart.max()) + 1
    total = np.bincount(chart, area, count)
    middle = np.stack([np.bincount(chart, area * centres[:, k], count) for k in range(3)], axis=1) / total[:, None]
    away = ((centres - middle[chart]) ** 2).sum(axis=1)
    order = np.lexsort((away, chart))
    first = np.searchsorted(chart[order], np.arange(count))
    return order[first], chart_normals(chart, normals, area)


def chart_normals(chart: np.ndarray, normals: np.ndarray, area: np.ndarray) -> np.ndarray:
    count = int(chart.max()) + 1
    return unit(np.stack([np.bincount(chart, area * normals[:, k], count) for k in range(3)], axis=1))


def _small_joined(chart: np.ndarray, neighbours: np.ndarray, normals: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Join every small chart to the neighbour with the longest common border that faces alike."""
    rows = np.repeat(np.arange(len(chart)), 3)
    columns = neighbours.ravel()
    rows, columns = rows[columns >= 0], columns[columns >= 0]
    total = area.sum()
    for _ in range(SMALL_ROUNDS):
        count = int(chart.max()) + 1
        size = np.bincount(chart, area, count)
        mean = chart_normals(chart, normals, area)
        border = chart[rows] != chart[columns]
        a, b = chart[rows[border]], chart[columns[border]]
        pairs, length = np.unique(a.astype(np.int64) * count + b, return_counts=True)
        a, b = pairs // count, pairs % count
        alike = np.einsum("ij,ij->i", mean[a], mean[b])
        ok = (size[a] < SMALL_SHARE * total) & (alike > 0.2) & (size[b] >= size[a])
        if not ok.any():
            return chart
        a, b, worth = a[ok], b[ok], length[ok] * alike[ok]
        best = np.lexsort((-worth, a))
        first = np.concatenate([[True], a[best][1:] != a[best][:-1]])
        target = np.arange(count)
        target[a[best][first]] = b[best][first]
        # A chart that others join must not itself move away in this round.
        wanted = np.zeros(count, bool)
        wanted[target[target != np.arange(count)]] = True
        target[wanted] = np.flatnonzero(wanted)
        if (target == np.arange(count)).all():
            return chart
        _, chart = np.unique(target[chart], return_inverse=True)
    return chart


def connected(neighbours: np.ndarray, labels: np.ndarray) -> np.ndarray:
    """(m,) chart number: connected faces with equal labels."""
    m = len(labels)
    rows = np.repeat(np.arange(m), 3)
    columns = neighbours.ravel()
    ok = columns >= 0
    ok[ok] = labels[rows[ok]] == labels[columns[ok]]
    graph = coo_matrix((np.ones(ok.sum(), np.int8), (rows[ok], columns[ok])), shape=(m, m))
    return connected_components(graph, directed=False)[1]


def by_chart(chart: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Faces sorted by chart, and where each chart starts in that order (with the end)."""
    order = np.argsort(chart, kind="stable")
    starts = np.searchsorted(chart[order], np.arange(chart.max() + 2))
    return order, starts


def unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-20)
