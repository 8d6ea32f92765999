"""Cutting a mesh into charts and packing them into a square.

Regions are grown over the faces from evenly spread seeds, dearer where the surface turns away, and the
seeds moved to the middles of their regions a few times (after Cohen-Steiner et al. 2004,
doi:10.1145/1015706.1015817). This sees a lightly smoothed copy (Taubin 1995, doi:10.1145/218380.218473), so
that noise and fine relief do not fray the charts; small ones join a neighbour. A chart is laid flat by
looking at the smoothed copy along its mean normal, relaxed until its triangles are as near to their true
shapes as they can be, and scaled to its true area; faces that would fold over others are cut apart. The
packing puts each chart, the broadest first, at its lowest free place in the square, holes between earlier
charts included.
"""

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu
from scipy.spatial import ConvexHull, QhullError

from lucid_relic.colour import _kernels
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.topology import side_pairs
from lucid_relic.types import TriangleMesh

MIN_COS = 0.2
FOLD_COST = 6.0
FACES_PER_CHART = 1500
CHARTS = (24, 220)
LLOYD_ROUNDS = 5
STRAIGHTENING = 20
SMOOTHING_ROUNDS = 10
TAUBIN = (0.55, -0.58)
SMALL_SHARE = 0.0008  # charts with less of the area than this join a neighbour
FOLD_ROUNDS = 4
RELAXINGS = 16
HOLD = 1e-4  # how firmly a corner is held where it was, against the sum of its cotangents: charts must not float
COTANGENTS = (0.02, 20.0)
GUTTER = 2  # texels between charts
FINE_SIDE = 4096  # texels of the square in which charts are packed at most
LARGE = 4096  # texels from which on they are packed more coarsely first
COARSER = 4  # times
LIFT = 0.85  # up to this share of its coarse height a chart is not looked a finer place for
GAIN = 1.032  # by which a fine packing is usually larger than a coarse one at least
FIRST_FILL = 0.66
SHRINK, FINE_SHRINK = 0.97, 0.99
SCALE_STEP = 0.003
MAX_TRIES = 40


@dataclass(frozen=True)
class Atlas:
    """uv (m, 3, 2) float64 in texels (centres at integers), chart (m,) of each face, texel size mm.

    fill is the share (0-1) of the square that triangles cover.
    """

    uv: np.ndarray
    chart: np.ndarray
    size: int
    texel_mm: float
    fill: float


def make_atlas(mesh: TriangleMesh, size: int) -> Atlas:
    """Lay all triangles of a mesh into a square of `size` texels without overlap."""
    if not len(mesh.faces):
        raise StepNotPossible("There is no mesh to lay colour on yet. Fuse first.")
    smooth = _smoothed(mesh)
    neighbours = face_neighbours(mesh.faces)
    area = np.linalg.norm(mesh.face_normals(), axis=1) / 2
    chart = _charts(smooth, neighbours, area)
    flat = _flattened(smooth, chart, area)
    flat = _where_it_folds_less(_relaxed(flat, mesh, chart), flat, chart, area)
    chart = _cut_folds(flat, chart, neighbours, area)
    flat = _density_evened(flat, chart, area)
    uv = _packed(flat, chart, size)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    covered = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2
    texel = np.sqrt(area.sum() / max(covered, 1e-12))
    return Atlas(uv, chart, size, float(texel), float(covered / size**2))


def face_neighbours(faces: np.ndarray) -> np.ndarray:
    """(m, 3) face across each side, -1 at a border."""
    out = np.full(3 * len(faces), -1, np.int64)
    a, b = side_pairs(faces)
    out[a], out[b] = b // 3, a // 3
    return out.reshape(-1, 3)


def _smoothed(mesh: TriangleMesh) -> TriangleMesh:
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


