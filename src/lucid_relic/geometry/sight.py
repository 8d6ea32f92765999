"""Lines of sight over a mesh: which places can be seen from where."""

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.types import TriangleMesh

SKIN_SHARE = 2e-4  # of the mesh's size above a place where a line of sight begins


class Sight:
    """A mesh that hides what lies behind it."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self._scene = rtcore_scene.EmbreeScene()
        EmbreeMesh(self._scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
        self._skin = SKIN_SHARE * float(np.linalg.norm(np.ptp(mesh.vertices, axis=0)))

    def sees(self, eye: np.ndarray, points: np.ndarray, normals: np.ndarray, grazing_deg: float) -> np.ndarray:
        """(n,) bool of places (n, 3) with unit normals (n, 3) that an eye (3,) sees, more squarely than the grazing slant."""
        way = eye - points
        length = np.linalg.norm(way, axis=1, keepdims=True)
        way = way / np.maximum(length, 1e-9)
        out = np.einsum("ij,ij->i", way, normals) > np.cos(np.radians(grazing_deg))
        facing = np.flatnonzero(out)
        start = points[facing] + self._skin * (normals[facing] + way[facing])
        hit = self._scene.run(start.astype(np.float32), way[facing].astype(np.float32), output=True)
        out[facing] = (hit["primID"] < 0) | (hit["tfar"] > length[facing, 0])
        return out
