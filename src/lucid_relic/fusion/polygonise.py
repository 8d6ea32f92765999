"""From a signed field to triangles, block by block, by marching tetrahedra.

Marching tetrahedra (Doi & Koide 1991) on Kuhn's subdivision is chosen over marching cubes because its
output is a manifold without crossings by construction; the extra triangles go when the mesh is
simplified. A cell is polygonised only when all its corners have a value.
"""

from dataclasses import replace

import numpy as np

from lucid_relic.fusion import _marching_kernels
from lucid_relic.fusion.closing import ClosedField
from lucid_relic.geometry.topology import split_fans
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import TriangleMesh, Volume

NUDGE = 1e-3  # of the truncation: a voxel exactly on the surface would make triangles without area
TELL_EVERY = 2000  # blocks: some tenths of a second
MAKING = "Making triangles"
KEY_X, KEY_Y = 2097152 * 1048576, 1048576  # how far apart cells along x and y are in a key: 2²¹ each way


def polygonise_open(volume: Volume, progress: Progress = silent) -> TriangleMesh:
    """The measured surface only; open where nothing was measured."""
    index = {key: n for n, key in enumerate(map(tuple, volume.coords.tolist()))}
    observed = np.where(volume.weight > 0, volume.distance, np.nan).reshape(-1, 8, 8, 8)
    wanted = np.flatnonzero(_has_both_signs(observed))
    if not len(wanted):
        return _empty()
    progress(0.1, MAKING)
    blocks = volume.coords[wanted]
    upper = [blocks + step for step in np.ndindex(2, 2, 2)]
    beside = np.array([[index.get(place, -1) for place in map(tuple, of.tolist())] for of in upper])
    padded = np.empty((len(wanted), 9, 9, 9), np.float32)
    _marching_kernels.pad_blocks(observed, beside, padded)
    return split_fans(_mesh(padded, ~np.isnan(padded), blocks, volume, part_of(progress, 0.5, 1.0)))


def _has_both_signs(observed: np.ndarray) -> np.ndarray:
    """Blocks that may hold a crossing: not all values on the far side of the surface."""
    with np.errstate(invalid="ignore"):
        return np.asarray((observed < 0.999).any(axis=(1, 2, 3)))


def polygonise_closed(closed: ClosedField, volume: Volume, progress: Progress = silent) -> TriangleMesh:
    """The whole surface of a closed field; triangles that touch unmeasured voxels are made up."""
    blocks = np.empty((int(np.prod([-(-n // 8) for n in closed.field.shape])), 3), np.int64)
    blocks = blocks[: _marching_kernels.crossing_blocks(closed.field, blocks)]
    if not len(blocks):
        return _empty()
    padded = np.full((len(blocks), 9, 9, 9), np.nan, np.float32)
    known = np.zeros((len(blocks), 9, 9, 9), np.bool_)
    for n, (i, j, k) in enumerate(blocks * 8):
        if n % TELL_EVERY == 0:
            progress(0.5 * n / len(blocks), MAKING)
        part = closed.field[i : i + 9, j : j + 9, k : k + 9]
        a, b, c = part.shape
        padded[n, :a, :b, :c] = part
        known[n, :a, :b, :c] = closed.known[i : i + 9, j : j + 9, k : k + 9]
    return _mesh(padded, known, blocks + closed.low, volume, part_of(progress, 0.5, 1.0))


def _mesh(
    padded: np.ndarray, known: np.ndarray, blocks: np.ndarray, volume: Volume, progress: Progress
) -> TriangleMesh:
    mesh, start, step = triangles_of_blocks(padded, known, blocks, volume.origin, volume.voxel_mm, progress)
    progress(0.8, "Colouring the triangles")
    return replace(mesh, colours=_vertex_colours(volume, start, step))


def triangles_of_blocks(
    padded: np.ndarray,
    known: np.ndarray,
    blocks: np.ndarray,
    origin: np.ndarray,
    voxel_mm: float,
    progress: Progress = silent,
) -> tuple[TriangleMesh, np.ndarray, np.ndarray]:
    """March padded blocks (b, 9, 9, 9) of a signed field, NaN where it has no value.

    known (b, 9, 9, 9) bool marks measured voxels, blocks (b, 3) are block coordinates. Returns the
    mesh and, for every vertex, the start and step (n, 3), in voxels, of the grid edge it lies on.
    """
    np.copyto(padded, np.where(padded < 0, -NUDGE, NUDGE), where=np.abs(padded) < NUDGE)
    low = blocks.min(axis=0)
    corner = (blocks - low).astype(np.int64) * 8
    ends = np.cumsum(_marching_kernels.count_triangles(padded))
    count = int(ends[-1])
    keys = np.empty((count, 3), np.int64)
    share = np.empty((count, 3), np.float32)
    edge_known = np.empty((count, 3), np.bool_)
    progress(0.1, MAKING)
    _marching_kernels.march(padded, corner, np.append(0, ends[:-1]), keys, share, known, edge_known)
    progress(0.4, MAKING)
    unique, first, faces = np.unique(keys.ravel(), return_index=True, return_inverse=True)
    start, step = _edge_ends(unique)
    start = start + low * 8
    vertices = origin + (start + step * share.ravel()[first][:, None]) * voxel_mm
    faces = faces.reshape(-1, 3).astype(np.int32)
    return TriangleMesh(vertices.astype(np.float32), faces, None, np.asarray(~edge_known.all(axis=1))), start, step


def _edge_ends(keys: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Start (n, 3) in voxels and step (n, 3) of 0 or 1 of the grid edges named by keys."""
    bits = keys & 7
    cell = keys >> 3
    start = np.stack([cell // KEY_X, cell // KEY_Y % 2097152, cell % KEY_Y], axis=1)
    step = np.stack([(bits >> 2) & 1, (bits >> 1) & 1, bits & 1], axis=1)
    return start, step


def _vertex_colours(volume: Volume, start: np.ndarray, step: np.ndarray) -> np.ndarray:
    """(n, 3) uint8 colour of the voxels at both ends of each edge, black where none is known."""
    order = np.lexsort(volume.coords.T[::-1])
    packed = _pack(volume.coords[order])
    total = np.zeros((len(start), 3))
    count = np.zeros(len(start))
    for voxel in (start, start + step):
        where = np.searchsorted(packed, _pack(voxel // 8))
        where = np.minimum(where, len(packed) - 1)
        hit = packed[where] == _pack(voxel // 8)
        local = voxel % 8
        flat = (local[:, 0] * 8 + local[:, 1]) * 8 + local[:, 2]
        colour = volume.colour[order[where], flat].astype(np.float64)
        some = hit & colour.any(axis=1)
        total[some] += colour[some]
        count[some] += 1
    return (total / np.maximum(count, 1)[:, None]).round().astype(np.uint8)


def _pack(coords: np.ndarray) -> np.ndarray:
    c = coords.astype(np.int64) + (1 << 20)
    return (c[:, 0] << 42) | (c[:, 1] << 21) | c[:, 2]


def _empty() -> TriangleMesh:
    return TriangleMesh(np.empty((0, 3), np.float32), np.empty((0, 3), np.int32))
