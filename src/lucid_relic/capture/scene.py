"""What rays of the virtual head meet: the model on a plate or on a pin."""

from dataclasses import dataclass, field

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.capture.dots import StuckDots
from lucid_relic.capture.model import ScanModel
from lucid_relic.geometry.rigid import inverse
from lucid_relic.memo import remembered
from lucid_relic.types import TriangleMesh

NONE, PLATE = -1, -2  # of a ray's triangle
PIN_RADIUS_MM, PIN_SIDES = 1.2, 24
SKIN_MM = 0.02  # above a surface where rays to a lamp begin


class Body:
    """A model's surface for rays, in the frame that the model came in: however it is laid, this is made once."""

    def __init__(self, mesh: TriangleMesh) -> None:
        self.scene = rtcore_scene.EmbreeScene()
        EmbreeMesh(
            self.scene, np.ascontiguousarray(mesh.vertices, np.float32), np.ascontiguousarray(mesh.faces, np.int32)
        )
        self.normals = mesh.vertex_normals()

    @classmethod
    def of(cls, model: ScanModel) -> "Body":
        """The body of a model, kept as long as the model is."""
        return remembered(model, "body", lambda: cls(model.mesh))


@dataclass
class ScanScene:
    """A model laid on its plate as rays meet it; pin_mm raises it above the plate, on a pin; dots are stuck on either.

    plate_radius (mm) is as large as the object asks for when it is left out; lying is how the body of another model that
    this one came from was laid (4, 4), when it was.
    """

    model: ScanModel
    pin_mm: float = 0.0
    dots: StuckDots | None = None
    plate_radius: float = 0.0
    body: Body | None = None
    lying: np.ndarray = field(default_factory=lambda: np.eye(4))

    def __post_init__(self) -> None:
        mesh = self.model.mesh
        self.plate_radius = self.plate_radius or float(np.linalg.norm(mesh.vertices[:, :2], axis=1).max()) * 1.12 + 8.0
        self._pin = None
        if self.pin_mm:
            self.plate_radius = 10.0
            self._pin = rtcore_scene.EmbreeScene()
            EmbreeMesh(self._pin, np.ascontiguousarray(_pin(mesh.vertices), dtype=np.float32))
        self._body = self.body or Body.of(self.model)
        self._to_body = inverse(self.lying)
        self.normals = self._body.normals @ self.lying[:3, :3].T.astype(np.float32)

    def _meet(self, origins: np.ndarray, directions: np.ndarray) -> dict[str, np.ndarray]:
        """What rays (n, 3) from origins (n, 3) meet first: primID, -1 for nothing and `PLATE` for the pin, u, v and tfar."""
        origins, directions = origins.astype(np.float32), directions.astype(np.float32)
        rotation, shift = self._to_body[:3, :3].astype(np.float32), self._to_body[:3, 3].astype(np.float32)
        hit = self._body.scene.run(
            np.ascontiguousarray(origins @ rotation.T + shift),
            np.ascontiguousarray(directions @ rotation.T),
            output=True,
        )
        if self._pin is not None:
            pin = self._pin.run(origins, directions, output=True)
            nearer = (pin["primID"] >= 0) & ((hit["primID"] < 0) | (pin["tfar"] < hit["tfar"]))
            hit["primID"][nearer], hit["tfar"][nearer] = PLATE, pin["tfar"][nearer]
        return hit

    def cast(self, origin: np.ndarray, directions: np.ndarray) -> tuple[np.ndarray, ...]:
        """Distances (n,) with inf for none, triangle (n,) with -1 none / -2 plate or pin, bary (n, 2)."""
        origins = np.broadcast_to(origin.astype(np.float32), directions.shape).copy()
        hit = self._meet(origins, directions)
        triangle = hit["primID"].astype(np.int64)
        distance = np.where(triangle != NONE, hit["tfar"], np.inf).astype(np.float64)
        with np.errstate(divide="ignore", invalid="ignore"):
            to_plate = -origin[2] / directions[:, 2]
            at = origin[:2] + to_plate[:, None] * directions[:, :2]
            on_plate = (to_plate > 0) & ((at**2).sum(axis=1) < self.plate_radius**2)
        nearer = on_plate & (to_plate < distance)
        distance[nearer] = to_plate[nearer]
        triangle[nearer] = PLATE
        return distance, triangle, np.stack([hit["u"], hit["v"]], axis=1)

    def in_shadow(self, points: np.ndarray, normals: np.ndarray, lamp: np.ndarray) -> np.ndarray:
        """(n,) bool of places that a lamp does not reach."""
        away = lamp - points
        length = np.linalg.norm(away, axis=1, keepdims=True)
        start = points + SKIN_MM * normals + SKIN_MM * away / length
        hit = self._meet(start, away / length)
        return (hit["primID"] != NONE) & (hit["tfar"] < length[:, 0])


def _pin(vertices: np.ndarray) -> np.ndarray:
    """(n, 3, 3) corners of a round pin from the plate to just inside the lowest place of a model near its middle."""
    near = np.linalg.norm(vertices[:, :2], axis=1) < 3 * PIN_RADIUS_MM
    top = float(vertices[near if near.any() else slice(None), 2].min()) + 0.3
    around = np.arange(PIN_SIDES) * 2 * np.pi / PIN_SIDES
    ring = np.stack([np.cos(around), np.sin(around)], axis=1) * PIN_RADIUS_MM
    low, high = (np.column_stack([ring, np.full(PIN_SIDES, z)]) for z in (0.0, top))
    low2, high2 = np.roll(low, -1, axis=0), np.roll(high, -1, axis=0)
    return np.concatenate([np.stack([low, low2, high2], axis=1), np.stack([low, high2, high], axis=1)])
