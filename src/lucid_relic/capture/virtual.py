"""A virtual depth-and-colour scanner with a turntable of one or two axes.

It ray-casts a hidden model (`capture.scene`) and spoils the answer as real devices do (`capture.optics`). The true
geometry never leaves the simulator except through `truth_poses`, which only tests and accuracy reports may read.
"""

from copy import copy
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.capture.device import Shot
from lucid_relic.capture.dots import object_dots, tray_dots
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import render_view
from lucid_relic.capture.scene import Body, ScanScene
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.geometry.rigid import about_axis, inverse
from lucid_relic.types import Camera, Stop


@dataclass(frozen=True, kw_only=True)
class TurntablePlan:
    """A turn of the plate: how many stops, how far the head looks down, how the object lies.

    A path takes the place of the stops: of a table with a second axis, which tilts the plate towards the head. Then the
    object may stand on a pin, so that it is seen from below too. dots of them are stuck on the tray around the object,
    object_dots on the object itself; coded ones have numbers.
    """

    stops: int = 24
    elevation_deg: float = 24.0
    tip_deg: float = 0.0
    tip_about_deg: float = 0.0
    start_deg: float = 0.0
    title: str = "upright"
    path: tuple[Stop, ...] = ()
    pin_mm: float = 0.0
    dots: int = 0
    object_dots: int = 0
    coded: bool = False

    def all_stops(self) -> tuple[Stop, ...]:
        """Where the table stands for each frame."""
        turns = self.start_deg + np.arange(self.stops) * 360.0 / self.stops
        return self.path or tuple(Stop(turn_deg=float(t)) for t in turns)


def tracked_by(manifest: dict[str, Any], what: str = "shape") -> dict[str, Any]:
    """A manifest's fields without the table's axis: its frames are placed by shape, or by markers."""
    return {**{k: v for k, v in manifest.items() if k != "turntable"}, "tracking": what}


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
        lying, self.T_plate_model = model.lying(plan.tip_deg, plan.tip_about_deg, plan.pin_mm)
        self.scene = self._scene_of(model, lying)
        self._stops = plan.all_stops()
        self._head = self._head_pose(lying)
        self._axis_point, self._axis_direction = self._true_axis()

    def _scene_of(self, model: ScanModel, lying: ScanModel) -> ScanScene:
        """The object on its tray, with the dots that are stuck on both."""
        plan, dots, radius = self.plan, None, 0.0
        if plan.dots:
            dots, radius = tray_dots(model, plan.dots, plan.coded)
        if plan.object_dots:
            own = object_dots(model, plan.object_dots, plan.coded).moved(self.T_plate_model)
            dots = own if dots is None else dots.with_more(own)
        return ScanScene(lying, plan.pin_mm, dots, radius, Body.of(model), self.T_plate_model)

    def _head_pose(self, lying: ScanModel) -> np.ndarray:
        """T_plate_camera of the still head, aimed at the middle of the object."""
        t = self.traits
        z = lying.mesh.vertices[:, 2]
        middle = (z.max() + self.plan.pin_mm) / 2
        reach = np.linalg.norm(lying.mesh.vertices - [0, 0, middle], axis=1).max()
        fitting = 1.12 * reach * max(t.focal_px / (t.height / 2), 1.0)
        distance = float(max(fitting, t.standoff_mm, t.band_mm[0] + reach))
        self._aim = np.array([0, 0, middle])
        self._distance = distance
        return self.head_at(0.0, np.radians(self.plan.elevation_deg), np.zeros(3))

    @property
    def distance_mm(self) -> float:
        """How far the head stands from the middle of the object."""
        return self._distance

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

    def _told_axis(self) -> tuple[np.ndarray, np.ndarray]:
        """The axis as the head believes it: off by its unknown axis error."""
        rng = np.random.default_rng([self.seed, 77])
        t = self.traits
        tilt = rng.normal(size=3)
        tilt -= self._axis_direction * (tilt @ self._axis_direction)
        tilt *= np.tan(np.radians(t.axis_error_deg)) / np.linalg.norm(tilt)
        shift = rng.normal(size=3)
        shift *= t.axis_error_mm / np.linalg.norm(shift)
        direction = self._axis_direction + tilt
        return self._axis_point + shift, direction / np.linalg.norm(direction)

    def manifest(self) -> dict[str, Any]:
        """Manifest fields; the axis is off by the head's unknown axis error. Two axes give each frame its pose."""
        t, c = self.traits, self.camera
        point, direction = self._told_axis()
        fields = {
            "format": "lucid-relic/capture",
            "version": 1,
            "title": self.plan.title,
            "depth_unit_mm": t.depth_unit_mm,
            "camera": {
                "width": c.width, "height": c.height, "fx": c.fx, "fy": c.fy,
                "cx": c.cx, "cy": c.cy, "distortion": list(c.distortion),
            },
            "tracking": "turntable",
            "turntable": {"axis_point_mm": point.tolist(), "axis_direction": direction.tolist()},
            "device": {"name": t.name, "noise_mm": t.noise_mm},
        }  # fmt: skip
        if self.plan.path:
            del fields["turntable"]
            fields["tracking"] = "shape"
        return fields

    def under(self, traits: ScannerTraits) -> "VirtualScanner":
        """The same head over the same object with another shutter: what was built of the scene is shared."""
        other = copy(self)
        other.traits = traits
        return other

    def frame_count(self) -> int:
        return len(self._stops)

    def shoot(self, index: int) -> Shot:
        """Turn the plate to stop `index` and take a frame."""
        rng = np.random.default_rng([self.seed, 1, index])
        stop = self._stops[index]
        jitter = rng.normal() * self.traits.stop_jitter_deg
        T_plate_camera = self._turned(stop, jitter)
        depth, colour, clipped = render_view(self.scene, self.camera, self.traits, T_plate_camera, rng)
        fields: dict[str, Any] = {"time_s": index * 0.8, "turntable_deg": stop.turn_deg}
        if self.plan.path:
            fields |= {"tilt_deg": stop.tilt_deg, "pose": self._told_pose(stop).tolist()}
        return Shot(depth, colour, clipped, fields)

    def _turned(self, stop: Stop, jitter_deg: float = 0.0) -> np.ndarray:
        """T_plate_camera at a stop: tilting the plate lifts the head about the horizontal line through the aim."""
        up = np.array([0, 0, 1.0])
        back = about_axis(np.zeros(3), up, -np.radians(stop.turn_deg + jitter_deg))
        lift = about_axis(self._aim, self._head[:3, 0], -np.radians(stop.tilt_deg))
        return back @ lift @ self._head

    def _told_pose(self, stop: Stop) -> np.ndarray:
        """Camera → pass at a stop by the axes as the head believes them; the pass's frame is the head's at rest."""
        point, direction = self._told_axis()
        middle = inverse(self._head)[:3, :3] @ self._aim + inverse(self._head)[:3, 3]
        off = point - self._axis_point
        back = about_axis(point, direction, -np.radians(stop.turn_deg))
        return back @ about_axis(middle + off, np.array([1.0, 0, 0]), -np.radians(stop.tilt_deg))

    def truth_poses(self) -> np.ndarray:
        """(n, 4, 4) true camera → model poses, for tests and accuracy reports only."""
        T_model_plate = inverse(self.T_plate_model)
        return np.stack([T_model_plate @ self._turned(stop) for stop in self._stops])
