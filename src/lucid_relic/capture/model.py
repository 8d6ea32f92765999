"""What the virtual scanner looks at: a mesh with the optical properties of its surface."""

from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.types import TriangleMesh

MATTING_ALBEDO = 0.72  # of matting spray


@dataclass(frozen=True)
class ScanModel:
    """A hidden object. Everything is per vertex of `mesh`, which stands upright on z = 0.

    albedo (n, 3) float32 linear 0-1; gloss (n,) float32 0-1 (0 matt, 1 mirror-like); clear (n,) float32 0-1 the share
    of light that passes through, or None for an opaque object.
    """

    mesh: TriangleMesh
    albedo: np.ndarray
    gloss: np.ndarray
    clear: np.ndarray | None = None

    @classmethod
    def plain(cls, mesh: TriangleMesh, albedo: tuple[float, float, float] = (0.55, 0.5, 0.42)) -> "ScanModel":
        """A matt model of one colour, or of the mesh's own vertex colours where it has them."""
        count = len(mesh.vertices)
        if mesh.colours is not None:
            linear = (mesh.colours.astype(np.float32) / 255) ** 2.2
        else:
            linear = np.tile(np.array(albedo, np.float32), (count, 1))
        return cls(mesh, linear, np.zeros(count, np.float32))

    def matted(self) -> "ScanModel":
        """The model under matting spray: white, matt, opaque."""
        white = np.full_like(self.albedo, MATTING_ALBEDO)
        return replace(self, albedo=white, gloss=np.zeros_like(self.gloss), clear=None)

    def lying(self, tip_deg: float, about_deg: float = 0.0, lift_mm: float = 0.0) -> tuple["ScanModel", np.ndarray]:
        """The model tipped about a horizontal line and set down centred, `lift_mm` above z = 0.

        Returns the model and T_plate_model (4×4).
        """
        a, t = np.radians(about_deg), np.radians(tip_deg)
        turn = from_rotvec(np.array([np.cos(a), np.sin(a), 0]) * t, np.zeros(3))
        moved = self.mesh.transformed(turn)
        low, high = moved.vertices.min(axis=0), moved.vertices.max(axis=0)
        shift = np.eye(4)
        shift[:3, 3] = [-(low[0] + high[0]) / 2, -(low[1] + high[1]) / 2, lift_mm - low[2]]
        T_plate_model = shift @ turn
        return replace(self, mesh=self.mesh.transformed(T_plate_model)), T_plate_model
