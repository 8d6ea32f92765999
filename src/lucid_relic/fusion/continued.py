"""What goes on: planes and quadrics that the measured surroundings of a patch lie on, joined as their edges are joined.

A bore, a step or a corner that nothing saw is no soft surface: its walls are those that were seen beside it, gone on
with. Sheets are looked for one after the other by random samples (Schnabel, Wahl & Klein 2007,
doi:10.1111/j.1467-8659.2007.01016.x): a plane of one place and its normal, a ball or a cylinder of two; what most places
lie on is then fitted as a quadric (Taubin 1991, doi:10.1109/34.103273), which holds cones and ellipsoids too.
Every sheet parts space into within and without. How several of them bound the body, each edge convex or
hollow, is what fits the measured places best.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import permutations, product
from typing import NamedTuple

import numpy as np
from scipy.linalg import eigh

SAMPLES = 400  # random samples for a sheet: of one with a quarter of the places 25 pairs lie on it
ASKED = 1500  # places asked what they say of a sample
FITTED = 6000  # places a quadric is fitted to
REFITS = 5  # in which a sheet grows over what it did not hold yet
MOST_SHEETS = 4
LEAST_SHARE = 0.04  # of the places: what fewer lie on is no sheet
MIN_COS = 0.9  # of a place's normal and the sheet's
PLAIN_ENOUGH = 0.95  # of the places of the best sheet: a plane that holds so many is taken before it
COVERED = 0.9  # of the places that must lie on the sheets, as they are joined
NEWTON_STEPS = 12
LEAST_PLACES = 20  # for a sheet of nine weights
PARALLEL = 1e-3  # sine² of the angle of normals that meet nowhere
NOWHERE = 1e6  # mm
RIDGE = 1e-10  # of the mean square gradient of a quadric's terms, which vanishes for some of them on a plane


@dataclass(frozen=True)
class Sheet:
    """A quadric of places less `middle` over `scale` (mm): ten weights of x², y², z², xy, yz, zx, x, y, z and 1."""

    middle: np.ndarray
    scale: float
    weights: np.ndarray

    def at(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The distance (n,) mm of points (n, 3) to first order, positive without, and its direction (n, 3)."""
        x, y, z = ((points - self.middle) / self.scale).T
        a, b, c, d, e, f, g, h, i, j = self.weights
        value = x * (a * x + d * y + g) + y * (b * y + e * z + h) + z * (c * z + f * x + i) + j
        gradient = np.stack(
            [2 * a * x + d * y + f * z + g, 2 * b * y + d * x + e * z + h, 2 * c * z + e * y + f * x + i], axis=1
        )
        steep = np.maximum(np.linalg.norm(gradient, axis=1), 1e-9)
        return self.scale * value / steep, gradient / steep[:, None]

    def holds(self, points: np.ndarray, normals: np.ndarray, within_mm: float) -> np.ndarray:
        """Which points (n,) with outward normals lie on it and face as it does."""
        away, direction = self.at(points)
        return (np.abs(away) < within_mm) & ((direction * normals).sum(axis=1) > MIN_COS)


