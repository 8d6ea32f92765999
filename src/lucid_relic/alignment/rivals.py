"""Other ways in which a body lies on itself: turns that a fit has to be told from.

A rival that nobody tried cannot be ruled out, so rivals are looked for on the shape itself: the symmetries of both
sides together, and all turns about an axis that the shape does not hold.
"""

import numpy as np
from scipy.ndimage import distance_transform_edt
from scipy.spatial.transform import Rotation

from lucid_relic.alignment import _kernels
from lucid_relic.geometry.points import extent_mm
from lucid_relic.geometry.rigid import about_axis
from lucid_relic.types import PointCloud

TURNS = 4000  # tried of all there are: every turn has one within about 20°, which the climbing takes up
CLIMBED, CLIMBS, TRIES = 48, 12, 6  # best turns that are bettered, in how many rounds, by how many tries in each
SHRINK = 0.8  # of the steps from round to round: the last are a tenth of the first
FAR_CELLS = 6  # farther from the surface all is equally far
CELLS = 44  # across the body, of the distances that turns are measured by
PROBES = 300  # points of the body that are turned
ALIKE = 0.6  # share of a turned body that lies on itself: with less a turn is no rival
KEPT = 8
LEAST_TURN_DEG = 15.0  # smaller turns are the fit itself
DISTINCT_DEG = 12.0


class _SelfDistance:
    """How far a body that is turned lies from itself, looked up in a grid of distances."""

    def __init__(self, body: PointCloud) -> None:
        points = body.points
        self.cell = extent_mm(body) / CELLS
        self.middle = points.mean(axis=0)
        self.low = points.min(axis=0) - FAR_CELLS * self.cell
        self.size = np.ceil((np.ptp(points, axis=0) + 2 * FAR_CELLS * self.cell) / self.cell).astype(int) + 1
        empty = np.ones(self.size, bool)
        empty[tuple(((points - self.low) / self.cell).round().astype(int).T)] = False
        away = distance_transform_edt(empty).astype(np.float32) * np.float32(self.cell)
        self.away = np.minimum(away, np.float32(FAR_CELLS * self.cell))
        self.probes = points[np.linspace(0, len(points) - 1, PROBES).astype(int)] - self.middle

    def of(
        self, turns: np.ndarray, shifts: np.ndarray, every: int = 1, near_mm: float = 0.0
    ) -> tuple[np.ndarray, np.ndarray]:
        """Mean distance (k,) mm after turns (k, 3, 3) and shifts (k, 3), and the share (k,) of it under `near_mm`.

        What lies farther than `FAR_CELLS` cells counts as that far.
        """
        places = ((self.middle + shifts - self.low) / self.cell + 0.5).astype(np.float32)
        mean, share = np.zeros(len(turns), np.float32), np.zeros(len(turns), np.float32)
        _kernels.distances_after_turns(
            np.ascontiguousarray(self.probes[::every] / self.cell), turns.astype(np.float32), places, self.away,
            np.float32(near_mm), mean, share,
        )  # fmt: skip
        return mean, share