def _charts(smooth: TriangleMesh, neighbours: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(m,) chart of each face: compact regions that turn little, grown from evenly spread seeds."""
    normals = _unit(smooth.face_normals())
    centres = smooth.corners.mean(axis=1).astype(np.float64)
    count = int(np.clip(len(area) / FACES_PER_CHART, *CHARTS))
    seeds = np.random.default_rng(7).choice(len(area), count, replace=False, p=area / area.sum())
    proxies = normals[seeds]
    chart = np.full(len(area), -1, np.int64)
    for _ in range(LLOYD_ROUNDS):
        chart = _grown(centres, normals, neighbours, seeds, proxies)
        seeds, proxies = _recentred(chart, centres, normals, area)
    chart = _grown(centres, normals, neighbours, seeds, proxies)
    _kernels.straighten(normals, neighbours, _chart_normals(chart, normals, area), MIN_COS, chart, STRAIGHTENING)
    return _small_joined(_connected(neighbours, chart), neighbours, normals, area)


def _grown(
    centres: np.ndarray, normals: np.ndarray, neighbours: np.ndarray, seeds: np.ndarray, proxies: np.ndarray
) -> np.ndarray:
    """Charts from seeds; where none reaches, new ones start until every face has one."""
    chart, cost = np.full(len(centres), -1, np.int64), np.full(len(centres), np.inf)
    _kernels.grow_charts(centres, normals, neighbours, seeds, proxies, FOLD_COST, MIN_COS, chart, cost)
    while (left := chart < 0).any():
        parts = _connected(neighbours, np.where(left, -1, chart))
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
    return order[first], _chart_normals(chart, normals, area)


def _chart_normals(chart: np.ndarray, normals: np.ndarray, area: np.ndarray) -> np.ndarray:
    count = int(chart.max()) + 1
    return _unit(np.stack([np.bincount(chart, area * normals[:, k], count) for k in range(3)], axis=1))


def _small_joined(chart: np.ndarray, neighbours: np.ndarray, normals: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Join every small chart to the neighbour with the longest common border that faces alike."""
    rows = np.repeat(np.arange(len(chart)), 3)
    columns = neighbours.ravel()
    rows, columns = rows[columns >= 0], columns[columns >= 0]
    total = area.sum()
    for _ in range(FOLD_ROUNDS * 4):
        count = int(chart.max()) + 1
        size = np.bincount(chart, area, count)
        mean = _chart_normals(chart, normals, area)
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


def _unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-20)


def _flattened(smooth: TriangleMesh, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(m, 3, 2) mm: corners of the smoothed copy seen along the mean normal of each chart."""
    normals = _unit(smooth.face_normals())
    mean = _chart_normals(chart, normals, area)
    helper = np.where(np.abs(mean[:, 2:3]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]])
    right = _unit(np.cross(helper, mean))
    up = np.cross(mean, right)
    corners = smooth.corners.astype(np.float64)
    u = np.einsum("mkj,mj->mk", corners, right[chart])
    v = np.einsum("mkj,mj->mk", corners, up[chart])
    return np.stack([u, v], axis=2)


def _relaxed(flat: np.ndarray, mesh: TriangleMesh, chart: np.ndarray) -> np.ndarray:
    """(m, 3, 2) mm: the charts with every triangle as near to its true shape as they allow.

    As rigid as possible by turns (Liu et al. 2008, doi:10.1111/j.1467-8659.2008.01290.x): the best rotation of every
    triangle, then the places that suit all rotations best. Every chart is a system of its own, held by `HOLD`.
    """
    corner = chart[:, None].astype(np.int64) * len(mesh.vertices) + mesh.faces
    _, first, at = np.unique(corner.ravel(), return_index=True, return_inverse=True)
    at = at.reshape(-1, 3)
    places = flat.reshape(-1, 2)[first]
    sides, weight = _true_shapes(mesh)
    i, j = at[:, [1, 2, 0]].ravel(), at[:, [2, 0, 1]].ravel()
    w = weight.ravel()
    n = len(places)
    links = coo_matrix((np.concatenate([w, w]), (np.concatenate([i, j]), np.concatenate([j, i]))), shape=(n, n)).tocsr()
    total = np.asarray(links.sum(axis=1)).ravel()
    solve = splu((diags(total + HOLD) - links).tocsc(), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0).solve
    for _ in range(RELAXINGS):
        now = places[at[:, [2, 0, 1]]] - places[at[:, [1, 2, 0]]]
        a = (weight[..., None] * sides * now).sum(axis=(1, 2))
        b = (weight * (sides[..., 0] * now[..., 1] - sides[..., 1] * now[..., 0])).sum(axis=1)
        length = np.maximum(np.hypot(a, b), 1e-20)
        c, d = (a / length)[:, None], (b / length)[:, None]
        turned = np.stack([c * sides[..., 0] - d * sides[..., 1], d * sides[..., 0] + c * sides[..., 1]], axis=2)
        pull = (weight[..., None] * turned).reshape(-1, 2)
        wanted = np.stack([np.bincount(j, pull[:, k], n) - np.bincount(i, pull[:, k], n) for k in range(2)], axis=1)
        places = solve(wanted + HOLD * places)
    return places[at]


def _connected(neighbours: np.ndarray, labels: np.ndarray) -> np.ndarray:
    """(m,) chart number: connected faces with equal labels."""
    m = len(labels)
    rows = np.repeat(np.arange(m), 3)
    columns = neighbours.ravel()
    ok = columns >= 0
    ok[ok] = labels[rows[ok]] == labels[columns[ok]]
    graph = coo_matrix((np.ones(ok.sum(), np.int8), (rows[ok], columns[ok])), shape=(m, m))
    return connected_components(graph, directed=False)[1]


def _by_chart(chart: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Faces sorted by chart, and where each chart starts in that order (with the end)."""
    order = np.argsort(chart, kind="stable")
    starts = np.searchsorted(chart[order], np.arange(chart.max() + 2))
    return order, starts


def _true_shapes(mesh: TriangleMesh) -> tuple[np.ndarray, np.ndarray]:
    """The sides (m, 3, 2) mm of every triangle in its own plane, each across from a corner, and their cotangents (m, 3)."""
    p = mesh.corners.astype(np.float64)
    x = _unit(p[:, 1] - p[:, 0])
    normal = _unit(np.cross(x, p[:, 2] - p[:, 0]))
    y = np.cross(normal, x)
    true = np.stack([np.einsum("mkj,mj->mk", p - p[:, :1], axis) for axis in (x, y)], axis=2)
    sides = np.stack([true[:, (k + 2) % 3] - true[:, (k + 1) % 3] for k in range(3)], axis=1)
    twice = np.abs(sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0])
    cot = np.stack([-(sides[:, (k + 1) % 3] * sides[:, (k + 2) % 3]).sum(axis=1) for k in range(3)], axis=1)
    weight = np.clip(cot / np.maximum(twice, 1e-12)[:, None], *COTANGENTS)
    return sides, weight


