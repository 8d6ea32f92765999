"""A hand head that somebody steers, or that repeats a recorded sweep; the object may be turned by hand meanwhile."""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from lucid_relic.capture.device import ControlChannel, Shot
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.optics import BACKGROUND, render_view
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner, tracked_by
from lucid_relic.errors import ParameterError, quoted
from lucid_relic.geometry.rigid import about_axis, inverse, looking_down, transform_points
from lucid_relic.light.srgb import to_srgb

UP = np.array([0.0, 0.0, 1.0])
REACH_S = 0.12  # in which a hand comes about two thirds nearer to where it is steered
FASTEST_PER_S, CALM_PER_S = 240.0, 30.0  # degrees or mm: a hand in a hurry, and one that goes to a place calmly
TREMBLE_MM, TREMBLE_HZ, TREMBLE_PHASE = 0.8, 3.0, np.array([0.0, 1.3, 2.1])
LEAST_AHEAD_MM, AROUND_PX, LEAST_PX = 20.0, 4, 8
AWAY_MM = (80.0, 2000.0)
UP_DEG = (-20.0, 88.0)


@dataclass(frozen=True, kw_only=True)
class HeadPlace:
    """Where a head is held: turned round the object and up from the side (degrees), away from its aim (mm).

    aside_mm and above_mm shift the aim from the object's middle, roll_deg turns the head in itself, table_deg is how far
    the object itself was turned, counter-clockwise from above; covered tells that something is before the lens.
    """

    around_deg: float = 0.0
    up_deg: float = 25.0
    away_mm: float = 300.0
    aside_mm: float = 0.0
    above_mm: float = 0.0
    roll_deg: float = 0.0
    table_deg: float = 0.0
    covered: bool = False

    def checked(self) -> "HeadPlace":
        """Itself with finite numbers within what a head can reach; raises `ParameterError` otherwise."""
        for f in fields(self):
            if not np.isfinite(getattr(self, f.name)):
                raise ParameterError(f"{f.name} of the head's place must be a finite number.")
        return replace(
            self, up_deg=float(np.clip(self.up_deg, *UP_DEG)), away_mm=float(np.clip(self.away_mm, *AWAY_MM))
        )

    def towards(self, goal: "HeadPlace", seconds: float, most_per_s: float = FASTEST_PER_S) -> "HeadPlace":
        """Where a hand is after some seconds that is steered to a goal, no faster than so many degrees or mm a second."""
        share, most = 1 - np.exp(-seconds / REACH_S), most_per_s * seconds
        moved = {
            f.name: getattr(self, f.name)
            + float(np.clip(share * (getattr(goal, f.name) - getattr(self, f.name)), -most, most))
            for f in fields(self)
            if f.name != "covered"
        }
        return HeadPlace(**moved, covered=goal.covered)


# Recorded sweeps: seconds and places, gone through in straight lines; two places at one time are a leap.
SWEEPS: dict[str, tuple[tuple[float, HeadPlace], ...]] = {
    "slow": (
        (0.0, HeadPlace()),
        (12.0, HeadPlace(around_deg=180.0, up_deg=45.0)),
        (24.0, HeadPlace(around_deg=380.0, up_deg=20.0)),
    ),
    "fast": (
        (0.0, HeadPlace()),
        (3.0, HeadPlace(around_deg=45.0, up_deg=30.0)),
        (3.8, HeadPlace(around_deg=190.0, up_deg=15.0)),
        (4.4, HeadPlace(around_deg=40.0, up_deg=30.0)),
        (8.0, HeadPlace(around_deg=30.0, up_deg=35.0)),
    ),
    "loss": (
        (0.0, HeadPlace()),
        (4.0, HeadPlace(around_deg=60.0, up_deg=35.0)),
        (4.0, HeadPlace(around_deg=60.0, up_deg=35.0, covered=True)),
        (5.0, HeadPlace(around_deg=80.0, up_deg=35.0, covered=True)),
        (5.0, HeadPlace(around_deg=45.0, up_deg=32.0)),
        (6.5, HeadPlace(around_deg=45.0, up_deg=32.0)),
        (10.0, HeadPlace(around_deg=110.0, up_deg=30.0)),
    ),
    "jump": (
        (0.0, HeadPlace()),
        (4.0, HeadPlace(around_deg=60.0, up_deg=35.0)),
        (4.0, HeadPlace(around_deg=25.0, up_deg=30.0)),
        (5.5, HeadPlace(around_deg=25.0, up_deg=30.0)),
        (9.0, HeadPlace(around_deg=90.0, up_deg=28.0)),
    ),
}


def place_in(sweep: str, seconds: float) -> HeadPlace | None:
    """Where the head of a recorded sweep is after some seconds; None when it is over."""
    if sweep not in SWEEPS:
        raise ParameterError(f"There is no sweep {quoted(sweep)}; there are {', '.join(SWEEPS)}.")
    track = SWEEPS[sweep]
    for (begin, a), (end, b) in zip(track, track[1:], strict=False):
        if begin <= seconds < end:
            share = (seconds - begin) / (end - begin)
            mixed = {
                f.name: getattr(a, f.name) + share * (getattr(b, f.name) - getattr(a, f.name))
                for f in fields(a)
                if f.name != "covered"
            }
            return HeadPlace(**mixed, covered=a.covered)
    return None


