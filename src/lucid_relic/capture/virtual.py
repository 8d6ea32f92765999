"""A virtual depth-and-colour scanner with a turntable or a hand path.

It ray-casts a hidden model on a plate and spoils the answer as real devices do: a working band,
noise growing with distance and slant, dropout at grazing angles and on dark or glossy surfaces, torn
pixels at depth jumps, a shaded photograph with its own exposure. The true geometry never leaves this
module except through `truth_poses`, which only tests and accuracy reports may read.
"""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh as EmbreeMesh

from lucid_relic.capture.device import Shot
from lucid_relic.capture.model import ScanModel
from lucid_relic.geometry.rigid import about_axis, inverse
from lucid_relic.types import Camera

PLATE_ALBEDO = 0.16  # of the plate: dark grey, as matt tables are
LIGHT_BESIDE_MM = 120.0  # from the camera to its lamp


@dataclass(frozen=True, kw_only=True)
class ScannerTraits:
    """How the virtual head behaves; distances in mm, angles in degrees."""

    width: int = 640
    height: int = 480
    focal_px: float = 864.0
    standoff_mm: float = 360.0
    band_mm: tuple[float, float] = (220.0, 900.0)
    depth_unit_mm: float = 0.01
    noise_mm: float = 0.05
    grazing_deg: float = 78.0
    dark_albedo: float = 0.02
    torn_share: float = 0.35
    axis_error_mm: float = 0.3
    axis_error_deg: float = 0.3
    stop_jitter_deg: float = 0.0
    exposure: float = 1.0


@dataclass(frozen=True, kw_only=True)
class TurntablePlan:
    """A turn of the plate: how many stops, how far the head looks down, how the object lies."""

    stops: int = 24
    elevation_deg: float = 24.0
    tip_deg: float = 0.0
    tip_about_deg: float = 0.0
    start_deg: float = 0.0
    title: str = "upright"


class VirtualScanner:
    """A `PlannedDevice` over a hidden `ScanModel`; the same seed gives the same frames."""

    def __init__(
        self,
        model: ScanModel,
        plan: TurntablePlan,
        traits: ScannerTraits | None = None,
        seed: int = 0,
    ) -> None:
        self.traits = traits or ScannerTraits()
        self.plan = plan
        self.seed = seed
        t = self.traits
        self.camera = Camera.centred(t.width, t.height, t.focal_px)
        lying, self.T_plate_model = model.lying(plan.tip_deg, plan.tip_about_deg)
        self.scene = ScanScene(lying)
        self._head = self._head_pose(lying)
        self._axis_point, self._axis_direction = self._true_axis()
        self._degrees = plan.start_deg + np.arange(plan.stops) * 360.0 / plan.stops

    def _head_pose(self, lying: ScanModel) -> np.ndarray:
        """T_plate_camera of the still head, aimed at the middle of the object."""
        t = self.traits
        height = lying.mesh.vertices[:, 2].max()
        reach = np.linalg.norm(lying.mesh.vertices - [0, 0, height / 2], axis=1).max()
        fitting = 1.12 * reach * max(t.focal_px / (t.height / 2), 1.0)
        distance = float(max(fitting, t.standoff_mm, t.band_mm[0] + reach))
        self._aim = np.array([0, 0, height / 2])
        self._distance = distance
        return self.head_at(0.0, np.radians(self.plan.elevation_deg), np.zeros(3))

    def head_at(self, azimuth: float, elevation: float, sway_mm: np.ndarray) -> np.ndarray:
        """T_plate_camera of a head at two angles (rad), looking at the object's middle, shifted by `sway_mm`."""
        ce, se = np.cos(elevation), np.sin(elevation)
        toward = np.array([-np.sin(azimuth) * ce, np.cos(azimuth) * ce, -se])
        right = np.array([np.cos(azimuth), np.sin(azimuth), 0])
        pose = np.eye(4)
        pose[:3, :3] = np.stack([right, np.cross(toward, right), toward], axis=1)
        pose[:3, 3] = self._aim - self._distance * toward + sway_mm
        return pose

    def _true_axis(self) -> tuple[np.ndarray, np.ndarray]:
        T_camera_plate = inverse(self._head)
        return T_camera_plate[:3, 3], T_camera_plate[:3, 2]

    def manifest(self) -> dict[str, Any]:
        """Manifest fields; the axis is off by the head's unknown axis error."""
        rng = np.random.default_rng([self.seed, 77])
        t = self.traits
        tilt = rng.normal(size=3)
        tilt -= self._axis_direction * (tilt @ self._axis_direction)
        tilt *= np.tan(np.radians(t.axis_error_deg)) / np.linalg.norm(tilt)
        shift = rng.normal(size=3)
        shift *= t.axis_error_mm / np.linalg.norm(shift)
        direction = self._axis_direction + tilt
        c = self.camera
        return {
            "format": "lucid-relic/capture",
            "version": 1,
            "title": self.plan.title,
            "depth_unit_mm": t.depth_unit_mm,
            "camera": {
                "width": c.width, "height": c.height, "fx": c.fx, "fy": c.fy,
                "cx": c.cx, "cy": c.cy, "distortion": list(c.distortion),
            },
            "tracking": "turntable",
            "turntable": {
                "axis_point_mm": (self._axis_point + shift).tolist(),
                "axis_direction": (direction / np.linalg.norm(direction)).tolist(),
            },
            "device": {"name": "virtual turntable head", "noise_mm": t.noise_mm},
        }  # fmt: skip

    def frame_count(self) -> int:
        return self.plan.stops

    def shoot(self, index: int) -> Shot:
        """Turn the plate to stop `index` and take a frame."""
        rng = np.random.default_rng([self.seed, 1, index])
        degrees = float(self._degrees[index])
        jitter = rng.normal() * self.traits.stop_jitter_deg
        T_plate_camera = self._plate_turned(degrees + jitter)
        depth, colour, clipped = render_view(self, T_plate_camera, rng)
        return Shot(depth, colour, clipped, {"time_s": index * 0.8, "turntable_deg": degrees})

    def _plate_turned(self, degrees: float) -> np.ndarray:
        back = about_axis(np.zeros(3), np.array([0, 0, 1.0]), -np.radians(degrees))
        return back @ self._head

    def truth_poses(self) -> np.ndarray:
        """(n, 4, 4) true camera → model poses, for tests and accuracy reports only."""
        T_model_plate = inverse(self.T_plate_model)
        return np.stack([T_model_plate @ self._plate_turned(d) for d in self._degrees])