@dataclass(frozen=True)
class Continued:
    """Sheets joined one after the other: `hollow[k]` says that the next one adds to the body instead of cutting it.

    covered is the share (0-1) of the measured places that lie on the whole.
    """

    sheets: tuple[Sheet, ...]
    hollow: tuple[bool, ...]
    covered: float = 0.0

    def at(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """As `Sheet.at`, of all of them together."""
        return joined([sheet.at(points) for sheet in self.sheets], self.hollow)

    def onto(self, points: np.ndarray, most_mm: float) -> np.ndarray:
        """Points (n, 3) moved onto it, `most_mm` at a step."""
        places = points.astype(np.float64)
        for _ in range(NEWTON_STEPS):
            away, direction = self.at(places)
            places -= np.clip(away, -most_mm, most_mm)[:, None] * direction
        return places


def joined(asked: list[tuple[np.ndarray, np.ndarray]], hollow: tuple[bool, ...]) -> tuple[np.ndarray, np.ndarray]:
    """Distance and direction of several sheets together, from those of each."""
    away, direction = asked[0]
    for (other, turned), adds in zip(asked[1:], hollow, strict=True):
        taken = other < away if adds else other > away
        away, direction = np.where(taken, other, away), np.where(taken[:, None], turned, direction)
    return away, direction


def continued(points: np.ndarray, normals: np.ndarray, within_mm: float) -> Continued | None:
    """What measured places (n, 3) with outward normals lie on to `within_mm`; None where that is no few sheets."""
    rng = np.random.default_rng(17)
    chosen = rng.permutation(len(points))[:FITTED]
    points, normals = points[chosen].astype(np.float64), normals[chosen].astype(np.float64)
    sheets: list[Sheet] = []
    left: np.ndarray = np.ones(len(points), bool)
    while len(sheets) < MOST_SHEETS and left.mean() > LEAST_SHARE:
        sheet = _sheet_of_most(points[left], normals[left], within_mm, rng)
        if sheet is None:
            break
        held = left & sheet.holds(points, normals, within_mm)
        if held.mean() < LEAST_SHARE:
            break
        sheets.append(sheet)
        left &= ~held
        # The largest come first: what all that may follow cannot cover is no few sheets.
        if left.mean() - (MOST_SHEETS - len(sheets)) * held.mean() > 1 - COVERED:
            return None
    if not sheets:
        return None
    found = _as_edges_say(sheets, points, within_mm)
    away, direction = found.at(points)
    lies = (np.abs(away) < 2 * within_mm) & ((direction * normals).sum(axis=1) > 0.5)
    covered = float(lies.mean())
    return replace(found, covered=covered) if covered >= COVERED else None


def _as_edges_say(sheets: list[Sheet], points: np.ndarray, within_mm: float) -> Continued:
    """The sheets joined so that the places lie on the whole best."""
    asked = [sheet.at(points) for sheet in sheets]
    best, least = Continued((sheets[0],), ()), np.inf
    for order in permutations(range(len(sheets))):
        for hollow in product((False, True), repeat=len(sheets) - 1):
            off = np.minimum(np.abs(joined([asked[k] for k in order], hollow)[0]), 5 * within_mm).mean()
            if off < least:
                best, least = Continued(tuple(sheets[k] for k in order), hollow), off
    return best


def _sheet_of_most(points: np.ndarray, normals: np.ndarray, within_mm: float, rng: np.random.Generator) -> Sheet | None:
    """The plane or quadric that most places lie on."""
    if len(points) < LEAST_PLACES:
        return None
    asked = rng.permutation(len(points))[:ASKED]
    one, two = rng.integers(len(points), size=(2, SAMPLES))
    middle = points.mean(axis=0)
    pairs = _Pairs(points[one] - middle, normals[one], points[two] - middle, normals[two])
    held, fit = _held_by_best(pairs, points[asked] - middle, normals[asked], within_mm)
    if held.sum() < LEAST_PLACES:
        return None
    sheet = fit(points[asked][held], normals[asked][held])
    for _ in range(REFITS):
        held = sheet.holds(points, normals, within_mm)
        if held.sum() < LEAST_PLACES:
            return None
        sheet = fit(points[held], normals[held])
    return sheet


def _held_by_best(
    pairs: "_Pairs", points: np.ndarray, normals: np.ndarray, within_mm: float
) -> tuple[np.ndarray, Callable[[np.ndarray, np.ndarray], Sheet]]:
    """Which places the sample holds that holds most, and how that is fitted; a plane goes before what holds hardly more."""
    best: list[np.ndarray] = []
    for sample in (_of_planes, _of_balls, _of_cylinders):
        away, cosine = sample(pairs, points, normals)
        held = (np.abs(away) < within_mm) & (cosine > MIN_COS)
        best.append(held[held.sum(axis=1).argmax()])
    plane, ball, cylinder = best
    if plane.sum() >= PLAIN_ENOUGH * max(ball.sum(), cylinder.sum()):
        return plane, _plane
    return (ball if ball.sum() > cylinder.sum() else cylinder), _quadric


class _Pairs(NamedTuple):
    """Places p and q (s, 3) with their normals m and n, a sample each."""

    p: np.ndarray
    m: np.ndarray
    q: np.ndarray
    n: np.ndarray

    def where_normals_meet(self) -> tuple[np.ndarray, np.ndarray]:
        """The place (s, 3) on the normal of p that is nearest to that of q, and how far along it that is (s,)."""
        across = np.cross(np.cross(self.m, self.n), self.n)
        slope = (self.m * across).sum(axis=1)
        meet = np.abs(slope) > PARALLEL
        reach = ((self.q - self.p) * across).sum(axis=1) / np.where(meet, slope, 1.0)
        reach = np.where(meet, reach, NOWHERE)
        return self.p + reach[:, None] * self.m, reach


def _of_planes(pairs: _Pairs, points: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distances (s, k) of points to the planes of the first places, and the cosines of their normals with the planes'."""
    return pairs.m @ points.T - (pairs.p * pairs.m).sum(axis=1)[:, None], pairs.m @ normals.T


def _of_balls(pairs: _Pairs, points: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """As `_of_planes`, for the balls around where the normals meet."""
    middle, reach = pairs.where_normals_meet()
    far_sq = (points**2).sum(axis=1) - 2 * middle @ points.T + (middle**2).sum(axis=1)[:, None]
    along = (points * normals).sum(axis=1) - middle @ normals.T
    return _round(far_sq, along, reach)


def _of_cylinders(pairs: _Pairs, points: np.ndarray, normals: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """As `_of_planes`, for the cylinders whose axis both normals cross at a right angle."""
    middle, reach = pairs.where_normals_meet()
    axis = np.cross(pairs.m, pairs.n)
    axis /= np.maximum(np.linalg.norm(axis, axis=1, keepdims=True), 1e-9)
    far_sq = (points**2).sum(axis=1) - 2 * middle @ points.T + (middle**2).sum(axis=1)[:, None]
    up = axis @ points.T - (axis * middle).sum(axis=1)[:, None]
    along = (points * normals).sum(axis=1) - middle @ normals.T - up * (axis @ normals.T)
    return _round(far_sq - up**2, along, reach)


def _round(far_sq: np.ndarray, along: np.ndarray, reach: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distance and cosine for places (s, k) whose square distance to the middles and way along their normals is known.

    reach (s,) is how far the middle lies along the normal of a place that is on it, less than 0 where it lies within.
    """
    far = np.sqrt(np.maximum(far_sq, 1e-12))
    faces = -np.sign(reach)[:, None]
    return faces * (far - np.abs(reach)[:, None]), faces * along / far


def _plane(points: np.ndarray, normals: np.ndarray) -> Sheet:
    """The plane of places that face as their normals do."""
    middle = points.mean(axis=0)
    _, axes = np.linalg.eigh(np.cov((points - middle).T))
    normal = axes[:, 0] * np.sign(axes[:, 0] @ normals.mean(axis=0))
    return Sheet(middle, 1.0, np.concatenate([np.zeros(6), normal, [0.0]]))


def _quadric(points: np.ndarray, normals: np.ndarray) -> Sheet:
    """The quadric of least mean square distance to first order (Taubin), turned so that it faces as the normals do."""
    middle = points.mean(axis=0)
    scale = float(np.linalg.norm(points - middle, axis=1).mean())
    x, y, z = ((points - middle) / scale).T
    terms = np.stack([x * x, y * y, z * z, x * y, y * z, z * x, x, y, z])
    mean = terms.mean(axis=1)
    none, unit = np.zeros_like(x), np.ones_like(x)
    steps = np.stack(
        [
            np.stack([2 * x, none, none, y, none, z, unit, none, none]),
            np.stack([none, 2 * y, none, x, z, none, none, unit, none]),
            np.stack([none, none, 2 * z, none, y, x, none, none, unit]),
        ]
    )
    steep = np.einsum("cin,cjn->ij", steps, steps) / len(points)
    _, vectors = eigh(np.cov(terms, bias=True), steep + RIDGE * np.trace(steep) * np.eye(9))
    weights = np.append(vectors[:, 0], -mean @ vectors[:, 0])
    sheet = Sheet(middle, scale, weights)
    facing = (sheet.at(points)[1] * normals).sum(axis=1).mean()
    return sheet if facing > 0 else Sheet(middle, scale, -weights)