class SteeredHead:
    """A `StreamingDevice` whose place is asked of `reins` before every frame: a goal for the hand, None to end.

    place is where it was held for the newest frame of the stream.
    """

    def __init__(
        self,
        model: ScanModel,
        reins: Callable[[float], HeadPlace | None],
        traits: ScannerTraits | None = None,
        plan: TurntablePlan | None = None,
        seed: int = 0,
        frames_per_s: float = 15.0,
        leaping: bool = False,
        most_per_s: Callable[[], float] = lambda: FASTEST_PER_S,
    ) -> None:
        self._still = VirtualScanner(model, plan or TurntablePlan(title="by hand"), traits, seed)
        self.camera = self._still.camera
        self._reins, self._seed, self._seconds, self._leaping = reins, seed, 1 / frames_per_s, leaping
        self._most_per_s = most_per_s
        self.place: HeadPlace | None = None
        z = self._still.scene.model.mesh.vertices[:, 2]
        self._middle = np.array([0.0, 0.0, float(z.max()) / 2])

    @property
    def distance_mm(self) -> float:
        """How far off a head is held that has the whole object in view."""
        return self._still.distance_mm

    def manifest(self) -> dict[str, Any]:
        """Manifest fields: tracked by shape, or by the markers if there are any, without an axis."""
        plan = self._still.plan
        return tracked_by(self._still.manifest(), "markers" if plan.dots or plan.object_dots else "shape")

    def frames(self, control: ControlChannel) -> Iterator[Shot]:
        """A frame as often as the rate says, or as they can be made, from where the hand has come by then."""
        place, index, due = self._reins(0.0), 0, time.perf_counter()
        while place is not None:
            if not control.wait(max(due - time.perf_counter(), 0.0)):
                return
            due = max(due, time.perf_counter()) + self._seconds
            self.place = place
            yield self.shoot(place, index)
            index += 1
            goal = self._reins(index * self._seconds)
            if goal is not None and not self._leaping:
                goal = place.towards(goal, self._seconds, self._most_per_s())
            place = goal

    def shoot(self, place: HeadPlace, index: int) -> Shot:
        """One frame from a place."""
        rng = np.random.default_rng([self._seed, 8, index])
        pose = self._pose_at(place, index)
        depth = np.zeros((self.camera.height, self.camera.width), np.float32)
        colour = np.full((*depth.shape, 3), to_srgb(np.array(BACKGROUND)), np.uint8)
        rows, columns = self._where_seen(pose)
        clipped = 0.0
        if rows.stop > rows.start and columns.stop > columns.start:
            part = self.camera.cropped(columns.start, rows.start, columns.stop - columns.start, rows.stop - rows.start)
            depth[rows, columns], colour[rows, columns], clipped = render_view(
                self._still.scene, part, self._still.traits, pose, rng
            )
        if place.covered:
            depth, colour, clipped = np.zeros_like(depth), np.zeros_like(colour), 0.0
        return Shot(depth, colour, clipped, {"time_s": round(index * self._seconds, 4)})

    def _where_seen(self, pose: np.ndarray) -> tuple[slice, slice]:
        """Rows and columns of the image in which object and plate lie: the rest is dark and needs no rays."""
        radius, top = self._still.scene.plate_radius, 2 * float(self._middle[2])
        corners = np.array([[x, y, z] for x in (-radius, radius) for y in (-radius, radius) for z in (0.0, top)])
        seen = transform_points(inverse(pose), corners)
        width, height = self.camera.width, self.camera.height
        if seen[:, 2].min() < LEAST_AHEAD_MM:
            return slice(0, height), slice(0, width)
        uv = self.camera.project(seen)
        (left, upper), (right, lower) = np.floor(uv.min(axis=0)) - AROUND_PX, np.ceil(uv.max(axis=0)) + AROUND_PX
        u, v = _within(left, right, width), _within(upper, lower, height)
        return v, u

    def _pose_at(self, place: HeadPlace, index: int) -> np.ndarray:
        """T_plate_camera of a hand that trembles a little, the plate turned with the object."""
        head = looking_down(place.away_mm, place.up_deg)
        head[:3, 3] += head[:3, 0] * place.aside_mm + UP * place.above_mm + self._middle
        rolled = head @ about_axis(np.zeros(3), UP, np.radians(place.roll_deg))
        pose = about_axis(np.zeros(3), UP, np.radians(place.around_deg - place.table_deg)) @ rolled
        pose[:3, 3] += TREMBLE_MM * np.sin(2 * np.pi * TREMBLE_HZ * index * self._seconds + TREMBLE_PHASE)
        return pose

    def truth_pose(self, place: HeadPlace, index: int) -> np.ndarray:
        """(4, 4) true camera → model pose of a frame taken from a place, for tests and benchmarks only."""
        return inverse(self._still.T_plate_model) @ self._pose_at(place, index)


def _within(low: float, high: float, size: int) -> slice:
    """The part of an image's side between two places, some pixels wide; none where both lie beside it."""
    first, last = int(np.clip(low, 0, size)), int(np.clip(high, 0, size))
    if last <= first:
        return slice(0, 0)
    first = max(min(first, last - LEAST_PX), 0)
    return slice(first, max(last, min(first + LEAST_PX, size)))
