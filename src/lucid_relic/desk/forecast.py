"""Forecasts before a pass, from one preview frame or a few stops: grip, drop-out, cost, and what a path will see."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from lucid_relic.cleaning.stand import cut_height, find_plate
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.depth_map import DepthMap, frame_map
from lucid_relic.geometry.rigid import basis_from_z, inverse, looking_down, transform_points
from lucid_relic.geometry.sight import Sight
from lucid_relic.geometry.spacing import depth_noise, pixel_spacing
from lucid_relic.planning.cost import Cost, cost, shadow_mm2, surface_mm2
from lucid_relic.planning.drop_out import DropOut, drop_out
from lucid_relic.planning.grip import Grip, grip
from lucid_relic.planning.solid import Look, Solid, carve
from lucid_relic.planning.ways import Onlooker, Pose, Way, eyes_of
from lucid_relic.types import Instrument, PassState, Shutter, Stop, TriangleMesh

NORMAL_NOISE_PX = 7.0  # pixels over which the plane of a window averages the noise of its normal
LEAST_BODY = 200  # pixels of an object below which nothing can be said of it
LEAST_LOOKS = 2  # from which a shape may be guessed


@dataclass(frozen=True)
class Body:
    """An object in view of one frame, in its camera's frame: points and normals (n, 3), weights (n,), up (3,) or None."""

    surface: DepthMap
    mask: np.ndarray
    points: np.ndarray
    normals: np.ndarray
    weights: np.ndarray
    plate: np.ndarray | None
    above_mm: float


@dataclass(frozen=True)
class Forecast:
    """What a pass will hold, lose and cost. Of a mesh nobody knows what its surface is like: then drop is None, and seen
    the share (0-1) that the path reaches."""

    grip: Grip
    up: np.ndarray | None
    drop: DropOut | None
    cost: Cost
    surface_mm2: float
    size_mm: float
    spacing_mm: float
    seen: float | None = None


@dataclass(frozen=True)
class ShapeForecast:
    """The guessed solid, the share (0-1) of its surface that the way sees, and the way that would see enough."""

    solid: Solid
    seen: float
    best: Way
    best_seen: float


def body_in_view(scan: PassState, index: int) -> Body:
    """What stands over the plate in one frame; raises `StepNotPossible` when nothing does."""
    surface = frame_map(scan, index, cleaned=False)
    plate, above = _plate(scan, index)
    mask = surface.confidence > 0
    if plate is not None:
        mask &= (scan.camera.sight_lines @ plate[:3]) * surface.fitted - plate[3] > above
    if mask.sum() < LEAST_BODY:
        raise StepNotPossible(
            "Nothing of an object was measured in this frame. Is it in the working band, and is the light on? "
            "Dark, glossy and clear things need more exposure, infrared light or matting spray."
        )
    points = surface.points(mask, surface.fitted).astype(np.float64)
    return Body(surface, mask, points, surface.normals[mask].astype(np.float64), surface.confidence[mask], plate, above)


def _plate(scan: PassState, index: int) -> tuple[np.ndarray | None, float]:
    """The plate in the camera's frame of one frame (n·p = d, up), and from where the object begins above it."""
    one = replace(scan, frame_in=np.arange(scan.frame_count) == index)
    try:
        plate = find_plate(one, pixel_spacing(one))
    except StepNotPossible:
        return None, 0.0
    T = inverse(scan.frame_poses[index])
    normal = T[:3, :3] @ plate.normal
    above = cut_height(plate, pixel_spacing(one), depth_noise(one))
    return np.append(normal, plate.offset + normal @ T[:3, 3]), above


def forecast(
    scan: PassState, sheet: Instrument, shutter: Shutter, frames: int, spacing_mm: float = 0.0, index: int = 0
) -> Forecast:
    """The forecast of a pass of so many frames from one that was taken.

    spacing_mm 0 takes that of the pixels. Raises `StepNotPossible` when nothing of an object is in view.
    """
    body = body_in_view(scan, index)
    pixel = float(body.points[:, 2].mean()) / scan.camera.fx
    spacing = spacing_mm or pixel
    slant = body.surface.noise_mm / (NORMAL_NOISE_PX * pixel)
    colour = scan.colour_in_depth_view(index)
    lost = drop_out(body.surface, colour, sheet, shutter, body.plate, body.above_mm)
    surface = surface_mm2(shadow_mm2(body.surface.depth, lost.outline | body.mask, scan.camera))
    return Forecast(
        grip(body.points, body.normals, body.weights, slant),
        None if body.plate is None else body.plate[:3],
        lost,
        cost(sheet, shutter, frames, surface, spacing),
        surface,
        float(np.linalg.norm(np.ptp(body.points, axis=0))),
        spacing,
    )


