"""Reducing the triangle count by quadric edge collapse, keeping the mesh a manifold.

Garland & Heckbert (1997), doi:10.1145/258734.258849, with border planes, the link condition of Dey et
al. (1999) and a check that no triangle turns over. Limits: pieces are never joined, and a mesh that is
not a manifold stays what it is.
"""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.errors import StepNotPossible
from lucid_relic.mending import _kernels
from lucid_relic.types import TriangleMesh


@dataclass(frozen=True)
class Simplified:
    """The reduced mesh and, for every face, the face of the original it was born from (m,)."""

    mesh: TriangleMesh
    birth: np.ndarray


def simplify(mesh: TriangleMesh, target: int, tolerance_mm: float | None = None) -> Simplified:
    """Reduce to `target` triangles, stopping earlier where a collapse would cost over `tolerance_mm`.

    The tolerance bounds the area-weighted rms distance to the planes merged into a vertex, not the
    greatest distance. Colours are taken from the nearest original vertex; made-up flags from birth.
    """
    if target < 4:
        raise StepNotPossible("A mesh cannot be reduced to fewer than 4 triangles.")
    if len(mesh.faces) <= target and tolerance_mm is None:
        return Simplified(mesh.without_texture(), np.arange(len(mesh.faces)))
    vertices = mesh.vertices.astype(np.float64)
    centre = vertices.mean(axis=0)
    vertices -= centre
    faces = mesh.faces.astype(np.int64)
    edges, side_on_border = _edges(faces)
    quadrics = np.zeros((len(vertices), 10))
    _kernels.vertex_quadrics(vertices, faces, quadrics)
    _kernels.border_quadrics(vertices, faces, side_on_border, quadrics)
    on_border = np.zeros(len(vertices), np.bool_)
    on_border[np.unique(faces[side_on_border])] = True
    on_border[np.unique(np.roll(faces, -1, axis=1)[side_on_border])] = True
    alive = np.ones(len(faces), np.bool_)
    limit = np.inf
    if tolerance_mm is not None:
        limit = tolerance_mm**2 * mesh.area_mm2() / max(len(faces), 1) * 2
    _kernels.collapse(vertices, faces, edges, quadrics, on_border, alive, target, limit)
    return _collected(mesh, vertices + centre, faces, alive)


def _edges(faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Undirected edges (e, 2) int64 and which face sides (m, 3) lie on a border."""
    sides = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    keys, inverse, counts = np.unique(sides[:, 0] << 32 | sides[:, 1], return_inverse=True, return_counts=True)
    edges = np.stack([keys >> 32, keys & 0xFFFFFFFF], axis=1)
    return np.ascontiguousarray(edges), (counts[inverse] == 1).reshape(-1, 3)


def _collected(mesh: TriangleMesh, vertices: np.ndarray, faces: np.ndarray, alive: np.ndarray) -> Simplified:
    kept = np.flatnonzero(alive)
    used, new = np.unique(faces[kept], return_inverse=True)
    positions = vertices[used].astype(np.float32)
    colours = None
    if mesh.colours is not None:
        _, nearest = cKDTree(mesh.vertices).query(positions, workers=-1)
        colours = mesh.colours[nearest]
    out = TriangleMesh(
        positions,
        new.reshape(-1, 3).astype(np.int32),
        colours,
        None if mesh.made_up is None else mesh.made_up[kept],
    )
    return Simplified(out, kept)
