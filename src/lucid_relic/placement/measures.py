"""Lengths, angles and diameters of a surface: from places that were picked, or from a form fitted to a part of it.

A sphere and a cylinder are Gaussian best fits (least squares of distances to the form, by Gauss-Newton), as ISO 10360-6
asks of software for coordinate measuring; the residual's root mean square over √n tells how sure the diameter is.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.types import TriangleMesh

Places = tuple[tuple[float, float, float], ...]
KINDS = {"length": 2, "angle": 3, "circle": 3, "planes": 2, "sphere": 0, "cylinder": 0}  # places that each is told by
PATCH_MM = 2.5  # around a place: what a plane is laid through
LEAST_POINTS = 24  # of a form
ROUNDS = 30
STILL = 1e-9
TORN = 4.0  # robust widths beyond which a place is none of the form's
SQUARE = 0.97  # cosine between the normals of two planes whose distance means something (14°)


@dataclass(frozen=True)
class Measure:
    """value (mm, or degrees of an angle), its standard uncertainty and the residual's root mean square (mm; None where
    places alone tell it), and places (mm) to draw it by."""

    value: float
    sd: float | None
    rms_mm: float | None
    places: Places
    count: int = 0


def measured(mesh: TriangleMesh, kind: str, places: Places, part: np.ndarray | None = None) -> Measure:
    """One of `KINDS`; part (m,) bool are the triangles that a sphere or a cylinder is fitted to.

    Raises `StepNotPossible`, saying what is missing, for too few places or a part that has no such form.
    """
    needed = KINDS[kind]
    if len(places) < needed:
        raise StepNotPossible(f"{len(places)} of {needed} places are picked. Pick them in the view.")
    p = np.array(places, np.float64).reshape(-1, 3)
    if kind == "length":
        return Measure(float(np.linalg.norm(p[1] - p[0])), None, None, _rows(p[:2]))
    if kind == "angle":
        return _angle(p[:3])
    if kind == "circle":
        return _circle(p)
    if kind == "planes":
        return _between_planes(mesh, p[:2])
    if part is None or not part.any():
        raise StepNotPossible(f"Mark the part of the surface that is a {kind} first.")
    return (_sphere if kind == "sphere" else _cylinder)(mesh, part)


def scaled_lengths(lengths: Iterable[Mapping[str, Any]], factor: float) -> list[dict[str, Any]]:
    """Named measures, as they are noted, of an object whose lengths are all multiplied; what a caliper read stays."""
    out = []
    for one in lengths:
        scale = 1.0 if one["kind"] == "angle" else factor
        figures = {key: None if one[key] is None else one[key] * scale for key in ("value", "sd", "rms_mm")}
        out.append({**one, **figures})
    return out


def _rows(places: np.ndarray) -> Places:
    return tuple(tuple(round(float(v), 4) for v in p) for p in places)  # type: ignore[misc]


def _angle(p: np.ndarray) -> Measure:
    """The angle at the second of three places."""
    a, b = p[0] - p[1], p[2] - p[1]
    if min(np.linalg.norm(a), np.linalg.norm(b)) < STILL:
        raise StepNotPossible("Two of these places are one: pick three apart.")
    return Measure(float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b))), None, None, _rows(p))


def _circle(p: np.ndarray) -> Measure:
    """The best circle through three places or more."""
    middle = p.mean(axis=0)
    _, size, axes = np.linalg.svd(p - middle, full_matrices=False)
    if size[1] < 1e-3 * max(size[0], STILL):
        raise StepNotPossible("These places lie on a line: pick them around the circle.")
    flat = (p - middle) @ axes[:2].T
    centre, radius = _algebraic(flat)
    centre, radius, off, spread = _fitted(_of_round(flat), np.append(centre, radius), len(flat))
    at = middle + centre @ axes[:2]
    return _told(2 * radius, off, spread, np.stack([at - radius * axes[0], at + radius * axes[0]]), 3)


def _between_planes(mesh: TriangleMesh, p: np.ndarray) -> Measure:
    """How far apart two flat places are, square to the planes laid through what is around them."""
    planes = [_plane_around(mesh, at) for at in p]
    (one, n1, r1, s1), (two, n2, r2, s2) = planes
    if abs(n1 @ n2) < SQUARE:
        degrees = np.degrees(np.arccos(min(abs(n1 @ n2), 1)))
        raise StepNotPossible(f"These planes are not parallel: {degrees:.1f}° apart. Pick two that face each other.")
    normal = n1 + np.sign(n1 @ n2) * n2
    normal /= np.linalg.norm(normal)
    apart = float(abs((two - one) @ normal))
    foot = one + normal * ((two - one) @ normal)
    return Measure(apart, float(np.hypot(s1, s2)), float(np.hypot(r1, r2) / np.sqrt(2)), _rows(np.stack([one, foot])))


def _plane_around(mesh: TriangleMesh, at: np.ndarray) -> tuple[np.ndarray, np.ndarray, float, float]:
    """Foot of a place on the plane laid through the surface around it, normal, residual and uncertainty (mm)."""
    away = np.linalg.norm(mesh.vertices - at, axis=1)
    reach = max(PATCH_MM, float(np.partition(away, min(LEAST_POINTS, len(away) - 1))[min(LEAST_POINTS, len(away) - 1)]))
    normals = mesh.vertex_normals()
    facing = normals[int(np.argmin(away))]
    near = (away <= reach) & (normals @ facing > 0.9)
    if near.sum() < 6:
        raise StepNotPossible("The surface around one of these places is not flat. Pick the middle of a flat one.")
    q = mesh.vertices[near].astype(np.float64)
    middle = q.mean(axis=0)
    _, _, axes = np.linalg.svd(q - middle, full_matrices=False)
    off = (q - middle) @ axes[2]
    rms = float(np.sqrt((off**2).mean()))
    return at - axes[2] * ((at - middle) @ axes[2]), axes[2], rms, rms / float(np.sqrt(len(q)))


def _sphere(mesh: TriangleMesh, part: np.ndarray) -> Measure:
    points, _ = _points_of(mesh, part)
    middle = points.mean(axis=0)
    q = points - middle
    centre, radius = _algebraic(q)
    centre, radius, off, spread = _fitted(_of_round(q), np.append(centre, radius), len(q))
    at, way = middle + centre, np.array([1.0, 0, 0])
    return _told(2 * radius, off, spread, np.stack([at - radius * way, at + radius * way]), len(q))


def _cylinder(mesh: TriangleMesh, part: np.ndarray) -> Measure:
    """From the axis that all normals are square to, then a fit of axis and radius together."""
    points, normals = _points_of(mesh, part)
    middle = points.mean(axis=0)
    q = points - middle
    _, vectors = np.linalg.eigh(normals.T @ normals)
    axis = vectors[:, 0]
    x = np.cross(axis, [1.0, 0, 0] if abs(axis[0]) < 0.8 else [0, 1.0, 0])
    x /= np.linalg.norm(x)
    y = np.cross(axis, x)
    centre, radius = _algebraic(np.stack([q @ x, q @ y], axis=1))

    def off_and_slope(a: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """a: where the axis passes along x and y, how it leans along them, and the radius."""
        along = q @ axis
        u, v = q @ x - a[0] - a[2] * along, q @ y - a[1] - a[3] * along
        # A leaning axis is nearer by the cosine of its lean; the fit starts from the axis found, so it stays small.
        r = np.sqrt(u * u + v * v)
        over = np.maximum(r, STILL)
        slope = np.stack([-u / over, -v / over, -u / over * along, -v / over * along, -np.ones(len(q))], axis=1)
        return r - a[4], slope

    a = np.array([*centre, 0.0, 0.0, radius])
    for _ in range(3):
        solved, radius, off, spread = _fitted(off_and_slope, a, len(q))
        # Leaned upright again: the new axis is the one to measure square to.
        origin = solved[0] * x + solved[1] * y
        axis = axis + solved[2] * x + solved[3] * y
        axis /= np.linalg.norm(axis)
        x = x - axis * (x @ axis)
        x /= np.linalg.norm(x)
        y = np.cross(axis, x)
        a = np.array([origin @ x, origin @ y, 0.0, 0.0, radius])
    at = middle + a[0] * x + a[1] * y
    return _told(2 * radius, off, spread, np.stack([at - radius * x, at + radius * x]), len(q))


def _points_of(mesh: TriangleMesh, part: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Measured vertices of a part of the surface, and their normals as the faces of that part have them."""
    own = part if mesh.made_up is None else part & ~mesh.made_up
    used = np.unique(mesh.faces[own])
    if len(used) < LEAST_POINTS:
        raise StepNotPossible(f"Only {len(used)} measured places are marked; {LEAST_POINTS} are needed. Mark more.")
    normals = np.zeros((len(mesh.vertices), 3))
    facing = mesh.face_normals()[own].astype(np.float64)
    for corner in range(3):
        np.add.at(normals, mesh.faces[own][:, corner], facing)
    normals = normals[used] / np.maximum(np.linalg.norm(normals[used], axis=1), 1e-20)[:, None]
    return mesh.vertices[used].astype(np.float64), normals