def own_symmetries(body: PointCloud, near_mm: float) -> list[np.ndarray]:
    """Up to `KEPT` distinct motions (4×4) that lay a body nearly on itself to `near_mm`, most alike first.

    The body turns about the middle of its surface, which its symmetries leave in place; the climbing moves it too.
    """
    away = _SelfDistance(body)
    rng = np.random.default_rng(17)
    turns = Rotation.random(TURNS, random_state=17)
    turns = turns[turns.magnitude() > np.radians(LEAST_TURN_DEG)].as_matrix()
    score = away.of(turns, np.zeros((len(turns), 3)), every=5)[0]
    best = np.argsort(score, kind="stable")[:CLIMBED]
    turns, shifts = turns[best], np.zeros((CLIMBED, 3))
    score = away.of(turns, shifts)[0]
    step_rad, step_mm = np.radians(10.0), 2 * away.cell
    for _ in range(CLIMBS):
        tried = Rotation.from_rotvec(rng.normal(size=(TRIES * CLIMBED, 3)) * step_rad).as_matrix()
        tried = tried @ np.repeat(turns, TRIES, axis=0)
        moved = np.repeat(shifts, TRIES, axis=0) + rng.normal(size=(TRIES * CLIMBED, 3)) * step_mm
        found = away.of(tried, moved)[0].reshape(CLIMBED, TRIES)
        row = np.arange(CLIMBED) * TRIES + found.argmin(axis=1)
        better = found.min(axis=1) < score
        turns[better], shifts[better] = tried[row[better]], moved[row[better]]
        score = np.minimum(score, found.min(axis=1))
        step_rad, step_mm = step_rad * SHRINK, step_mm * SHRINK
    _, alike = away.of(turns, shifts, near_mm=max(near_mm, 1.5 * away.cell))
    return [_about(away.middle, turns[k], shifts[k]) for k in _distinct_turns(turns, alike)]


def _distinct_turns(turns: np.ndarray, alike: np.ndarray) -> list[int]:
    """Numbers of up to `KEPT` turns (k, 3, 3) after which a body is alike enough, the most alike first, no two the same."""
    kept: list[int] = []
    with_none = np.concatenate([turns, np.eye(3)[None]])
    apart = np.arccos(np.clip((np.einsum("iab,jab->ij", turns, with_none) - 1) / 2, -1, 1))
    for k in map(int, np.argsort(-alike, kind="stable")):
        if alike[k] < ALIKE or apart[k, -1] < np.radians(LEAST_TURN_DEG) or len(kept) == KEPT:
            continue
        if (apart[k, kept] > np.radians(DISTINCT_DEG)).all():
            kept.append(k)
    return kept


def _about(middle: np.ndarray, turn: np.ndarray, shift: np.ndarray) -> np.ndarray:
    """The motion (4, 4) of a turn about a place and a shift."""
    motion = np.eye(4)
    motion[:3, :3], motion[:3, 3] = turn, middle + shift - turn @ middle
    return motion


def weakest_twist(information: np.ndarray, radius: float) -> np.ndarray:
    """(6,) turn (rad) and slide (mm) that the information holds least, of one mm of arc at `radius` or of slide."""
    scale = np.array([1 / radius] * 3 + [1.0] * 3)
    _, vectors = np.linalg.eigh(information * np.outer(scale, scale))
    return vectors[:, 0] * scale


def turned_about_weakest(
    moved: PointCloud, information: np.ndarray, motion: np.ndarray, step_deg: float
) -> list[np.ndarray]:
    """The fit `motion` turned in steps about the axis that the shape holds least; none where that is a slide.

    moved is the moving side where the fit puts it.
    """
    radius = extent_mm(moved) / 2
    twist = weakest_twist(information, radius)
    turn, slide = twist[:3], twist[3:]
    if np.linalg.norm(turn) * radius < np.linalg.norm(slide):
        return []
    point = moved.points.mean(axis=0) + np.cross(turn, slide) / (turn @ turn)
    angles = np.radians(np.arange(step_deg, 360, step_deg))
    return list(about_axis(point, turn, angles) @ motion)


def half_turns(both: np.ndarray, motion: np.ndarray) -> list[np.ndarray]:
    """The fit turned by 180° about the principal axes of both sides' points (n, 3) together.

    A body with flat sides fits itself nearly as well the other way round, and its flat sides can hide
    the right way from the descriptors.
    """
    points = both.astype(np.float64)
    _, _, axes = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)
    along = (points - points.mean(axis=0)) @ axes.T
    middle = points.mean(axis=0) + ((along.min(axis=0) + along.max(axis=0)) / 2) @ axes
    return [about_axis(middle, axis, np.pi) @ motion for axis in axes]
