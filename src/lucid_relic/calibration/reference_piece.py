"""The reference piece: is it me or the instrument? A ball bar and a flat with calibrated values, measured like any object.

Figures after VDI/VDE 2634 part 3 (optical 3D systems that join several views), from memory: probing error of form PF, the
range of the distances of the measured points from the centre of the best-fit ball; of size PS, its diameter less
the calibrated one; sphere spacing error SD, the distance of two balls less the calibrated one; flatness F, the
range of the distances from the best-fit plane. Up to 3 in 1000 points may be left out of the ranges (from memory).
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import InputError, StepNotPossible

LEFT_OUT = 0.003  # of the points, from the ranges
LEAST_POINTS = 300  # on each surface
ROUNDS = 12
TORN_WIDTHS = 6.0  # beyond which a pixel is torn off an edge and is none of the surface's
CAP_DEG = 70.0  # of a ball from its direction to the scanner that is used: beyond it is seen at a slant
TRIES = 300
VOTERS = 20_000  # points that vote for each try
LEAST_WIDTH_MM = 1e-4  # of a scatter: rounding of stored depths
LEAST_OF_ALL = 0.004  # share of the points in view that are on a ball, if there is one


@dataclass(frozen=True)
class ReferencePiece:
    """Calibrated values (mm): diameters of the two balls, their distance, the flat's flatness, and the uncertainty (k = 2)
    of all of them."""

    name: str
    diameters_mm: tuple[float, float] = (30.0, 30.0)
    spacing_mm: float = 100.0
    flat_mm: float = 0.002
    uncertainty_mm: float = 0.002

    def __post_init__(self) -> None:
        if min(*self.diameters_mm, self.spacing_mm) <= 0 or self.spacing_mm <= max(self.diameters_mm):
            raise InputError("A reference piece needs two balls that stand apart: diameters and spacing in mm.")


@dataclass(frozen=True)
class Ball:
    """centre (3,) mm, diameter and form (mm), points used, and the standard uncertainty of centre and diameter."""

    centre: np.ndarray
    diameter_mm: float
    form_mm: float
    count: int
    sd_mm: float


@dataclass(frozen=True)
class PieceCheck:
    """Errors (mm) and their expanded uncertainties (k = 2); scale is the spacing's error as a share."""

    form_mm: tuple[float, float]
    size_mm: tuple[float, float]
    spacing_error_mm: float
    flatness_mm: float
    scale: float
    spacing_uncertainty_mm: float
    size_uncertainty_mm: float
    ok: bool
    words: str


def fit_ball(points: np.ndarray, radius_mm: float) -> Ball:
    """The Gaussian best-fit ball of points (n, 3); raises `StepNotPossible` for too few.

    Starts from the linear least squares of |p|² = 2c·p + k, then minimises radial distances (Gauss-Newton).
    """
    if len(points) < LEAST_POINTS:
        raise StepNotPossible(f"Only {len(points)} points lie on a ball; {LEAST_POINTS} are needed. Bring it nearer.")
    p = points.astype(np.float64)
    middle = p.mean(axis=0)
    q = p - middle
    A = np.column_stack([2 * q, np.ones(len(q))])
    solved, *_ = np.linalg.lstsq(A, (q**2).sum(axis=1), rcond=None)
    centre, radius = solved[:3], float(np.sqrt(max(solved[3] + solved[:3] @ solved[:3], 1e-9)))
    keep = np.ones(len(q), bool)
    for _ in range(ROUNDS):
        away = q - centre
        length = np.linalg.norm(away, axis=1)
        off = length - radius
        width = 1.4826 * float(np.median(np.abs(off[keep] - np.median(off[keep])))) + LEAST_WIDTH_MM
        keep = np.abs(off) < TORN_WIDTHS * width
        if keep.sum() < LEAST_POINTS / 2:
            raise StepNotPossible("These points do not lie on a ball.")
        J = np.column_stack([-away[keep] / length[keep, None], -np.ones(int(keep.sum()))])
        step, *_ = np.linalg.lstsq(J, -off[keep], rcond=None)
        centre, radius = centre + step[:3], radius + float(step[3])
    off = np.linalg.norm(q[keep] - centre, axis=1) - radius
    spread = np.linalg.inv(J.T @ J) * float(off @ off) / max(len(off) - 4, 1)
    return Ball(centre + middle, 2 * radius, robust_range(off), int(keep.sum()), float(np.sqrt(np.trace(spread))))


def robust_range(off: np.ndarray) -> float:
    """Range (mm) of deviations (n,), without the most extreme ones that may be left out."""
    out = int(np.floor(LEFT_OUT * len(off)))
    order = np.sort(np.abs(off - off.mean()))
    kept = off[np.abs(off - off.mean()) <= order[len(order) - 1 - out]]
    return float(np.ptp(kept))


def flatness(points: np.ndarray) -> float:
    """Range (mm) of distances from the best-fit plane of points (n, 3)."""
    if len(points) < LEAST_POINTS:
        raise StepNotPossible(f"Only {len(points)} points lie on the flat; {LEAST_POINTS} are needed.")
    p = points.astype(np.float64) - points.mean(axis=0)
    _, _, axes = np.linalg.svd(p, full_matrices=False)
    off = p @ axes[2]
    width = 1.4826 * float(np.median(np.abs(off - np.median(off)))) + LEAST_WIDTH_MM
    return robust_range(off[np.abs(off) < TORN_WIDTHS * width])


