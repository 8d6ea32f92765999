"""A bounding-volume tree over triangles: closest points and crossing triangles."""

import numpy as np
from scipy.spatial import cKDTree

from lucid_relic.geometry import _face_kernels, _tree_kernels
from lucid_relic.types import TriangleMesh

ASK_FIRST = 50  # of so many points one is asked exactly, where only the farthest is sought
LEAF_TRIANGLES = 8  # below which splitting costs more than asking


def corner_shares(corners: np.ndarray, points: np.ndarray) -> np.ndarray:
    """(n, 3) shares of the corners (n, 3, 3) at the foot of each point on its triangle."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    u, v, w = b - a, c - a, points - a
    uu, uv, vv = (u * u).sum(1), (u * v).sum(1), (v * v).sum(1)
    wu, wv = (w * u).sum(1), (w * v).sum(1)
    det = np.maximum(uu * vv - uv * uv, 1e-30)
    s, t = (vv * wu - uv * wv) / det, (uu * wv - uv * wu) / det
    inside = (s >= 0) & (t >= 0) & (s + t <= 1)
    # Outside, the foot lies on the side that is nearest to the point.
    best, nearest = np.stack([1 - s - t, s, t], axis=1), np.full(len(points), np.inf)
    for i, j in ((0, 1), (1, 2), (2, 0)):
        p, q = corners[:, i], corners[:, j]
        along = np.clip(((points - p) * (q - p)).sum(1) / np.maximum(((q - p) ** 2).sum(1), 1e-30), 0, 1)
        away = ((p + along[:, None] * (q - p) - points) ** 2).sum(1)
        better = ~inside & (away < nearest)
        nearest[better] = away[better]
        best[better] = 0
        best[better, i], best[better, j] = 1 - along[better], along[better]
    return best


class TriangleTree:
    """Median-split tree over the triangles of a mesh; built once, asked many times."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self.corners = np.ascontiguousarray(mesh.corners, dtype=np.float64)
        self.faces = mesh.faces
        a, b, c = self.corners[:, 0], self.corners[:, 1], self.corners[:, 2]
        self.low, self.high = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)
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
        used = _tree_kernels.build_bvh(self.low, self.high, (a + b + c) / 3, self.order, *nodes, LEAF_TRIANGLES)
        self.nodes = tuple(array[:used] for array in nodes)

    def closest(self, points: np.ndarray, limit: float = np.inf, enough: float = -1.0) -> tuple[np.ndarray, np.ndarray]:
        """Distances (n,) mm to the mesh and the index (n,) of the nearest triangle.

        Points farther than `limit` get `limit` and -1. Of those within `enough` only that is told: they get some
        triangle within it, and how far that is.
        """
        queries = np.ascontiguousarray(points, dtype=np.float64)
        return _tree_kernels.closest_on_mesh(queries, self.corners, self.order, *self.nodes, limit, enough)

    def farthest(self, points: np.ndarray) -> float:
        """The greatest distance (mm) of some points (n, 3) to the mesh, in a fraction of the time that `closest` takes."""
        queries = np.ascontiguousarray(points, dtype=np.float64)
        # A few tell about how far it is; most others are then done at the first triangle within that.
        least = float(self.closest(queries[::ASK_FIRST])[0].max(initial=0.0))
        return float(_tree_kernels.farthest_from_mesh(queries, self.corners, self.order, *self.nodes, least))

    def foot(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The nearest place (n, 3) on the mesh to each point, its triangle (n,) and corner shares (n, 3)."""
        points = np.ascontiguousarray(points, dtype=np.float64)
        _, face = self.closest(points)
        corners = self.corners[face]
        share = corner_shares(corners, points)
        return np.einsum("nk,nkj->nj", share, corners), face, share

    def crossings(self) -> int:
        """How many pairs of triangles that share no vertex cross each other."""
        return int(self._crossing()[0].sum())

    def crossing_faces(self) -> np.ndarray:
        """Indices, in order, of all triangles that cross another one they share no vertex with."""
        count, other = self._crossing()
        first = np.flatnonzero(count)
        return np.union1d(first, other[first])

    def _crossing(self) -> tuple[np.ndarray, np.ndarray]:
        return _tree_kernels.crossing_triangles(self.corners, self.faces, self.low, self.high, self.order, *self.nodes)


CELLS_ACROSS = 100  # of the grid by which faces that are far off are told from others without asking how far
LONG_TIPS = 4.0  # times as far from its middle as is usual the tip of a long triangle reaches


def faces_near(mesh: TriangleMesh, faces: np.ndarray, reach_sides: float) -> np.ndarray:
    """Indices, in order, of all faces within some of the longest sides (`reach_sides`) of the given ones."""
    corners, centres = mesh.vertices[mesh.faces[faces]].astype(np.float64), mesh.face_centres().astype(np.float64)
    sides = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
    reach = reach_sides * float(sides.max())
    # A long triangle comes near with its tip while its middle is far off.
    tip = np.empty(len(centres))
    _face_kernels.tips(mesh.vertices, mesh.faces, centres, tip)
    given, near = cKDTree(centres[faces]), np.zeros(len(centres), np.bool_)
    # What is farther off than a bound is not asked how far; the few long ones have a bound of their own.
    long = tip > LONG_TIPS * np.median(tip)
    for some in (np.flatnonzero(~long), np.flatnonzero(long)):
        bound = reach + float(tip[some].max(initial=0.0))
        some = some[_within_a_cell(centres[some], centres[faces], bound)]
        distance, _ = given.query(centres[some], workers=-1, distance_upper_bound=np.nextafter(bound, np.inf))
        near[some] = distance <= reach + tip[some]
    return np.flatnonzero(near)


def _within_a_cell(places: np.ndarray, given: np.ndarray, bound: float) -> np.ndarray:
    """(n,) bool of places (n, 3): false only for those that none of the given ones (k, 3) lies within `bound` of."""
    low = given.min(axis=0)
    extent = given.max(axis=0) - low
    cell = max(bound, float(extent.max()) / CELLS_ACROSS, 1e-12)
    near = np.zeros((extent / cell).astype(np.int64) + 3, np.bool_)
    near[tuple(((given - low) / cell).astype(np.int64).T + 1)] = True
    for axis in range(3):
        rows = np.moveaxis(near, axis, 0)
        before = rows.copy()
        rows[1:] |= before[:-1]
        rows[:-1] |= before[1:]
    at, inside = [], np.ones(len(places), np.bool_)
    for axis in range(3):
        column = np.floor((places[:, axis] - low[axis]) / cell).astype(np.int64) + 1
        inside &= (column >= 0) & (column < near.shape[axis])
        at.append(np.clip(column, 0, near.shape[axis] - 1))
    return inside & near[tuple(at)]


def crossing_near(mesh: TriangleMesh, faces: np.ndarray, reach_sides: float) -> np.ndarray:
    """Indices of faces that cross another one, looking only around the given faces."""
    if not len(faces):
        return faces
    near = faces_near(mesh, faces, reach_sides)
    return near[TriangleTree(TriangleMesh(mesh.vertices, mesh.faces[near])).crossing_faces()]
