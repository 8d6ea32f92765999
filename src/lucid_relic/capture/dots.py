"""Marker dots stuck on the tray or on the object of the stand-in, as its photographs show them."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.capture.model import ScanModel
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.markers.design import CODE_RADII, light_of, words
from lucid_relic.types import Camera

RADIUS_MM = 4.0
AROUND_MM = (4.0, 30.0)  # from the object outwards, between which dots are stuck on the tray
APART_RADII = 4.2  # between two dots
BULGE_RADII = 0.6  # that a surface may leave a dot's plane and still bear it
WITHIN_RADII = CODE_RADII[1] + 0.6
SUBRAYS = (np.arange(5) - 2) / 5  # of a pixel: a photograph gathers the light of all of it
TRIES = 4000
LEAST_COS = 0.97  # of the normals under a dot on an object: it lies on what is nearly flat


@dataclass(frozen=True)
class StuckDots:
    """Dots where they are on the plate: axes (n, 3, 3) with rows along the dot and its normal, number (n,), -1 without one."""

    middle: np.ndarray
    axes: np.ndarray
    number: np.ndarray

    def moved(self, T: np.ndarray) -> "StuckDots":
        """The same dots after a rigid motion."""
        return StuckDots(transform_points(T, self.middle), self.axes @ T[:3, :3].T, self.number)

    def with_more(self, others: "StuckDots") -> "StuckDots":
        """Both."""
        a, b = self, others
        return StuckDots(
            np.concatenate([a.middle, b.middle]), np.concatenate([a.axes, b.axes]), np.concatenate([a.number, b.number])
        )

    def paint(self, points: np.ndarray, albedo: np.ndarray, camera: Camera, T_plate_camera: np.ndarray) -> None:
        """Lay the dots over the albedo (h·w, 3) of what was met at points (h·w, 3) of the plate's frame."""
        height, width = camera.height, camera.width
        seen = transform_points(inverse(T_plate_camera), self.middle)
        eye, rays = T_plate_camera[:3, 3], camera.sight_lines
        for k in np.flatnonzero(seen[:, 2] > 1.0):
            (u, v), reach = camera.project(seen[k : k + 1])[0], WITHIN_RADII * RADIUS_MM * camera.fx / seen[k, 2] + 1
            left, right = (int(np.clip(x, 0, width)) for x in (u - reach, u + reach + 1))
            top, bottom = (int(np.clip(y, 0, height)) for y in (v - reach, v + reach + 1))
            rows, columns = np.mgrid[top:bottom, left:right].reshape(2, -1)
            at = rows * width + columns
            off = (points[at] - self.middle[k]) @ self.axes[k].T
            on = (np.abs(off[:, 2]) < BULGE_RADII * RADIUS_MM) & (np.hypot(*off[:, :2].T) < WITHIN_RADII * RADIUS_MM)
            if not on.any():
                continue
            at, ray = at[on], rays[rows[on], columns[on]]
            du, dv = np.meshgrid(SUBRAYS / camera.fx, SUBRAYS / camera.fy)
            sub = ray[:, None, :] + np.stack([du, dv, 0 * du], axis=-1).reshape(1, -1, 3)
            local = sub @ T_plate_camera[:3, :3].T @ self.axes[k].T
            start = self.axes[k] @ (eye - self.middle[k])
            met = start - local * (start[2] / local[..., 2])[..., None]
            number = int(self.number[k])
            light = light_of(met[..., 0], met[..., 1], RADIUS_MM, number if number >= 0 else None)
            under = np.isnan(light).mean(axis=1)
            albedo[at] = (
                under[:, None] * albedo[at] + np.where(under < 1, np.nansum(light, axis=1) / light.shape[1], 0)[:, None]
            )


def tray_dots(model: ScanModel, count: int, coded: bool = False) -> tuple[StuckDots, float]:
    """Dots on the tray around an object, nowhere regular, and the radius (mm) of a tray that bears them.

    They are the same however the object lies: it is laid anew, the tray stays.
    """
    rng = np.random.default_rng(41)
    vertices = model.mesh.vertices
    inner = float(np.linalg.norm(vertices - (vertices.min(axis=0) + vertices.max(axis=0)) / 2, axis=1).max())
    radius = inner + AROUND_MM[0] + rng.uniform(0, AROUND_MM[1] - AROUND_MM[0], TRIES)
    angle = rng.uniform(0, 2 * np.pi, TRIES)
    places = _apart(np.stack([radius * np.cos(angle), radius * np.sin(angle), np.zeros(TRIES)], axis=1), count)
    axes = np.stack([_about_up(a) for a in rng.uniform(0, 2 * np.pi, len(places))])
    return StuckDots(places, axes, _numbers(len(places), coded)), inner + AROUND_MM[1] + 12.0


def object_dots(model: ScanModel, count: int, coded: bool = False) -> StuckDots:
    """Dots on the flatter places of an object, in the model's frame; the highest numbers, as the tray's are the lowest."""
    rng = np.random.default_rng(42)
    mesh, normals = model.mesh, model.mesh.vertex_normals()
    tried = rng.choice(len(mesh.vertices), min(TRIES, len(mesh.vertices)), replace=False)
    flat = [k for k in tried if _is_flat(mesh.vertices, normals, k)]
    places = _apart(mesh.vertices[flat].astype(float), count)
    axes = np.stack([_on(n) for n in _normals_at(mesh.vertices, normals, places)])
    return StuckDots(places, axes, _numbers(len(places), coded, last=True))


def _numbers(count: int, coded: bool, last: bool = False) -> np.ndarray:
    own = np.arange(count)
    own = len(words()) - 1 - own if last else own
    return np.where((own >= 0) & (own < len(words())), own, -1) if coded else np.full(count, -1)


def _apart(places: np.ndarray, count: int) -> np.ndarray:
    taken: list[np.ndarray] = []
    for place in places:
        if len(taken) == count:
            break
        if all(np.linalg.norm(place - t) > APART_RADII * RADIUS_MM for t in taken):
            taken.append(place)
    return np.array(taken).reshape(-1, 3)


def _is_flat(vertices: np.ndarray, normals: np.ndarray, k: int) -> bool:
    near = np.linalg.norm(vertices - vertices[k], axis=1) < 1.3 * RADIUS_MM
    return bool((normals[near] @ normals[k]).min() > LEAST_COS)


def _normals_at(vertices: np.ndarray, normals: np.ndarray, places: np.ndarray) -> list[np.ndarray]:
    means = [normals[np.linalg.norm(vertices - p, axis=1) < RADIUS_MM].mean(axis=0) for p in places]
    return [m / np.linalg.norm(m) for m in means]


def _about_up(angle: float) -> np.ndarray:
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])


def _on(normal: np.ndarray) -> np.ndarray:
    side = np.cross(normal, [0.0, 0.0, 1.0] if abs(normal[2]) < 0.9 else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    return np.stack([side, np.cross(normal, side), normal])