def _where_it_folds_less(relaxed: np.ndarray, flat: np.ndarray, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Charts as relaxed, but as they were where relaxing would lay more faces on others: slivers in much noise do."""
    worse = np.bincount(chart, _folded(relaxed, chart, area)) > np.bincount(chart, _folded(flat, chart, area))
    return np.where(worse[chart][:, None, None], flat, relaxed)


def _folded(flat: np.ndarray, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """(m,) bool faces that lie on others of their chart."""
    local = flat / (np.sqrt(area.mean()) / 2.0)
    order, starts = _by_chart(chart)
    low = np.minimum.reduceat(local.min(axis=1)[order], starts[:-1])
    high = np.maximum.reduceat(local.max(axis=1)[order], starts[:-1])
    size = np.ceil(high - low).astype(np.int64) + 1
    conflict = np.zeros(len(chart), np.bool_)
    _kernels.find_overlaps(local - low[chart][:, None, :], starts, order, size[:, 0], size[:, 1], conflict)
    return conflict


def _cut_folds(flat: np.ndarray, chart: np.ndarray, neighbours: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Give faces that would lie on others of their chart a chart of their own, turned over if need be."""
    for _ in range(FOLD_ROUNDS):
        conflict = _folded(flat, chart, area)
        if not conflict.any():
            break
        chart = _connected(neighbours, chart * 2 + conflict)
    return chart


def _density_evened(flat: np.ndarray, chart: np.ndarray, area: np.ndarray) -> np.ndarray:
    """Every chart scaled so that its flat area is its true one; faces seen from behind turned over."""
    a, b = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    signed = (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    count = int(chart.max()) + 1
    turned = np.bincount(chart, signed, count) < 0
    flat = flat.copy()
    flat[turned[chart], :, 0] *= -1
    seen = np.bincount(chart, np.abs(signed), count)
    scale = np.sqrt(np.bincount(chart, area, count) / np.maximum(seen, 1e-12))
    return flat * np.clip(scale, 1.0, 4.0)[chart][:, None, None]


@dataclass(frozen=True)
class _Shapes:
    """Charts to be packed: their faces' corners (m, 3, 2) from the charts' own corners, and the charts' extents (c, 2)."""

    local: np.ndarray
    extent: np.ndarray
    chart: np.ndarray
    order: np.ndarray
    starts: np.ndarray
    by_size: np.ndarray


def _packed(flat: np.ndarray, chart: np.ndarray, size: int) -> np.ndarray:
    """uv (m, 3, 2) in texels of all charts inside the square, with gutters between them.

    Packed coarsely first, where a try is cheap; then finely, where the texels along a chart's border cost less of
    the square, each chart being looked a place for only from somewhat below its coarse one on.
    """
    flat = _straightened(flat, chart)
    order, starts = _by_chart(chart)
    low = np.minimum.reduceat(flat.min(axis=1)[order], starts[:-1])
    extent = np.maximum.reduceat(flat.max(axis=1)[order], starts[:-1]) - low
    by_size = np.argsort(-extent.min(axis=1), kind="stable")
    shapes = _Shapes(flat - low[chart][:, None, :], extent, chart, order, starts, by_size)
    a, b = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    total = float(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2)
    fine = min(size, FINE_SIDE)
    coarse = fine // COARSER if fine >= LARGE else fine
    scale = np.sqrt(FIRST_FILL * coarse * coarse / max(total, 1e-12))
    found = _largest(shapes, coarse, size, scale, SHRINK, np.zeros(len(extent)))
    if found is not None and coarse < fine:
        scale, _, place = found
        scale, start = scale * COARSER * GAIN, place[:, 1] * COARSER * LIFT
        found = _largest(shapes, fine, size, scale, FINE_SHRINK, start)
    if found is None:
        raise StepNotPossible(f"The charts do not fit a texture of {size}. Choose a larger texture.")
    return (found[1] + 0.5) * (size / fine) - 0.5


def _largest(
    shapes: _Shapes, side: int, size: int, scale: float, shrink: float, start: np.ndarray
) -> tuple[float, np.ndarray, np.ndarray] | None:
    """The largest scale at which all charts fit a square, their uv and places there, or None.

    Tried from `scale` on, by steps of `shrink` down or up until some scale fits and a larger one does not.
    """
    spread = -(-GUTTER * side // size)
    best, too_large = None, None
    for _ in range(MAX_TRIES):
        placed = _placed(shapes, scale, side, spread, start.astype(np.int64))
        if placed is not None:
            best = (scale, *placed)
        else:
            too_large = scale
        if best is None:
            scale *= shrink
        elif too_large is None:
            scale /= shrink
        elif too_large / best[0] < 1 + SCALE_STEP:
            break
        else:
            scale = np.sqrt(best[0] * too_large)
    return best


def _straightened(flat: np.ndarray, chart: np.ndarray) -> np.ndarray:
    """Every chart turned so that the smallest rectangle around it stands upright, its longer side along u."""
    order, starts = _by_chart(chart)
    out = flat.copy()
    for first, end in zip(starts, starts[1:], strict=False):
        faces = order[first:end]
        corners = flat[faces].reshape(-1, 2)
        try:
            hull = corners[ConvexHull(corners).vertices]
        except QhullError:
            continue
        along = np.roll(hull, -1, axis=0) - hull
        angles = np.arctan2(along[:, 1], along[:, 0])
        c, s = np.cos(angles)[:, None], np.sin(angles)[:, None]
        u, v = c * hull[:, 0] + s * hull[:, 1], c * hull[:, 1] - s * hull[:, 0]
        wide, tall = np.ptp(u, axis=1), np.ptp(v, axis=1)
        best = int(np.argmin(wide * tall))
        angle = angles[best] + (np.pi / 2 if tall[best] > wide[best] else 0.0)
        c, s = np.cos(angle), np.sin(angle)
        out[faces] = (corners @ np.array([[c, -s], [s, c]])).reshape(-1, 3, 2)
    return out


def _placed(
    shapes: _Shapes, scale: float, side: int, spread: int, start: np.ndarray
) -> tuple[np.ndarray, np.ndarray] | None:
    """uv of all charts in the square at this scale and their places, or None when they do not fit."""
    local, extent, chart = shapes.local * scale, shapes.extent * scale, shapes.chart
    if np.ceil(extent).max() + spread + 1 > side:
        return None
    u, v = local[:, :, 0], local[:, :, 1]
    wide, tall = extent[chart][:, :1], extent[chart][:, 1:]
    ways = [np.stack(p, axis=2) for p in ((u, v), (tall - v, u), (wide - u, tall - v), (v, wide - u))]
    begins, parts, used = [], [], 0
    for k, uv in enumerate(ways):
        own = extent if k % 2 == 0 else np.ascontiguousarray(extent[:, ::-1])
        begin, spans = _spans(uv, own, shapes.order, shapes.starts, spread)
        begins.append(begin + used)
        parts.append(spans)
        used += len(spans[0])
    row, left, right = (np.concatenate([p[k] for p in parts]) for k in range(3))
    place, way = np.zeros((len(extent), 2), np.int64), np.zeros(len(extent), np.int64)
    if not _kernels.pack(shapes.by_size, np.stack(begins), row, left, right, side, start, place, way):
        return None
    chosen = np.choose(way[chart][:, None, None], ways)
    return chosen + place[chart][:, None, :] + spread // 2, place


def _spans(
    uv: np.ndarray, extent: np.ndarray, order: np.ndarray, starts: np.ndarray, spread: int
) -> tuple[np.ndarray, tuple[np.ndarray, ...]]:
    """Where each chart's spans begin, and row, left and right of all spans."""
    room = 4 * int(np.ceil(extent[:, 1] + spread + 2).sum())
    while True:
        spans = tuple(np.zeros(room, np.int64) for _ in range(3))
        begin = _kernels.chart_spans(uv, starts, order, extent, spread, *spans)
        if len(begin):
            return begin, tuple(s[: begin[-1]] for s in spans)
        room *= 2