@dataclass
class ScanScene:
    """The ray-casting scene of a model on its plate."""

    model: ScanModel
    plate_radius: float = field(init=False)

    def __post_init__(self) -> None:
        mesh = self.model.mesh
        self.plate_radius = float(np.linalg.norm(mesh.vertices[:, :2], axis=1).max()) * 1.12 + 8.0
        self.scene = rtcore_scene.EmbreeScene()
        EmbreeMesh(self.scene, np.ascontiguousarray(mesh.corners, dtype=np.float32))
        self.normals = mesh.vertex_normals()

    def cast(self, origin: np.ndarray, directions: np.ndarray) -> tuple[np.ndarray, ...]:
        """Distances (n,) with inf for none, triangle (n,) with -1 none / -2 plate, bary (n, 2)."""
        origins = np.broadcast_to(origin.astype(np.float32), directions.shape).copy()
        hit = self.scene.run(origins, directions.astype(np.float32), output=True)
        triangle = hit["primID"].astype(np.int64)
        distance = np.where(triangle >= 0, hit["tfar"], np.inf).astype(np.float64)
        with np.errstate(divide="ignore", invalid="ignore"):
            to_plate = -origin[2] / directions[:, 2]
            at = origin[:2] + to_plate[:, None] * directions[:, :2]
            on_plate = (to_plate > 0) & ((at**2).sum(axis=1) < self.plate_radius**2)
        nearer = on_plate & (to_plate < distance)
        distance[nearer] = to_plate[nearer]
        triangle[nearer] = -2
        return distance, triangle, np.stack([hit["u"], hit["v"]], axis=1)


def render_view(
    scanner: VirtualScanner, T_plate_camera: np.ndarray, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, float]:
    """Depth (h, w) mm, colour (h, w, 3) uint8 and clipped share seen from a place over the plate."""
    scene, camera, traits = scanner.scene, scanner.camera, scanner.traits
    shape = (camera.height, camera.width)
    rays = np.concatenate([camera.rays, np.ones((*shape, 1), np.float32)], axis=2).reshape(-1, 3)
    length = np.linalg.norm(rays, axis=1)
    directions = (rays / length[:, None]) @ T_plate_camera[:3, :3].T
    origin = T_plate_camera[:3, 3]
    distance, triangle, bary = scene.cast(origin, directions)
    hit = np.isfinite(distance)
    z = np.where(hit, distance / length, 0.0)
    normal, albedo, gloss = _surface(scene, triangle, bary)
    cos = np.abs(np.einsum("ij,ij->i", normal, directions))
    depth = _spoil_depth(z, cos, albedo, gloss, triangle, traits, rng, shape)
    points = origin + np.where(hit, distance, 0.0)[:, None] * directions
    colour, clipped = _photograph(points, normal, albedo, gloss, directions, hit, T_plate_camera, traits, rng)
    return depth, colour.reshape(*shape, 3), clipped


