"""What is seen in a view, and what something hides."""

from dataclasses import dataclass

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.selection import _kernels
from lucid_relic.types import TriangleMesh, View

HIDDEN_SPACINGS = 1.5  # behind the nearest surface by more of the points' spacings: hidden
LEAST_COS = 0.12  # of the angle that surface is seen at: a pixel's depth is not taken for less certain than at this one
SHARES = 2  # of the points, drawn by a thread each: every one has a picture of its own
RAY_SLACK = 1e-4  # of the distance: what single precision may lose on a ray
COVER_SPACINGS = 0.8  # of the spacing that a point covers around itself, so that no background shows between points


@dataclass(frozen=True)
class Sight:
    """How near (mm) the surface is in each pixel of a view, inf where there is none."""

    view: View
    depth: np.ndarray
    spacing_mm: float

    @classmethod
    def of(cls, view: View, points: np.ndarray, normals: np.ndarray, spacing_mm: float) -> "Sight":
        """What hides what, from points (n, 3) with unit normals (n, 3) that stand about `spacing_mm` apart, in the object."""
        camera = view.camera
        buffers = np.full((SHARES, view.height, view.width), np.inf)
        _kernels.disc_depths(
            np.ascontiguousarray(points, dtype=np.float64), np.ascontiguousarray(normals, dtype=np.float64), view.pose,
            COVER_SPACINGS * spacing_mm, camera.fx, camera.cx, camera.cy, buffers,
        )  # fmt: skip
        return cls(view, buffers.min(axis=0), spacing_mm)

    def leave_seen(
        self, places: np.ndarray, normals: np.ndarray, pixels: np.ndarray, depth: np.ndarray, inside: np.ndarray
    ) -> None:
        """Take out of `inside` (n,) bool what is hidden: places (n, 3) with unit normals, seen at pixels (n, 2) and depths (n,).

        What faces away is not seen, nor anything outside the view.
        """
        _kernels.take_out_hidden(
            places, np.ascontiguousarray(normals, dtype=np.float64), self.view.eye, pixels, depth, self.depth,
            self.view.camera.fx, HIDDEN_SPACINGS * self.spacing_mm, LEAST_COS, inside,
        )  # fmt: skip


def projected(view: View, places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """As `View.project`, for many places (n, 3)."""
    pixels, depth = np.empty((len(places), 2)), np.empty(len(places))
    camera = view.camera
    _kernels.projected(
        np.ascontiguousarray(places, dtype=np.float64), view.pose, camera.fx, camera.cx, camera.cy, pixels, depth
    )
    return pixels, depth


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
