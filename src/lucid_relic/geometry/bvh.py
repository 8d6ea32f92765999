"""A bounding-volume tree over triangles: closest points and crossing triangles."""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry import _kernels
from lucid_relic.types import TriangleMesh

LEAF_TRIANGLES = 8


class TriangleTree:
    """Median-split tree over the triangles of a mesh; built once, asked many times."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self.corners = np.ascontiguousarray(mesh.corners, dtype=np.float64)
        self.faces = mesh.faces
        self.low = self.corners.min(axis=1)
        self.high = self.corners.max(axis=1)
        count = len(self.corners)
        capacity = max(4 * count // LEAF_TRIANGLES * 2 + 8, 8)
        self.order = np.arange(count)
        nodes = (
            np.empty((capacity, 3)),
            np.empty((capacity, 3)),
            np.full(capacity, -1, np.int64),
            np.zeros(capacity, np.int64),
            np.zeros(capacity, np.int64),
        )
        used = _kernels.build_bvh(self.low, self.high, self.corners.mean(axis=1), self.order, *nodes, LEAF_TRIANGLES)
        self.nodes = tuple(array[:used] for array in nodes)

    def closest(self, points: np.ndarray, limit: float = np.inf) -> tuple[np.ndarray, np.ndarray]:
        """Distances (n,) mm to the mesh and the index (n,) of the nearest triangle.

        Points farther than `limit` get `limit` and -1.
        """
        queries = np.ascontiguousarray(points, dtype=np.float64)
        return _kernels.closest_on_mesh(queries, self.corners, self.order, *self.nodes, limit)

    def crossings(self) -> int:
        """How many pairs of triangles that share no vertex cross each other."""
        return int(self._crossing()[0].sum())

    def crossing_faces(self) -> np.ndarray:
        """Indices, in order, of all triangles that cross another one they share no vertex with."""
        count, other = self._crossing()
        first = np.flatnonzero(count)
        return np.union1d(first, other[first])

    def _crossing(self) -> tuple[np.ndarray, np.ndarray]:
        return _kernels.crossing_triangles(self.corners, self.faces, self.low, self.high, self.order, *self.nodes)


def faces_near(mesh: TriangleMesh, faces: np.ndarray, reach_sides: float) -> np.ndarray:
    """Indices, in order, of all faces within some of the longest sides (`reach_sides`) of the given ones."""
    corners = mesh.corners.astype(np.float64)
    sides = np.linalg.norm(corners[faces] - np.roll(corners[faces], 1, axis=1), axis=2)
    tree = cKDTree(corners[faces].mean(axis=1))
    reach = reach_sides * float(sides.max())
    distance, _ = tree.query(corners.mean(axis=1), distance_upper_bound=reach, workers=-1)
    return np.flatnonzero(np.isfinite(distance))


def crossing_near(mesh: TriangleMesh, faces: np.ndarray, reach_sides: float) -> np.ndarray:
    """Indices of faces that cross another one, looking only around the given faces."""
    if not len(faces):
        return faces
    near = faces_near(mesh, faces, reach_sides)
    return near[TriangleTree(TriangleMesh(mesh.vertices, mesh.faces[near])).crossing_faces()]