def _surface(scene: ScanScene, triangle: np.ndarray, bary: np.ndarray) -> tuple[np.ndarray, ...]:
    count = len(triangle)
    normal = np.tile([0.0, 0.0, 1.0], (count, 1))
    albedo = np.full((count, 3), PLATE_ALBEDO)
    gloss = np.zeros(count)
    on = triangle >= 0
    faces = scene.model.mesh.faces[triangle[on]]
    u, v = bary[on, 0], bary[on, 1]
    share = np.stack([1 - u - v, u, v], axis=1)
    blend = lambda values: np.einsum("nk,nk...->n...", share, values[faces])  # noqa: E731
    smooth = blend(scene.normals)
    normal[on] = smooth / np.maximum(np.linalg.norm(smooth, axis=1, keepdims=True), 1e-9)
    albedo[on] = blend(scene.model.albedo)
    gloss[on] = blend(scene.model.gloss)
    return normal, albedo, gloss


def _spoil_depth(
    z: np.ndarray,
    cos: np.ndarray,
    albedo: np.ndarray,
    gloss: np.ndarray,
    triangle: np.ndarray,
    traits: ScannerTraits,
    rng: np.random.Generator,
    shape: tuple[int, int],
) -> np.ndarray:
    """Noise, dropout, working band and torn pixels on a true depth image."""
    slant = 1.0 / np.maximum(cos, 0.15)
    sigma = traits.noise_mm * (z / traits.standoff_mm) ** 2 * (0.75 + 0.25 * slant)
    measured = z + sigma * rng.normal(size=z.shape)
    brightness = albedo.mean(axis=1) * cos * (1 - 0.5 * gloss)
    chance = np.clip(brightness / traits.dark_albedo - 0.25, 0, 1)
    mirror = gloss * np.clip((cos - 0.97) / 0.03, 0, 1)
    lost = rng.random(z.shape) > chance * (1 - mirror)
    lost |= cos < np.cos(np.radians(traits.grazing_deg))
    lost |= (z < traits.band_mm[0]) | (z > traits.band_mm[1])
    image = np.where(lost, 0.0, measured).reshape(shape)
    return _tear_edges(image, z.reshape(shape), traits, rng).astype(np.float32)


def _tear_edges(image: np.ndarray, truth: np.ndarray, traits: ScannerTraits, rng: np.random.Generator) -> np.ndarray:
    """Some pixels at a depth jump return a distance between front and back."""
    out = image.copy()
    step = np.zeros_like(truth)
    step[:, :-1] = truth[:, 1:] - truth[:, :-1]
    jump = (np.abs(step) > 3.0) & (truth > 0) & (truth + step > 0)
    torn = jump & (rng.random(truth.shape) < traits.torn_share) & (image > 0)
    out[torn] += step[torn] * rng.random(torn.sum())
    return out


def _photograph(
    points: np.ndarray,
    normal: np.ndarray,
    albedo: np.ndarray,
    gloss: np.ndarray,
    directions: np.ndarray,
    hit: np.ndarray,
    T_plate_camera: np.ndarray,
    traits: ScannerTraits,
    rng: np.random.Generator,
) -> tuple[np.ndarray, float]:
    """A photograph lit by two soft lamps beside the head and a little light from all around."""
    light = np.full(len(points), 0.30)
    glare = np.zeros(len(points))
    for side in (-1.0, 1.0):
        lamp = T_plate_camera[:3, 3] + T_plate_camera[:3, 0] * side * LIGHT_BESIDE_MM
        to_lamp = lamp - points
        to_lamp /= np.linalg.norm(to_lamp, axis=1, keepdims=True)
        light += 0.42 * np.clip(np.einsum("ij,ij->i", normal, to_lamp), 0, 1)
        half = to_lamp - directions
        half /= np.linalg.norm(half, axis=1, keepdims=True)
        glare += np.clip(np.einsum("ij,ij->i", normal, half), 0, 1) ** 60
    linear = albedo * light[:, None] + (0.35 * gloss * glare)[:, None]
    linear = linear * traits.exposure * 1.15 + rng.normal(size=linear.shape) * 0.003
    linear[~hit] = 0.012
    clipped = float((linear[hit] >= 1.0).any(axis=1).mean()) if hit.any() else 0.0
    return _to_srgb(linear), clipped


def _to_srgb(linear: np.ndarray) -> np.ndarray:
    c = np.clip(linear, 0, 1)
    encoded = np.where(c <= 0.0031308, 12.92 * c, 1.055 * np.maximum(c, 1e-9) ** (1 / 2.4) - 0.055)
    return np.round(encoded * 255).astype(np.uint8)