def forecast_of_mesh(
    mesh: TriangleMesh, sheet: Instrument, shutter: Shutter, stops: tuple[Stop, ...], spacing_mm: float = 0.0
) -> Forecast:
    """The forecast of a pass over an object whose shape is known and that stands on its lowest place, z up."""
    normals, places = mesh.face_normals().astype(np.float64), mesh.face_centres().astype(np.float64)
    areas = np.linalg.norm(normals, axis=1)
    normals /= np.maximum(areas, 1e-12)[:, None]
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    middle = (low + high).astype(np.float64) / 2
    distance = sheet.distance_for(float(np.linalg.norm(places - middle, axis=1).max()))
    spacing = spacing_mm or sheet.spacing_at(distance)
    head = looking_down(distance, sheet.elevation_deg)
    eyes, _ = eyes_of(Way("", (Pose(0.0, stops),)), head, np.zeros(3), 0.0)
    sight, seen = Sight(mesh), np.zeros(len(places), bool)
    for eye in eyes + middle:
        seen |= sight.sees(eye, places, normals, sheet.grazing_deg)
    area = float(areas.sum() / 2)
    return Forecast(
        grip(places, normals, areas), np.array([0, 0, 1.0]), None, cost(sheet, shutter, len(stops), area, spacing), area,
        float(np.linalg.norm(high - low)), spacing, float(areas[seen].sum() / areas.sum()),
    )  # fmt: skip


def shape_forecast(
    scan: PassState, sheet: Instrument, shutter: Shutter, way: Way, frames: Sequence[int], wanted: float = 0.95
) -> ShapeForecast:
    """What a way will see of a shape that a few stops (frames) have shown, and a way that would see `wanted` of it.

    Raises `StepNotPossible` for fewer than two frames, or when they show no object.
    """
    if len(frames) < LEAST_LOOKS:
        raise StepNotPossible("To guess the whole shape a few stops are needed, three at best.")
    bodies = [(index, body_in_view(scan, index)) for index in frames]
    T_guess_pass = _upright(scan, bodies)
    looks, points, drops = [], [], []
    for index, body in bodies:
        pose = T_guess_pass @ scan.frame_poses[index]
        lost = drop_out(body.surface, scan.colour_in_depth_view(index), sheet, shutter, body.plate, body.above_mm)
        looks.append(Look(body.surface.depth, lost.outline | body.mask, scan.camera, pose))
        points.append(transform_points(pose, body.points))
        drops.append(lost)
    seen = np.concatenate(points)
    low, high = np.percentile(seen, 0.2, axis=0), np.percentile(seen, 99.8, axis=0)
    radius = float(np.percentile(np.hypot(seen[:, 0], seen[:, 1]), 99.8))
    low[:2], high[:2] = -radius, radius
    low[2] = min(low[2], 0.0) if bodies[0][1].plate is not None else low[2]
    solid = carve(looks, low, high, 2 * pixel_spacing(scan))
    onlooker = Onlooker(
        solid, sheet, looks[0].pose,
        float(np.mean([d.stays for d in drops])), float(np.mean([d.fails for d in drops])),
    )  # fmt: skip
    best, best_seen = onlooker.best(wanted)
    return ShapeForecast(solid, onlooker.share(way), best, best_seen)


def _upright(scan: PassState, bodies: list[tuple[int, Body]]) -> np.ndarray:
    """T_guess_pass: z up along the table's axis or the plate's normal, the plate at z = 0, the axis through the origin."""
    index, body = bodies[0]
    T_pass_camera = scan.frame_poses[index]
    up = -T_pass_camera[:3, 1] if body.plate is None else T_pass_camera[:3, :3] @ body.plate[:3]
    if scan.turntable is not None:
        axis = T_pass_camera[:3, :3] @ scan.turntable.axis_direction
        up = axis if axis @ up > 0 else -axis
        middle = transform_points(T_pass_camera, scan.turntable.axis_point[None])[0]
    else:
        middle = transform_points(T_pass_camera, np.concatenate([b.points for _, b in bodies[:1]])).mean(axis=0)
    T = np.eye(4)
    T[:3, :3] = basis_from_z(up).T
    T[:3, 3] = -T[:3, :3] @ middle
    if body.plate is not None:
        on_plate = T_pass_camera[:3, :3] @ (body.plate[:3] * body.plate[3]) + T_pass_camera[:3, 3]
        T[2, 3] -= (T @ np.append(on_plate, 1.0))[2]
    return T
