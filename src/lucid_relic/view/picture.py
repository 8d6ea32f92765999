"""Small pictures of a mesh or of points for the shelf, on transparent ground."""

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.memo import remembered
from lucid_relic.types import PointCloud, TriangleMesh

AZIMUTH_DEG, ELEVATION_DEG = -28.0, 16.0  # from the front left, a little above
MARGIN = 1.02  # of the square that the object fills
LIGHT = np.array([-0.45, -0.55, 0.7]) / np.linalg.norm([-0.45, -0.55, 0.7])  # towards the lamp
PLAIN = 0.42  # linear light of what has no colour
SUPERSAMPLING = 2  # pixels each way for one of the picture


def _view_axes(azimuth_deg: float = AZIMUTH_DEG) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Right, up and towards-the-viewer unit vectors."""
    a, e = np.radians(azimuth_deg), np.radians(ELEVATION_DEG)
    toward = np.array([np.sin(a) * np.cos(e), -np.cos(a) * np.cos(e), np.sin(e)])
    right = np.array([np.cos(a), np.sin(a), 0])
    return right, np.cross(toward, right), toward


def picture_of_mesh(
    mesh: TriangleMesh, size: int, azimuth_deg: float = AZIMUTH_DEG, turning: bool = False
) -> np.ndarray:
    """(size, size, 4) uint8 RGBA: the mesh seen from an azimuth, filling the square.

    With turning it keeps its size from every azimuth, turned about the upright through its middle.
    """
    right, up, toward = _view_axes(azimuth_deg)
    low, _, reach = _frame(mesh.vertices, right, up)
    if turning:
        low, reach = _turning_frame(mesh.vertices, right, up)
    fine = size * SUPERSAMPLING
    across, down = np.linspace(low[0], low[0] + reach, fine), np.linspace(low[1] + reach, low[1], fine)
    # Rays beside the object meet nothing.
    x, y = mesh.vertices @ right, mesh.vertices @ up
    columns = np.flatnonzero((across >= x.min()) & (across <= x.max()))
    rows = np.flatnonzero((down >= y.min()) & (down <= y.max()))
    s, t = np.meshgrid(across[columns], down[rows])
    away = float((mesh.vertices @ toward).max()) + 10
    origins = s.reshape(-1, 1) * right + t.reshape(-1, 1) * up + away * toward
    drawn = remembered(mesh, "drawn", lambda: _Drawn(mesh))
    rays = np.broadcast_to(-toward.astype(np.float32), origins.shape).copy()
    hit = drawn.scene.run(origins.astype(np.float32), rays, output=True)
    triangle = hit["primID"].astype(np.int64)
    on = triangle >= 0
    share = np.stack([1 - hit["u"] - hit["v"], hit["u"], hit["v"]], axis=1)[on]
    corner = mesh.faces[triangle[on]]
    seen = np.zeros((len(on), 4), np.float32)
    seen[on, :3] = _shaded(drawn.light_at(share, corner), np.einsum("nk,nkj->nj", share, drawn.normals[corner]))
    seen[on, 3] = 1
    whole = np.zeros((fine, fine, 4), np.float32)
    whole[rows[:, None], columns] = seen.reshape(len(rows), len(columns), 4)
    return _small(whole, size)


class _Drawn:
    """What every picture of a mesh needs of it."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self.scene = rtcore_scene.EmbreeScene()
        self.body = EmbreeMesh(self.scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
        self.normals = mesh.vertex_normals()
        self.light = None if mesh.colours is None else ((mesh.colours / np.float32(255)) ** 2.2).astype(np.float32)

    def light_at(self, share: np.ndarray, corner: np.ndarray) -> np.ndarray:
        """(n, 3) linear colour at places in triangles: shares (n, 3) of their corners (n, 3)."""
        if self.light is None:
            return np.full((len(share), 3), PLAIN, np.float32)
        return np.einsum("nk,nkj->nj", share, self.light[corner])


def picture_of_points(cloud: PointCloud, size: int) -> np.ndarray:
    """(size, size, 4) uint8 RGBA of a point set, each point a small square, nearest in front."""
    right, up, toward = _view_axes()
    low, high, reach = _frame(cloud.points, right, up)
    x = ((cloud.points @ right - low[0]) / reach * (size - 1)).astype(int)
    y = ((low[1] + reach - cloud.points @ up) / reach * (size - 1)).astype(int)
    facing = cloud.normals @ toward > 0 if cloud.normals is not None else np.ones(len(x), bool)
    order = np.argsort(cloud.points[facing] @ toward)
    image = np.zeros((size, size, 4), np.uint8)
    colours = cloud.colours if cloud.colours is not None else np.full((len(x), 3), 150, np.uint8)
    x, y, colours = x[facing][order], y[facing][order], colours[facing][order]
    for dy in (0, 1):
        for dx in (0, 1):
            yy, xx = np.minimum(y + dy, size - 1), np.minimum(x + dx, size - 1)
            image[yy, xx, :3] = colours
            image[yy, xx, 3] = 255
    return image


def _turning_frame(points: np.ndarray, right: np.ndarray, up: np.ndarray) -> tuple[np.ndarray, float]:
    """Lower left corner and side of a square that holds the points however they are turned about the upright."""
    ends = np.stack([points.min(axis=0), points.max(axis=0)]).astype(np.float64)
    middle = ends.mean(axis=0)
    around = float(np.linalg.norm(points[:, :2] - middle[:2], axis=1).max())
    tall = float(ends[1, 2] - ends[0, 2])
    e = np.radians(ELEVATION_DEG)
    reach = MARGIN * max(2 * around, tall * np.cos(e) + 2 * around * np.sin(e))
    return np.array([middle @ right, middle @ up]) - reach / 2, reach


def _frame(points: np.ndarray, right: np.ndarray, up: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    flat = np.stack([points @ right, points @ up], axis=1).astype(np.float64)
    low, high = flat.min(axis=0), flat.max(axis=0)
    reach = float((high - low).max()) * MARGIN
    low = np.array([(low[0] + high[0] - reach) / 2, low[1] - 0.005 * reach])
    return low, high, reach


def _shaded(colour: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """Colours (n, 3) under the lamp."""
    normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-9)
    light = 0.42 + 0.85 * np.clip(normal @ LIGHT, 0, 1)
    lit: np.ndarray = np.clip(colour * light[:, None], 0, 1)
    return lit


def _small(whole: np.ndarray, size: int) -> np.ndarray:
    """The picture of its finer self, whose colour counts only where something is."""
    k = SUPERSAMPLING
    small = whole.reshape(size, k, size, k, 4).mean(axis=(1, 3))
    alpha = small[..., 3:]
    rgb = np.where(alpha > 0, small[..., :3] / np.maximum(alpha, 1e-6), 0) ** (1 / 2.2)
    return np.round(np.concatenate([rgb, alpha], axis=2) * 255).astype(np.uint8)
