"""A first guess of an object's shape from a few stops: what no frame looked through (space carving, Kutulakos & Seitz
2000, doi:10.1023/A:1008191222954), and what a path of views would see of it.

Sides that no stop has shown yet are taken to be like those that were seen: frames are turned about the table's axis into
the gaps between the stops.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import distance_transform_edt, gaussian_filter, map_coordinates

from lucid_relic.geometry.rigid import about_axis, inverse, transform_points
from lucid_relic.types import Camera

CELLS = 56  # along the longest side of the guess
MARGIN_CELLS = 3
SIDES = 12  # around the axis from which the guess should be looked at
OWN_DEG = 40.0  # a stop so near speaks for a side itself
SOFT_CELLS = 0.9  # over which the surface is smoothed to tell its normals
FULL = 0.5  # of a cell, from which it is solid
MOST_PLACES = 5000  # of a solid's surface that are asked what they see
START_CELLS = 1.6  # away from a surface where lines of sight begin


@dataclass(frozen=True)
class Look:
    """A frame for carving: depth (h, w) mm, 0 none; outline (h, w) bool of the object; camera; T_guess_camera (4, 4)."""

    depth: np.ndarray
    outline: np.ndarray
    camera: Camera
    pose: np.ndarray


@dataclass(frozen=True)
class Solid:
    """Filled share (n, m, k) of cells of `cell_mm` whose first centre is at `low`; points, normals, areas of its surface."""

    filled: np.ndarray
    low: np.ndarray
    cell_mm: float
    points: np.ndarray
    normals: np.ndarray
    areas: np.ndarray

    @property
    def surface_mm2(self) -> float:
        return float(self.areas.sum())


def carve(looks: list[Look], low: np.ndarray, high: np.ndarray, tolerance_mm: float) -> Solid:
    """The solid in a box (mm, upright about its z axis through the origin) that no look disagrees with."""
    cell = float((high - low).max()) / CELLS
    low = low - MARGIN_CELLS * cell
    count = np.ceil((high - low) / cell).astype(int) + MARGIN_CELLS
    axes = [low[k] + cell * np.arange(count[k]) for k in range(3)]
    cells = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    radius = float(np.abs([low[:2] + MARGIN_CELLS * cell, high[:2]]).max())
    solid = (np.hypot(cells[:, 0], cells[:, 1]) <= radius) & (cells[:, 2] >= low[2] + MARGIN_CELLS * cell - 0.5 * cell)
    solid &= cells[:, 2] <= high[2]
    for look in looks_all_around(looks):
        solid &= ~_looked_through(look, cells, tolerance_mm)
    filled = solid.reshape(count).astype(np.float32)
    return solid_of(filled, low, cell)


def looks_all_around(looks: list[Look]) -> list[Look]:
    """The looks, and turned ones for the sides from which there is none."""
    aside = np.array([np.arctan2(look.pose[1, 3], look.pose[0, 3]) for look in looks])
    out = list(looks)
    for side in np.arange(SIDES) * 2 * np.pi / SIDES:
        away = np.angle(np.exp(1j * (aside - side)))
        if np.degrees(np.abs(away)).min() > OWN_DEG:
            # Opposite sides are most alike in outline; else the nearest one.
            nearest = (
                int(np.argmin(np.abs(np.abs(away) - np.pi))) if np.abs(away).max() > 2.6 else int(np.abs(away).argmin())
            )
            turn = about_axis(np.zeros(3), np.array([0, 0, 1.0]), -away[nearest])
            look = looks[nearest]
            out.append(Look(look.depth, look.outline, look.camera, turn @ look.pose))
    return out


def _looked_through(look: Look, cells: np.ndarray, tolerance_mm: float) -> np.ndarray:
    """(n,) bool of cells in front of what a look measured, or where it shows that nothing is."""
    seen = transform_points(inverse(look.pose), cells)
    uv = np.rint(look.camera.project(seen)).astype(int)
    filled = _without_holes(look)
    h, w = filled.shape
    inside = (seen[:, 2] > 0) & (uv[:, 0] >= 0) & (uv[:, 0] < w) & (uv[:, 1] >= 0) & (uv[:, 1] < h)
    u, v = uv[inside, 0], uv[inside, 1]
    depth = filled[v, u]
    through = np.zeros(len(cells), bool)
    in_front = (depth > 0) & (seen[inside, 2] < depth - tolerance_mm)
    through[inside] = in_front | ((depth == 0) & ~look.outline[v, u])
    return through


def _without_holes(look: Look) -> np.ndarray:
    """(h, w) mm: what dropped out of the object is as far away as the nearest that was measured of it."""
    body = look.outline & (look.depth > 0)
    if not body.any():
        return look.depth
    rows, columns = distance_transform_edt(~body, return_distances=False, return_indices=True)
    return np.where(look.outline & (look.depth == 0), look.depth[rows, columns], look.depth)


def solid_of(filled: np.ndarray, low: np.ndarray, cell_mm: float) -> Solid:
    """A solid with its surface: cells that are full and touch an empty one, with normals of the smoothed solid."""
    full = filled > FULL
    padded = np.pad(full, 1)
    bare = np.zeros(full.shape, bool)
    for axis in range(3):
        for step in (-1, 1):
            bare |= ~np.roll(padded, step, axis)[1:-1, 1:-1, 1:-1]
    soft = gaussian_filter(filled, SOFT_CELLS)
    slope = np.stack(np.gradient(soft), axis=-1)
    on = np.argwhere(full & bare)
    normal = -slope[tuple(on.T)]
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = normal / np.maximum(length, 1e-9)
    # A cell's face stands for more surface the more it leans.
    area = cell_mm**2 / np.maximum(np.abs(normal).max(axis=1), 0.5)
    keep = np.flatnonzero(length[:, 0] > 1e-6)
    total = area[keep].sum()
    keep = keep[:: max(len(keep) // MOST_PLACES, 1)]
    area = area[keep] * (total / max(area[keep].sum(), 1e-12))
    return Solid(filled, low, cell_mm, low + on[keep] * cell_mm, normal[keep], area)


def seen_by(
    solid: Solid, eyes: np.ndarray, grazing_deg: float, band_mm: tuple[float, float], lamps: np.ndarray | None = None
) -> np.ndarray:
    """(views, n) bool: which places of the solid's surface each eye (views, 3) sees, when its lamp (views, 3) lights them."""
    out = np.zeros((len(eyes), len(solid.points)), bool)
    least = np.cos(np.radians(grazing_deg))
    for k, eye in enumerate(eyes):
        away = eye - solid.points
        distance = np.linalg.norm(away, axis=1)
        cos = np.einsum("ij,ij->i", away, solid.normals) / distance
        maybe = np.flatnonzero((cos > least) & (distance > band_mm[0]) & (distance < band_mm[1]))
        free = ~_blocked(solid, maybe, eye)
        if lamps is not None:
            free &= ~_blocked(solid, maybe, lamps[k])
        out[k, maybe[free]] = True
    return out


def _blocked(solid: Solid, places: np.ndarray, eye: np.ndarray) -> np.ndarray:
    """(n,) bool of places that the solid itself hides from an eye: marched cell by cell."""
    start = solid.points[places] + START_CELLS * solid.cell_mm * solid.normals[places]
    way = eye - start
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    at, step = (start - solid.low) / solid.cell_mm, way
    hidden = np.zeros(len(places), bool)
    running = np.arange(len(places))
    for k in range(int(np.linalg.norm(solid.filled.shape))):
        here = at[running] + k * step[running]
        out = ((here < 0) | (here > np.array(solid.filled.shape) - 1)).any(axis=1)
        running, here = running[~out], here[~out]
        if not len(running):
            break
        met = map_coordinates(solid.filled, here.T, order=1, prefilter=False) > 0.75
        hidden[running[met]] = True
        running = running[~met]
    return hidden
