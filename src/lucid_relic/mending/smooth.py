"""Smoothing and sharpening a mesh, its edges kept, its volume kept, no vertex moved farther than allowed.

The normals of the triangles are evened out among those that face alike (bilateral normal filtering, Zheng, Fu, Au & Tai 2011,
doi:10.1109/TVCG.2010.264); the vertices then follow the normals (Sun, Rosin, Martin & Langbein 2007,
doi:10.1109/TVCG.2007.1065). Across an edge nothing faces alike, so that it stays. Sharpening moves as far the other way.
"""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix

from lucid_relic.geometry.topology import edge_table, is_watertight
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import TriangleMesh

NORMAL_ROUNDS, VERTEX_ROUNDS = 10, 12
VOLUME_ROUNDS = 6
LIKE = (0.12, 0.35)  # difference of unit normals that counts as like: twice the usual between neighbours, within these
ROUNDING = 1e-6  # of the bound, and of the coordinates as they are stored, that is left for rounding


def smooth(
    mesh: TriangleMesh,
    most_mm: float,
    sharpen: bool = False,
    chosen: np.ndarray | None = None,
    progress: Progress = silent,
) -> TriangleMesh:
    """The mesh with its vertices moved by at most most_mm; chosen (n,) bool are those that may move, all when left out.

    Faces, colours, made-up flags and texture stay as they are.
    """
    before = mesh.vertices.astype(np.float64)
    faces = mesh.faces
    normals = _evened(mesh, part_of(progress, 0.0, 0.4))
    corner_of = _corners(faces, len(before))
    count = np.maximum(np.asarray(corner_of.sum(axis=1)).ravel(), 1.0)
    after = before.copy()
    moves = np.ones(len(before), bool) if chosen is None else chosen
    bound = _bound(before, most_mm)
    for k in range(VERTEX_ROUNDS):
        progress(0.4 + 0.4 * k / VERTEX_ROUNDS, "Moving vertices")
        after += _towards(after, faces, normals, corner_of) / count[:, None]
        after = _held(before, after, moves, bound)
    if sharpen:
        after = _held(before, 2 * before - after, moves, bound)
    _, counts, _ = edge_table(faces)
    if is_watertight(faces, counts):
        after = _volume_kept(mesh, before, after, moves, bound)
    progress(1.0, "Smoothed")
    return replace(mesh, vertices=after.astype(np.float32))


def _bound(before: np.ndarray, most_mm: float) -> float:
    """The largest shift that stays within most_mm once it is stored in single precision."""
    rounding = 2 * float(np.finfo(np.float32).eps) * float(np.abs(before).max(initial=0.0))
    return max(most_mm * (1 - ROUNDING) - rounding, 0.0)


def _unit(vectors: np.ndarray) -> np.ndarray:
    out: np.ndarray = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12)
    return out


def _corners(faces: np.ndarray, count: int) -> csr_matrix:
    """(n, m) which faces stand round each vertex."""
    m = len(faces)
    ones = np.ones(3 * m)
    return csr_matrix((ones, (faces.ravel(), np.repeat(np.arange(m), 3))), shape=(count, m))


def _evened(mesh: TriangleMesh, progress: Progress) -> np.ndarray:
    """(m, 3) unit normals of the faces, evened out among neighbours that face alike."""
    scaled = mesh.face_normals()
    area = np.linalg.norm(scaled, axis=1)
    normals = _unit(scaled)
    around = _corners(mesh.faces, len(mesh.vertices))
    beside = (around.T @ around).tocoo()  # faces that share a corner
    i, j = beside.row, beside.col
    apart = np.linalg.norm(normals[i] - normals[j], axis=1)
    usual = float(np.median(apart[i != j])) if (i != j).any() else 0.0
    like = float(np.clip(2 * usual, *LIKE))
    for k in range(NORMAL_ROUNDS):
        progress(k / NORMAL_ROUNDS, "Evening out normals")
        apart = np.linalg.norm(normals[i] - normals[j], axis=1)
        weight = area[j] * np.exp(-((apart / like) ** 2) / 2)
        normals = _unit(coo_matrix((weight, (i, j)), shape=beside.shape).tocsr() @ normals)
    return normals


def _towards(vertices: np.ndarray, faces: np.ndarray, normals: np.ndarray, corner_of: csr_matrix) -> np.ndarray:
    """(n, 3) sum of the steps from each vertex to the planes of its faces."""
    centres = vertices[faces].mean(axis=1)
    height = np.einsum("mk,mk->m", normals, centres)
    pull = corner_of @ (normals * height[:, None])
    # Each vertex takes off its own height along each normal: the sum over its faces of n nᵀ v.
    own = np.empty_like(vertices)
    for axis in range(3):
        along = sum((corner_of @ (normals[:, axis] * normals[:, k])) * vertices[:, k] for k in range(3))
        own[:, axis] = along
    step: np.ndarray = pull - own
    return step


def _held(before: np.ndarray, after: np.ndarray, moves: np.ndarray, bound: float) -> np.ndarray:
    """Vertices no farther than the bound from where they were, and where they were when they may not move."""
    way = after - before
    length = np.linalg.norm(way, axis=1)
    share = np.where(moves, np.minimum(1.0, bound / np.maximum(length, 1e-12)), 0.0)
    out: np.ndarray = before + way * share[:, None]
    return out


def _volume_kept(
    mesh: TriangleMesh, before: np.ndarray, after: np.ndarray, moves: np.ndarray, bound: float
) -> np.ndarray:
    """What was lost or won of the volume is given back along the normals of what moved."""
    wanted = mesh.volume_mm3()
    for _ in range(VOLUME_ROUNDS):
        now = TriangleMesh(after, mesh.faces)
        lost = wanted - now.volume_mm3()
        normals = now.vertex_normals().astype(np.float64)
        share = np.bincount(
            mesh.faces.ravel(), np.repeat(np.linalg.norm(now.face_normals(), axis=1) / 6, 3), len(after)
        )
        area = float(share[moves].sum())
        if abs(lost) < 1e-9 * max(abs(wanted), 1.0) or area <= 0:
            break
        after = _held(before, after + normals * (moves * lost / area)[:, None], moves, bound)
    return after
