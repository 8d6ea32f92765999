"""What is seen in a view, and what something hides."""

from dataclasses import dataclass

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.selection import _kernels
from lucid_relic.types import TriangleMesh, View

HIDDEN_SPACINGS = 4.0  # behind the nearest surface by more of the points' spacings: hidden; a slanting surface is not
RAY_SLACK = 1e-4  # of the distance: what single precision may lose on a ray
COVER_SPACINGS = 0.8  # of the spacing that a point covers around itself, so that no background shows between points


@dataclass(frozen=True)
class Sight:
    """How near (mm) the surface is in each pixel of a view, inf where there is none."""

    view: View
    depth: np.ndarray
    spacing_mm: float

    @classmethod
    def of(cls, view: View, points: np.ndarray, spacing_mm: float) -> "Sight":
        """What hides what, from points (n, 3) that stand about `spacing_mm` apart, in the object's frame."""
        pixels, depth = view.project(points)
        radius = np.maximum(COVER_SPACINGS * spacing_mm * view.camera.fx / np.maximum(depth, 1e-9), 0.5)
        buffer = np.full((view.height, view.width), np.inf)
        _kernels.nearest_depths(pixels, depth, np.minimum(radius, 12.0), buffer)
        return cls(view, buffer, spacing_mm)

    def sees(self, pixels: np.ndarray, depth: np.ndarray) -> np.ndarray:
        """(n,) bool: places at pixels (n, 2) and depths (n,) that nothing hides; outside the view nothing is seen."""
        x, y = np.round(np.nan_to_num(pixels, nan=-1.0)).astype(np.int64).T
        within = (x >= 0) & (y >= 0) & (x < self.view.width) & (y < self.view.height) & (depth > 0)
        near = np.full(len(pixels), -np.inf)
        near[within] = self.depth[y[within], x[within]]
        return within & (depth <= near + HIDDEN_SPACINGS * self.spacing_mm)


def seen_faces(mesh: TriangleMesh, view: View) -> np.ndarray:
    """(m,) bool: triangles that face the eye of a view and whose middle nothing hides, within its picture or not."""
    middles = mesh.face_centres().astype(np.float64)
    along = middles - view.eye
    away = np.linalg.norm(along, axis=1)
    facing = np.einsum("ij,ij->i", mesh.face_normals(), along) < 0
    scene = rtcore_scene.EmbreeScene()
    EmbreeMesh(scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
    rays = (along[facing] / away[facing, None]).astype(np.float32)
    origins = np.broadcast_to(view.eye.astype(np.float32), rays.shape).copy()
    hit = scene.run(origins, rays, output=True)
    out = facing.copy()
    out[facing] = hit["tfar"] > away[facing] * (1 - RAY_SLACK)
    return out