def _algebraic(q: np.ndarray) -> tuple[np.ndarray, float]:
    """Centre and radius of places (n, 2 or 3) by the linear least squares of |p|² = 2c·p + k."""
    A = np.column_stack([2 * q, np.ones(len(q))])
    solved, *_ = np.linalg.lstsq(A, (q**2).sum(axis=1), rcond=None)
    centre = solved[:-1]
    return centre, float(np.sqrt(max(solved[-1] + centre @ centre, 1e-12)))


def _of_round(q: np.ndarray) -> Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """Distances to a circle or sphere and their slopes over centre and radius."""

    def off_and_slope(a: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        away = q - a[:-1]
        r = np.linalg.norm(away, axis=1)
        return r - a[-1], np.column_stack([-away / np.maximum(r, STILL)[:, None], -np.ones(len(q))])

    return off_and_slope


def _fitted(
    off_and_slope: Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]], a: np.ndarray, count: int
) -> tuple[np.ndarray, float, np.ndarray, float]:
    """Gauss-Newton from a: the answer but for the radius, the radius, residuals of what is kept (mm), uncertainty of the radius."""
    keep = np.ones(count, bool)
    for _ in range(ROUNDS):
        off, slope = off_and_slope(a)
        if count > 2 * LEAST_POINTS:
            width = 1.4826 * float(np.median(np.abs(off - np.median(off)))) + 1e-6
            keep = np.abs(off) < TORN * width
        step, *_ = np.linalg.lstsq(slope[keep], -off[keep], rcond=None)
        a = a + step
        if not np.isfinite(a).all() or abs(a[-1]) > 1e6:
            raise StepNotPossible("What is marked has no such form: it is flat, or too little of it is marked.")
        if np.abs(step).max() < STILL:
            break
    off, slope = off_and_slope(a)
    free = max(int(keep.sum()) - len(a), 1)
    spread = np.linalg.pinv(slope[keep].T @ slope[keep])[-1, -1] * float((off[keep] ** 2).sum()) / free
    return a[:-1], float(abs(a[-1])), off[keep], float(np.sqrt(spread))


def _told(diameter: float, off: np.ndarray, spread: float, places: np.ndarray, count: int) -> Measure:
    rms = float(np.sqrt((off**2).mean()))
    return Measure(diameter, 2 * spread if len(off) > 4 else None, rms, _rows(places), count)
