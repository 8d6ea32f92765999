"""From sweeps of a laser line before a corner to depth images.

Winkelbach, Molkenstruck & Wahl 2006, "Low-cost laser range scanner and fast surface registration approach",
doi:10.1007/11861898_72: where the line runs over the two known walls their intersections with the lines of sight lie in the
laser's plane; with that plane every other pixel on the line has its place. A pixel's depth is taken where the line's light
passes over it in the course of the sweep (space-time analysis, Curless & Levoy 1995, doi:10.1109/ICCV.1995.466772), so that
print and edges on the surface, which pull at the line's middle in a single picture, do not matter.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.triangulation.line import ambient, line_places, redness
from lucid_relic.types import Camera

LEAST_ON_WALL = 12  # places of the line on each wall that give its plane
ON_PLANE_MM = 0.8  # from the laser's plane within which a place on a wall belongs to it
BEFORE_WALL_MM = 4.0  # from which something stands before a wall
TRIES = 120
LEAST_LIGHT = 0.012  # linear light of the line over a pixel that counts
LEAST_PASSES = 2  # pictures in which the line lights a pixel
WIDEST_MM = 4.0  # scatter of the depths at which a pixel was lit: more are reflections, or two surfaces
WIDEST_STEP_MM = 6.0  # from one picture's laser plane to the next: faster sweeps leave pixels between them unread
AMBIENT_PICTURES = 15
LEAST_SHARE = 0.25  # of a sweep's pictures in which the line must be read
LEAST_ANGLE_SIN = 0.12  # between a line of sight and the laser's plane: flatter ones tell no depth


@dataclass(frozen=True)
class Corner:
    """camera, and the planes (2, 4) n·p = d of the left and right wall in its frame, normals towards it."""

    camera: Camera
    walls: np.ndarray

    def wall_depths(self, rays: np.ndarray) -> np.ndarray:
        """(n, 2) depth at which lines of sight (n, 3), z = 1, meet each wall."""
        with np.errstate(divide="ignore"):
            depth = self.walls[:, 3] / (rays @ self.walls[:, :3].T)
        return np.where(depth > 0, depth, np.inf)


@dataclass(frozen=True)
class SweepFigures:
    """How many pictures of a sweep had a line, and how closely (mm, rms) walls and laser planes agreed."""

    pictures: int
    read: int
    off_mm: float


def laser_plane(places: np.ndarray, corner: Corner, rng: np.random.Generator) -> tuple[np.ndarray, float] | None:
    """Plane (4,) of the laser in the camera's frame, which places (n, 2) lie before the walls, and the rms (mm) on the walls.

    None when the line is not on both walls.
    """
    rays = rays_of(places, corner.camera)
    both = corner.wall_depths(rays)
    side = both.argmin(axis=1)
    depth = both.min(axis=1)
    known = np.isfinite(depth)
    points = rays * np.where(known, depth, 0)[:, None]
    left, right = np.flatnonzero(known & (side == 0)), np.flatnonzero(known & (side == 1))
    if min(len(left), len(right)) < LEAST_ON_WALL:
        return None
    best, most = None, (0, 0)
    for _ in range(TRIES):
        pick = np.concatenate([rng.choice(left, 2, replace=False), rng.choice(right, 1)] if rng.random() < 0.5 else [rng.choice(left, 1), rng.choice(right, 2, replace=False)])  # fmt: skip
        plane = _through(points[pick])
        if plane is None:
            continue
        on = np.abs(points @ plane[:3] - plane[3]) < ON_PLANE_MM
        count = (min(int(on[left].sum()), int(on[right].sum())), int(on[left].sum() + on[right].sum()))
        if count[0] >= LEAST_ON_WALL and count[1] > most[1]:
            best, most = on & known, count
    if best is None:
        return None
    for _ in range(3):
        plane = _fitted(points[best])
        off = points @ plane[:3] - plane[3]
        best = known & (np.abs(off) < ON_PLANE_MM)
    rms = float(np.sqrt((off[best] ** 2).mean()))
    return plane, rms


def rays_of(places: np.ndarray, camera: Camera) -> np.ndarray:
    """(n, 3) lines of sight, z = 1, of places (n, 2) between pixels: the rays of the pixels around, blended."""
    u, v = places.T
    r = np.clip(np.floor(v).astype(int), 0, camera.height - 2)
    c = np.clip(np.rint(u).astype(int), 0, camera.width - 1)
    share = (v - r)[:, None]
    xy = camera.rays[r, c] * (1 - share) + camera.rays[r + 1, c] * share
    return np.column_stack([xy, np.ones(len(places))]).astype(np.float64)


def _through(p: np.ndarray) -> np.ndarray | None:
    normal = np.cross(p[1] - p[0], p[2] - p[0])
    length = float(np.linalg.norm(normal))
    return None if length < 1e-3 else np.append(normal / length, p[0] @ normal / length)


def _fitted(p: np.ndarray) -> np.ndarray:
    middle = p.mean(axis=0)
    _, _, axes = np.linalg.svd(p - middle, full_matrices=False)
    return np.append(axes[2], middle @ axes[2])


def depth_of_sweep(
    count: int, picture: Callable[[int], np.ndarray], corner: Corner, name: str = "this sweep", seed: int = 0
) -> tuple[np.ndarray, SweepFigures]:
    """Depth (h, w) float32 mm of what stands before the corner, and figures; `picture(i)` gives each of `count` pictures.

    Every picture is asked for twice. Raises `StepNotPossible` when the line is not read in enough of them.
    """
    if count < 2:
        raise StepNotPossible(f"{name}: a sweep is a run of pictures of the line; this one has {count}.")
    some = np.unique(np.linspace(0, count - 1, min(count, AMBIENT_PICTURES)).astype(int))
    without = ambient([picture(int(i)) for i in some])
    planes, figures = _planes(count, picture, without, corner, name, seed)
    return _depth_image(planes, picture, without, corner), figures


def _planes(
    count: int, picture: Callable[[int], np.ndarray], without: np.ndarray, corner: Corner, name: str, seed: int
) -> tuple[dict[int, np.ndarray], SweepFigures]:
    """The laser's plane in each picture that tells it."""
    rng = np.random.default_rng(seed)
    planes: dict[int, np.ndarray] = {}
    squares, lines = [], 0
    for i in range(count):
        places = line_places(picture(i), without)
        lines += len(places) >= 2 * LEAST_ON_WALL
        found = laser_plane(places, corner, rng) if len(places) >= 2 * LEAST_ON_WALL else None
        if found is not None:
            planes[i], rms = found
            squares.append(rms**2)
    least = max(LEAST_SHARE * count, 2)
    if len(planes) < least:
        raise StepNotPossible(
            f"{name}: no laser line is to be seen in its pictures. Darken the room, and sweep the line over both walls."
            if lines < least
            else f"{name}: the line is seen on both walls in {len(planes)} of {count} pictures only. "
            "Hold it so that it runs over both walls at once; are the walls where the boards say?"
        )
    return planes, SweepFigures(count, len(planes), float(np.sqrt(np.mean(squares))))


