"""Cutting a mesh into charts and packing them into a square.

Faces are labelled with one of 26 directions so that neighbours agree; connected faces of one label
are a chart, laid flat by looking along its direction (no triangle shrinks below cos 66°). Charts that
fold over themselves are cut apart. Packing drops each chart's outline onto a rising horizon (Lévy et
al. 2002, doi:10.1145/566654.566590).
"""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.colour import _kernels
from lucid_relic.errors import StepNotPossible
from lucid_relic.types import TriangleMesh

MIN_COS = 0.4
NEIGHBOUR_STRENGTH = 0.35
ROUNDS = 40
GUTTER = 2
FIRST_FILL = 0.62
SHRINK = 0.94
MAX_TRIES = 24


@dataclass(frozen=True)
class Atlas:
    """uv (m, 3, 2) float64 in texels (centres at integers), chart (m,) of each face, texel size mm."""

    uv: np.ndarray
    chart: np.ndarray
    size: int
    texel_mm: float


def make_atlas(mesh: TriangleMesh, size: int) -> Atlas:
    """Lay all triangles of a mesh into a square of `size` texels without overlap."""
    if not len(mesh.faces):
        raise StepNotPossible("There is no mesh to lay colour on yet. Fuse first.")
    normals = mesh.face_normals()
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = normals / np.maximum(length, 1e-20)
    neighbours = face_neighbours(mesh.faces)
    directions = _directions()
    labels = np.argmax(normals @ directions.T, axis=1)
    _kernels.smooth_labels(normals, neighbours, directions, labels, NEIGHBOUR_STRENGTH, ROUNDS, MIN_COS)
    flat = _flatten(mesh, directions[labels])
    texel = np.sqrt(float(length.sum()) / 2 / (FIRST_FILL * size * size))
    chart = _cut_folds(flat / texel, _connected(neighbours, labels), neighbours)
    for _ in range(MAX_TRIES):
        uv = _packed(flat / texel, chart, size)
        if uv is not None:
            return Atlas(uv, chart, size, float(texel))
        texel /= SHRINK
    raise StepNotPossible(f"The charts do not fit a texture of {size}. Choose a larger texture.")


def face_neighbours(faces: np.ndarray) -> np.ndarray:
    """(m, 3) face across each side, -1 at a border or where more than two faces meet."""
    sides = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1).astype(np.int64)
    keys = sides[:, 0] << 32 | sides[:, 1]
    order = np.argsort(keys, kind="stable")
    ranked = keys[order]
    pair = np.flatnonzero(ranked[1:] == ranked[:-1])
    out = np.full(len(keys), -1, np.int64)
    a, b = order[pair], order[pair + 1]
    out[a], out[b] = b // 3, a // 3
    return out.reshape(-1, 3)


def _directions() -> np.ndarray:
    grid = np.array([[x, y, z] for x in (-1, 0, 1) for y in (-1, 0, 1) for z in (-1, 0, 1)], float)
    grid = grid[np.abs(grid).sum(axis=1) > 0]
    return grid / np.linalg.norm(grid, axis=1, keepdims=True)


def _flatten(mesh: TriangleMesh, direction: np.ndarray) -> np.ndarray:
    """(m, 3, 2) mm: corners seen along each face's direction, counter-clockwise for facing ones."""
    helper = np.where(np.abs(direction[:, 2:3]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]])
    right = np.cross(helper, direction)
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    up = np.cross(direction, right)
    corners = mesh.corners.astype(np.float64)
    u = np.einsum("mkj,mj->mk", corners, right)
    v = np.einsum("mkj,mj->mk", corners, up)
    return np.stack([u, v], axis=2)


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


def _to_corner(uv: np.ndarray, chart: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """uv moved so that every chart starts at 0, and the extent (c, 2) of the charts."""
    order, starts = _by_chart(chart)
    low = np.minimum.reduceat(uv.min(axis=1)[order], starts[:-1])
    high = np.maximum.reduceat(uv.max(axis=1)[order], starts[:-1])
    return uv - low[chart][:, None, :], high - low


def _cut_folds(uv: np.ndarray, chart: np.ndarray, neighbours: np.ndarray) -> np.ndarray:
    """Give faces that would lie on others of their chart a chart of their own."""
    for _ in range(4):
        local, extent = _to_corner(uv, chart)
        order, starts = _by_chart(chart)
        conflict = np.zeros(len(chart), np.bool_)
        size = np.ceil(extent).astype(np.int64)
        _kernels.find_overlaps(local, starts, order, size[:, 0], size[:, 1], conflict)
        if not conflict.any():
            break
        chart = _connected(neighbours, chart * 2 + conflict)
    return chart


def _packed(uv: np.ndarray, chart: np.ndarray, size: int) -> np.ndarray | None:
    """uv of all charts inside the square, or None when they do not fit at this scale."""
    local, extent = _to_corner(uv, chart)
    tall = extent[:, 1] > extent[:, 0]
    turn = tall[chart]
    swapped = np.stack([extent[chart][:, None, 1] - local[:, :, 1], local[:, :, 0]], axis=2)
    local = np.where(turn[:, None, None], swapped, local)
    extent = np.where(tall[:, None], extent[:, ::-1], extent)
    order, starts = _by_chart(chart)
    widths = np.ceil(extent[:, 0]).astype(np.int64) + 2 * GUTTER + 1
    offsets = np.concatenate([[0], np.cumsum(widths)])
    bottom = np.full(offsets[-1], 1 << 40, np.int64)
    top = np.full(offsets[-1], -1, np.int64)
    _kernels.profiles(local, starts, order, offsets, bottom, top, GUTTER)
    place = np.zeros((len(widths), 2), np.int64)
    by_size = np.lexsort((-extent[:, 0], -extent[:, 1]))
    if _kernels.pack(by_size, offsets, bottom, top, size, place) > size:
        return None
    return local + place[chart][:, None, :] + GUTTER
