"""Laying charts flat.

A chart is looked at along its mean normal, relaxed until its triangles are as near to their true shapes as they can
be, and scaled to its true area; faces that would fold over others are cut apart.
"""

import numpy as np
from scipy.sparse import coo_matrix, diags
from scipy.sparse.linalg import splu

from lucid_relic.colour import _kernels
from lucid_relic.colour.charts import by_chart, chart_normals, connected, unit
from lucid_relic.threads import side_by_side
from lucid_relic.types import TriangleMesh

HOLD = 1e-4  # how firmly a corner is held where it was, against the sum of its cotangents: charts must not float
COTANGENTS = (0.02, 20.0)  # bounds, so that slivers do not rule the system
# Columns one by one: twice as fast on so few entries.
SPARSE = {"permc_spec": "MMD_AT_PLUS_A", "relax": 1, "panel_size": 1}
GROUPS = 4  # of charts relaxed side by side; a fixed number, so that the answer is the same on any machine
MOST_STRETCH = 10.0  # a triangle turned over or drawn to a line is told to be stretched this much


def looked_along(smooth: TriangleMesh, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(m, 3, 2) mm: corners of the smoothed copy seen along the mean normal of each chart."""
    normals = unit(smooth.face_normals())
    mean = chart_normals(chart, normals, area)
    helper = np.where(np.abs(mean[:, 2:3]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]])
    right = unit(np.cross(helper, mean))
    up = np.cross(mean, right)
    corners = smooth.corners.astype(np.float64)
    u = np.einsum("mkj,mj->mk", corners, right[chart])
    v = np.einsum("mkj,mj->mk", corners, up[chart])
    return np.stack([u, v], axis=2)


def relaxed(
    flat: np.ndarray, faces: np.ndarray, sides: np.ndarray, weight: np.ndarray, chart: np.ndarray, rounds: int = 16
) -> np.ndarray:
    """(m, 3, 2) mm: the charts with every triangle as near to its true shape (`true_shapes`) as they allow.

    As rigid as possible by turns (Liu et al. 2008, doi:10.1111/j.1467-8659.2008.01290.x): the best rotation of every
    triangle, then the places that suit all rotations best. Every chart is held by `HOLD` and stands for itself, so
    that they are worked on in groups, side by side.
    """
    before = np.cumsum(np.bincount(chart)) - np.bincount(chart)
    group = (before * GROUPS // len(chart))[chart]
    parts = [np.flatnonzero(group == g) for g in range(GROUPS)]

    def one(part: np.ndarray) -> np.ndarray:
        return _relaxed(flat[part], faces[part], sides[part], weight[part], chart[part], rounds)

    out = np.empty_like(flat)
    for part, places in zip(parts, side_by_side(one, parts), strict=True):
        out[part] = places
    return out


def _relaxed(
    flat: np.ndarray, faces: np.ndarray, sides: np.ndarray, weight: np.ndarray, chart: np.ndarray, rounds: int
) -> np.ndarray:
    """`relaxed` of some charts."""
    if not len(faces):
        return flat
    corner = chart[:, None].astype(np.int64) * (int(faces.max()) + 1) + faces
    _, first, at = np.unique(corner.ravel(), return_index=True, return_inverse=True)
    at = at.reshape(-1, 3)
    places = flat.reshape(-1, 2)[first]
    i, j = at[:, [1, 2, 0]].ravel(), at[:, [2, 0, 1]].ravel()
    w = weight.ravel()
    n = len(places)
    links = coo_matrix((np.concatenate([w, w]), (np.concatenate([i, j]), np.concatenate([j, i]))), shape=(n, n)).tocsr()
    total = np.asarray(links.sum(axis=1)).ravel()
    solve = splu((diags(total + HOLD) - links).tocsc(), diag_pivot_thresh=0.0, **SPARSE).solve
    wanted = np.empty((n, 2))
    for _ in range(rounds):
        _kernels.turned_sides(places, at, sides, weight, wanted)
        places = solve(wanted + HOLD * places)
    return places[at]


def stretch(flat: np.ndarray, sides: np.ndarray) -> np.ndarray:
    """(m,) how many times longer, or shorter, than true a triangle is drawn at most; sides as of `true_shapes`."""
    drawn = flat[:, [2, 0]] - flat[:, [1, 2]]
    det = sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0]
    back = np.stack([sides[:, 1, 1], -sides[:, 1, 0], -sides[:, 0, 1], sides[:, 0, 0]], axis=1).reshape(-1, 2, 2)
    a, b, c, d = (np.einsum("mij,mik->mjk", drawn, back) / np.where(det == 0, 1.0, det)[:, None, None]).reshape(-1, 4).T
    even, odd = np.hypot(a + d, c - b) / 2, np.hypot(a - d, c + b) / 2
    longest, shortest = even + odd, np.maximum(even - odd, 1 / MOST_STRETCH)
    return np.where(det == 0, 1.0, np.clip(np.maximum(longest, 1 / shortest), 1.0, MOST_STRETCH))


def true_shapes(mesh: TriangleMesh) -> tuple[np.ndarray, np.ndarray]:
    """The sides (m, 3, 2) mm of every triangle in its own plane, each across from a corner, and their cotangents (m, 3)."""
    p = mesh.corners.astype(np.float64)
    x = unit(p[:, 1] - p[:, 0])
    normal = unit(np.cross(x, p[:, 2] - p[:, 0]))
    y = np.cross(normal, x)
    true = np.stack([np.einsum("mkj,mj->mk", p - p[:, :1], axis) for axis in (x, y)], axis=2)
    sides = np.stack([true[:, (k + 2) % 3] - true[:, (k + 1) % 3] for k in range(3)], axis=1)
    twice = np.abs(sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0])
    cot = np.stack([-(sides[:, (k + 1) % 3] * sides[:, (k + 2) % 3]).sum(axis=1) for k in range(3)], axis=1)
    weight = np.clip(cot / np.maximum(twice, 1e-12)[:, None], *COTANGENTS)
    return sides, weight


def where_it_folds_less(relaxed: np.ndarray, flat: np.ndarray, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Charts as relaxed, but as they were where relaxing would lay more faces on others: slivers in much noise do."""
    worse = np.bincount(chart, folded(relaxed, chart, area)) > np.bincount(chart, folded(flat, chart, area))
    return np.where(worse[chart][:, None, None], flat, relaxed)


def folded(flat: np.ndarray, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(m,) bool faces that are turned over or lie on others of their chart."""
    local = flat / np.sqrt(area.mean())
    order, starts = by_chart(chart)
    low, high = chart_bounds(local, order, starts)
    size = np.floor(high - low).astype(np.int64) + 1
    conflict = np.zeros(len(chart), np.bool_)
    _kernels.find_overlaps(local - low[chart][:, None, :], starts, order, size[:, 0], size[:, 1], conflict)
    return conflict


def chart_bounds(flat: np.ndarray, order: np.ndarray, starts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Least and greatest corner (c, 2), (c, 2) of every chart of flat triangles (m, 3, 2); order and starts of `by_chart`."""
    a, b, c = flat[:, 0], flat[:, 1], flat[:, 2]
    low, high = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)
    return np.minimum.reduceat(low[order], starts[:-1]), np.maximum.reduceat(high[order], starts[:-1])


def cut_folds(
    flat: np.ndarray, chart: np.ndarray, neighbours: np.ndarray, area: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """flat and chart with faces that would lie on others given charts of their own, turned over if need be."""
    flat = flat.copy()
    open_faces = np.arange(len(chart))  # of charts that may still fold
    while len(open_faces):
        own = np.unique(chart[open_faces], return_inverse=True)[1]
        turned = np.bincount(own, signed_area(flat[open_faces])) < 0
        flat[open_faces[turned[own]], :, 0] *= -1
        conflict = folded(flat[open_faces], own, area[open_faces])
        folds = np.bincount(own, conflict) > 0
        lies_on = np.zeros(len(chart), np.bool_)
        lies_on[open_faces] = conflict
        chart = connected(neighbours, chart * 2 + lies_on)
        open_faces = open_faces[folds[own]]
    return flat, chart


def density_evened(flat: np.ndarray, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Every chart scaled so that its flat area is its true one."""
    seen = np.bincount(chart, np.abs(signed_area(flat)))
    scale = np.sqrt(np.bincount(chart, area) / np.maximum(seen, 1e-12))
    return flat * np.clip(scale, 1.0, 4.0)[chart][:, None, None]


def signed_area(flat: np.ndarray) -> np.ndarray:
    """(m,) area of every flat triangle (m, 3, 2), negative where it is turned over."""
    a, b = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    return (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