def find_balls(points: np.ndarray, normals: np.ndarray, radii: tuple[float, float], seed: int = 0) -> list[np.ndarray]:
    """Indices of the points (n, 3), normals (n, 3), of each of two balls of about known radii.

    By votes for a centre one radius behind a point (RANSAC, Fischler & Bolles 1981, with one point a try). Raises
    `StepNotPossible` when either is not there.
    """
    rng = np.random.default_rng(seed)
    left = np.ones(len(points), bool)
    found: list[np.ndarray] = []
    for radius in radii:
        candidates = np.flatnonzero(left)
        voters = rng.permutation(candidates)[:VOTERS]
        centre, votes = None, -1
        for index in rng.choice(candidates, min(TRIES, len(candidates)), replace=False):
            tried = points[index] - radius * normals[index]
            count = int(_on_ball(points[voters], normals[voters], tried, radius).sum())
            centre, votes = (tried, count) if count > votes else (centre, votes)
        best = candidates[:0]
        if centre is not None:
            best = candidates[_on_ball(points[candidates], normals[candidates], centre, radius)]
        if len(best) < max(LEAST_POINTS, LEAST_OF_ALL * len(points)) or _is_lump(points[best], radius):
            raise StepNotPossible(
                f"{'No' if not found else 'Only one'} ball of {2 * radius:g} mm is in view. Is this the reference piece that was chosen?"
            )
        ball = fit_ball(points[best], radius)
        near = np.abs(np.linalg.norm(points - ball.centre, axis=1) - ball.diameter_mm / 2) < 0.05 * radius
        found.append(np.flatnonzero(near & left))
        left &= np.linalg.norm(points - ball.centre, axis=1) > 1.25 * radius
    return found


def _on_ball(points: np.ndarray, normals: np.ndarray, centre: np.ndarray, radius: float) -> np.ndarray:
    """(n,) bool of points about one radius from a centre that face away from it."""
    away = points - centre
    length = np.linalg.norm(away, axis=1)
    return (np.abs(length - radius) < 0.06 * radius) & (np.einsum("ij,ij->i", away, normals) > 0.9 * length)


def _is_lump(points: np.ndarray, radius: float) -> bool:
    """Whether points that were taken for a ball have another size than it, or lie about it."""
    ball = fit_ball(points, radius)
    return abs(ball.diameter_mm / 2 - radius) > 0.04 * radius or ball.form_mm > 0.06 * radius


def square_to(points: np.ndarray, centre: np.ndarray, eyes: np.ndarray) -> np.ndarray:
    """(n,) bool of a ball's points within the cap that faces the eyes (n, 3) that saw them."""
    away, way = points - centre, eyes - centre
    cos = np.einsum("ij,ij->i", away, way) / np.maximum(
        np.linalg.norm(away, axis=1) * np.linalg.norm(way, axis=1), 1e-9
    )
    return cos > np.cos(np.radians(CAP_DEG))


@dataclass(frozen=True)
class Sizes:
    """Diameter and form (mm) of one ball as single frames see it, averaged, and the standard uncertainty of the diameter."""

    diameter_mm: float
    form_mm: float
    sd_mm: float


def size_of_ball(caps: list[np.ndarray], radius_mm: float) -> Sizes:
    """A ball from the caps (n, 3) that single frames saw of it: how frames lie to each other does not come in."""
    fits = [fit_ball(cap, radius_mm) for cap in caps if len(cap) >= LEAST_POINTS]
    if not fits:
        raise StepNotPossible(
            f"No frame has {LEAST_POINTS} points on the ball of {2 * radius_mm:g} mm. Bring it nearer."
        )
    diameters = np.array([f.diameter_mm for f in fits])
    inner = 2 * np.sqrt(np.mean([f.sd_mm**2 for f in fits]) / len(fits))
    outer = float(diameters.std(ddof=1) / np.sqrt(len(fits))) if len(fits) > 1 else 0.0
    return Sizes(float(diameters.mean()), float(np.mean([f.form_mm for f in fits])), float(max(inner, outer)))


def check_piece(
    balls: tuple[np.ndarray, np.ndarray],
    sizes: tuple[Sizes, Sizes],
    flat: np.ndarray,
    piece: ReferencePiece,
    noise_mm: float,
) -> PieceCheck:
    """Errors of the instrument from points on two balls and the flat, against the piece's values.

    ok says whether spacing and sizes are off by no more than their uncertainty and the instrument's noise allow.
    """
    one, two = (fit_ball(p, d / 2) for p, d in zip(balls, piece.diameters_mm, strict=True))
    error = float(np.linalg.norm(one.centre - two.centre)) - piece.spacing_mm
    spacing_u = 2 * float(np.hypot(np.hypot(one.sd_mm, two.sd_mm), piece.uncertainty_mm / 2))
    size_u = 2 * float(np.hypot(max(s.sd_mm for s in sizes), piece.uncertainty_mm / 2))
    off = (sizes[0].diameter_mm - piece.diameters_mm[0], sizes[1].diameter_mm - piece.diameters_mm[1])
    long = abs(error) > spacing_u + noise_mm
    wrong_size = max(map(abs, off)) > size_u + 2 * noise_mm
    words = "The instrument measures true: what is wrong with a scan is not its doing."
    if long:
        way = "too long" if error > 0 else "too short"
        words = (
            f"It is the instrument: lengths are {way} by {abs(error) / piece.spacing_mm:.2%}. Check it with the board."
        )
    elif wrong_size:
        words = "It is the instrument: balls come out in the wrong size. Check it with the board, and its exposure."
    forms = (sizes[0].form_mm, sizes[1].form_mm)
    return PieceCheck(
        forms, off, error, flatness(flat), error / piece.spacing_mm, spacing_u, size_u, not (long or wrong_size), words
    )
