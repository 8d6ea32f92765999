"""On which side of a surface places lie, and how far."""

import numpy as np

from lucid_relic.geometry.bvh import TriangleTree
from lucid_relic.types import TriangleMesh

SIDEWAYS = 0.5  # cosine between the way to the nearest place and its normal, under which the surface ends there


def signed_off(mesh: TriangleMesh, places: np.ndarray, close_mm: float = 0.0) -> np.ndarray:
    """(n,) float64 mm from a surface to places (n, 3), outside positive; NaN where the surface ends.

    Beyond an open border the nearest place lies sideways: there is no counterpart. Nearer than close_mm the way tells no
    direction, and it counts all the same.
    """
    foot, face, _ = TriangleTree(mesh).foot(places)
    way = places - foot
    length = np.linalg.norm(way, axis=1)
    normal = mesh.face_normals()[face]
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-20)
    along = np.einsum("ij,ij->i", way, normal)
    sideways = (length > close_mm) & (np.abs(along) < SIDEWAYS * length)
    return np.where(sideways, np.nan, np.where(along >= 0, length, -length))
