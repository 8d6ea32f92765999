"""A surface at a glance: what is shown of a large one within a second, until all of it is there."""

import numpy as np

from lucid_relic.types import TriangleMesh

MOST_GLANCED = 150_000  # triangles: they are made, sent and drawn within half a second, also where the processor draws
CELLS_MET = 1.5  # cells of a grid that a surface meets on the area of one of their sides


def glanced(mesh: TriangleMesh, most: int = 0) -> TriangleMesh:
    """A mesh of about `most` (0: `MOST_GLANCED`) triangles in place of a larger one: its vertices joined on a grid (Rossignac and
    Borrel, "Multi-resolution 3D approximations", 1993). A texture becomes colours of vertices."""
    most = most or MOST_GLANCED
    if len(mesh.faces) <= most:
        return mesh
    side = np.sqrt(2 * CELLS_MET * mesh.area_mm2() / most)
    cells = np.floor((mesh.vertices - mesh.vertices.min(axis=0)) / side).astype(np.int64)
    wide = cells.max(axis=0) + 1
    key = (cells[:, 0] * wide[1] + cells[:, 1]) * wide[2] + cells[:, 2]
    _, cell, held = np.unique(key, return_inverse=True, return_counts=True)
    mean = lambda values: np.stack([np.bincount(cell, v) for v in values.T], axis=1) / held[:, None]  # noqa: E731
    kept = _apart(cell[mesh.faces], len(held))
    vertices, colours = mean(mesh.vertices), _colours(mesh)
    faces = _turned(cell[mesh.faces[kept]], vertices, mean(mesh.vertex_normals()))
    return TriangleMesh(
        vertices.astype(np.float32),
        faces.astype(np.int32),
        None if colours is None else np.round(mean(colours)).astype(np.uint8),
        None if mesh.made_up is None else mesh.made_up[kept],
        roughness=mesh.roughness,
    )


def _apart(faces: np.ndarray, count: int) -> np.ndarray:
    """The indices of the faces of so many vertices that still have three corners, of those upon one another the first."""
    low, middle, high = np.sort(faces, axis=1).T
    left = np.flatnonzero((low != middle) & (middle != high))
    key = (low[left] * count + middle[left]) * count + high[left]
    return left[np.unique(key, return_index=True)[1]]


def _turned(faces: np.ndarray, vertices: np.ndarray, outward: np.ndarray) -> np.ndarray:
    """The faces, each with its front to where the surface faced around its first corner."""
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    inward = np.einsum("ij,ij->i", np.cross(b - a, c - a), outward[faces[:, 0]]) < 0
    return np.where(inward[:, None], faces[:, ::-1], faces)


def _colours(mesh: TriangleMesh) -> np.ndarray | None:
    """(n, 3) colours of the vertices: what the texture has at one of their corners, or their own."""
    texture = mesh.texture
    if texture is None:
        return mesh.colours
    corner = np.zeros(len(mesh.vertices), np.int64)
    corner[mesh.faces.ravel()] = np.arange(mesh.faces.size)
    return texture.at(texture.uv.reshape(-1, 2)[corner])