def _depth_image(
    planes: dict[int, np.ndarray], picture: Callable[[int], np.ndarray], without: np.ndarray, corner: Corner
) -> np.ndarray:
    """The middle of the line's light over every pixel: the mean depth of the laser planes, weighted by light and spacing."""
    camera = corner.camera
    h, w = camera.height, camera.width
    rays = camera.sight_lines.reshape(-1, 3).astype(np.float64)
    total, first, second, passes = (np.zeros(h * w) for _ in range(4))
    read = sorted(planes)
    for k, i in enumerate(read):
        light = (redness(picture(i)) - without).ravel()
        lit = np.flatnonzero(light > LEAST_LIGHT)
        before, here, after = (_met(planes[read[n]], rays[lit]) for n in (max(k - 1, 0), k, min(k + 1, len(read) - 1)))
        spacing = np.abs(after - before) / (2 if 0 < k < len(read) - 1 else 1)
        good = np.isfinite(here) & np.isfinite(spacing) & (spacing < WIDEST_STEP_MM)
        lit, here, weight = lit[good], here[good], (light[lit] * spacing)[good]
        total[lit] += weight
        first[lit] += weight * here
        second[lit] += weight * here**2
        passes[lit] += 1
    with np.errstate(divide="ignore", invalid="ignore"):
        depth = first / total
        scatter = np.sqrt(np.maximum(second / total - depth**2, 0))
    wall = corner.wall_depths(rays).min(axis=1)
    good = (passes >= LEAST_PASSES) & (scatter < WIDEST_MM) & (depth < wall - BEFORE_WALL_MM)
    return np.where(good, depth, 0).reshape(h, w).astype(np.float32)


def _met(plane: np.ndarray, rays: np.ndarray) -> np.ndarray:
    """(n,) depth at which lines of sight (n, 3), z = 1, meet a laser plane; NaN where they run along it."""
    slope = rays @ plane[:3]
    flat = np.abs(slope) < LEAST_ANGLE_SIN * np.linalg.norm(rays, axis=1)
    with np.errstate(divide="ignore"):
        depth = plane[3] / slope
    return np.where(flat | (depth <= 0), np.nan, depth)
