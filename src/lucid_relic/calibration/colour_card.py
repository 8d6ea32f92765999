"""The colour card: white balance and exposure from grey or from a sheet of white paper, a colour matrix from a chart of 24 patches.

The chart's patches are those of McCamy, Marcus & Davidson 1976 with the L*a*b* (D50, 2°) values its maker publishes for
charts made since November 2014, as colour-science 0.4.7 carries them ("ColorChecker24 - After November 2014"; the
test compares). They are adapted to D65 by the Bradford transform (Lam 1985). Differences are CIEDE2000.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from scipy.optimize import least_squares

from lucid_relic.calibration.board import DICTIONARY
from lucid_relic.errors import StepNotPossible
from lucid_relic.light.difference import EPSILON, KAPPA, TO_XYZ, delta_e_2000, lab_of_linear
from lucid_relic.light.srgb import to_linear

COLUMNS, ROWS = 6, 4
PATCH_MM, GAP_MM, BORDER_MM, MARKER_MM = 20.0, 3.0, 22.0, 18.0
MARKERS = (200, 201, 202, 203)  # upper left, upper right, lower right, lower left
GREY = 21  # the patch of middle grey, "neutral 5"
CARD_INK, CARD_PAPER = 0.02, 0.60  # linear light of the card's markers and its ground
PAPER = 0.85  # reflectance of plain white paper (from memory; uncoated sheets have 0.8 to 0.9)
SHEET_SHARE = 0.4  # of the sides of the picture, over its middle, that a white sheet has to fill
SHEET_EVEN, SHEET_LEAST = 0.25, 0.12  # how much its light may differ over it; light below which there is no white sheet
CLIPPED, DARK = 0.98, 0.002  # linear light from which a patch tells nothing
GOOD_DELTA_E = 3.0
# fmt: off
CHART_LAB_D50 = np.array([
    [37.54, 14.37, 14.92], [64.66, 19.27, 17.50], [49.32, -3.82, -22.54], [43.46, -12.74, 22.72], [54.94, 9.61, -24.79],
    [70.48, -32.26, -0.37], [62.73, 35.83, 56.50], [39.43, 10.75, -45.17], [50.57, 48.64, 16.67], [30.10, 22.54, -20.87],
    [71.77, -24.13, 58.19], [71.51, 18.24, 67.37], [28.37, 15.42, -49.80], [54.38, -39.72, 32.27], [42.43, 51.05, 28.62],
    [81.80, 2.67, 80.41], [50.63, 51.28, -14.12], [49.57, -29.71, -28.32], [95.19, -1.03, 2.93], [81.29, -0.57, 0.44],
    [66.89, -0.75, -0.06], [50.76, -0.13, 0.14], [35.63, -0.46, -0.48], [20.64, 0.07, -0.46],
])
WHITE_D50 = np.array([0.96422, 1.0, 0.82521])  # of the profile connection space (ICC.1)
BRADFORD_D50_D65 = np.array([
    [0.9555766, -0.0230393, 0.0631636], [-0.0282895, 1.0099416, 0.0210077], [0.0122982, -0.0204830, 1.3299098],
])
# fmt: on


def chart_linear() -> np.ndarray:
    """(24, 3) linear sRGB light of the chart under D65; two patches lie a little outside of sRGB."""
    L, a, b = CHART_LAB_D50.T
    fy = (L + 16) / 116
    f = np.stack([fy + a / 500, fy, fy - b / 200], axis=1)
    ratio = np.where(f**3 > EPSILON, f**3, (116 * f - 16) / KAPPA)
    return (ratio * WHITE_D50) @ BRADFORD_D50_D65.T @ np.linalg.inv(TO_XYZ).T


@dataclass(frozen=True)
class CardCheck:
    """matrix (3, 3) from photographed to true linear light; CIEDE2000 of each patch before and after (24,); exposure the
    factor that would set grey right; balance (3,) gains of red, green and blue; ok, and why not."""

    matrix: np.ndarray
    before: np.ndarray
    after: np.ndarray
    exposure: float
    balance: np.ndarray
    ok: bool
    why: tuple[str, ...]


def card_size_mm() -> tuple[float, float]:
    """Width and height of the card."""
    return (
        2 * BORDER_MM + COLUMNS * PATCH_MM + (COLUMNS - 1) * GAP_MM,
        2 * BORDER_MM + ROWS * PATCH_MM + (ROWS - 1) * GAP_MM,
    )


def patch_middles() -> np.ndarray:
    """(24, 2) mm of the patches' middles on the card, row by row."""
    rows, columns = np.divmod(np.arange(COLUMNS * ROWS), COLUMNS)
    return BORDER_MM + PATCH_MM / 2 + np.stack([columns, rows], axis=1) * (PATCH_MM + GAP_MM)


def _marker_corners() -> np.ndarray:
    """(4, 4, 2) mm of the markers' corners, clockwise from the upper left one of each."""
    w, h = card_size_mm()
    edge = (BORDER_MM - MARKER_MM) / 2
    starts = np.array(
        [
            [edge, edge],
            [w - edge - MARKER_MM, edge],
            [w - edge - MARKER_MM, h - edge - MARKER_MM],
            [edge, h - edge - MARKER_MM],
        ]
    )
    square = MARKER_MM * np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    return starts[:, None] + square


def card_picture(px_per_mm: float) -> np.ndarray:
    """(h, w, 3) linear light of the card, to print or to render."""
    w, h = (round(side * px_per_mm) for side in card_size_mm())
    out = np.full((h, w, 3), CARD_PAPER)
    half = PATCH_MM / 2
    for middle, colour in zip(patch_middles(), chart_linear(), strict=True):
        (x0, y0), (x1, y1) = (
            np.rint((middle - half) * px_per_mm).astype(int),
            np.rint((middle + half) * px_per_mm).astype(int),
        )
        out[y0:y1, x0:x1] = colour
    words = cv2.aruco.getPredefinedDictionary(DICTIONARY)
    side = round(MARKER_MM * px_per_mm)
    for number, corners in zip(MARKERS, _marker_corners(), strict=True):
        x, y = np.rint(corners[0] * px_per_mm).astype(int)
        ink = cv2.aruco.generateImageMarker(words, number, side) > 0
        out[y : y + side, x : x + side] = np.where(ink[..., None], CARD_PAPER, CARD_INK)
    return out


def read_card(picture: np.ndarray) -> np.ndarray:
    """(24, 3) linear light of the patches in a photograph (h, w, 3) uint8; raises `StepNotPossible` when the card is not seen."""
    words = cv2.aruco.getPredefinedDictionary(DICTIONARY)
    settings = cv2.aruco.DetectorParameters()
    settings.cornerRefinementMethod = cv2.aruco.CORNER_REFINE_SUBPIX
    corners, ids, _ = cv2.aruco.ArucoDetector(words, settings).detectMarkers(cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY))
    known = (
        {} if ids is None else {int(i): c.reshape(4, 2) for i, c in zip(np.asarray(ids).ravel(), corners, strict=True)}
    )
    missing = [n for n in MARKERS if n not in known]
    if missing:
        raise StepNotPossible(
            f"The colour card is not wholly in view: {len(missing)} of its 4 corner markers were not found. "
            "Lay it flat in the middle, without shadow or glare."
        )
    here = np.concatenate([known[n] for n in MARKERS])
    H, _ = cv2.findHomography(_marker_corners().reshape(-1, 2), here.astype(np.float64))
    linear = to_linear(picture)
    return np.stack([_patch(linear, H, middle) for middle in patch_middles()])


def _patch(linear: np.ndarray, H: np.ndarray, middle: np.ndarray) -> np.ndarray:
    """Median light of the inner half of a patch."""
    steps = np.linspace(-0.25, 0.25, 13) * PATCH_MM
    at = np.stack(np.meshgrid(steps, steps), axis=-1).reshape(-1, 2) + middle
    q = np.column_stack([at, np.ones(len(at))]) @ H.T
    uv = np.clip(np.rint(q[:, :2] / q[:, 2:]).astype(int), 0, np.array(linear.shape[1::-1]) - 1)
    return np.median(linear[uv[:, 1], uv[:, 0]], axis=0)


def balance_of_grey(linear: np.ndarray, reflectance: float) -> tuple[np.ndarray, float]:
    """Gains (3,) of red, green, blue (green 1) that make a grey or white sheet (3,) neutral, and the exposure factor that
    brings it to its reflectance.

    Raises `StepNotPossible` when it is clipped or too dark.
    """
    if linear.max() >= CLIPPED or linear.min() <= DARK:
        raise StepNotPossible(
            "The sheet is clipped: lower the exposure."
            if linear.max() >= CLIPPED
            else "The sheet is too dark to tell its colour."
        )
    return linear[1] / linear, float(reflectance / (linear @ TO_XYZ[1]))


@dataclass(frozen=True)
class SheetCheck:
    """What a white sheet tells: balance (3,) and exposure as of `balance_of_grey`, matrix (3, 3), and its ΔE before and after."""

    matrix: np.ndarray
    balance: np.ndarray
    exposure: float
    before: float
    after: float


def check_sheet(picture: np.ndarray) -> SheetCheck:
    """Balance and exposure from a photograph (h, w, 3) uint8 with a sheet of white paper over its middle.

    Raises `StepNotPossible` when no even, bright sheet is there, or it is clipped.
    """
    h, w = picture.shape[:2]
    high, wide = round(SHEET_SHARE * h / 2), round(SHEET_SHARE * w / 2)
    linear = to_linear(picture[h // 2 - high : h // 2 + high, w // 2 - wide : w // 2 + wide]).reshape(-1, 3)
    middle = np.median(linear, axis=0)
    low, top = np.percentile(linear @ TO_XYZ[1], [5, 95])
    if middle @ TO_XYZ[1] < SHEET_LEAST or top - low > SHEET_EVEN * top:
        raise StepNotPossible(
            "No even white sheet fills the middle of the picture. Hold a sheet of plain white paper flat before the head, "
            "lit by its own lamp, without shadow."
        )
    balance, exposure = balance_of_grey(middle, PAPER)
    matrix = exposure * np.diag(balance)
    # The balanced sheet is neutral; what is left comes from how unevenly it is lit.
    white = lab_of_linear(np.full((1, 3), PAPER))
    balanced = (linear[:: max(len(linear) // 2000, 1)] @ matrix.T).clip(0)
    even = balanced / np.maximum(balanced @ TO_XYZ[1], 1e-9)[:, None] * PAPER
    before = float(delta_e_2000(lab_of_linear((middle * exposure)[None]), white)[0])
    return SheetCheck(matrix, balance, exposure, before, float(delta_e_2000(lab_of_linear(even), white).mean()))


def under_new_light(matrix: np.ndarray, then: np.ndarray, now: np.ndarray) -> np.ndarray:
    """The matrix (3, 3) of a card for the light that a sheet told of later: both by their gains (3,) to neutral."""
    return matrix @ np.diag(now / then)


def check_card(measured: np.ndarray) -> CardCheck:
    """The colour matrix of patches (24, 3) in linear light; raises `StepNotPossible` when patches are clipped or dark."""
    clipped = np.flatnonzero((measured >= CLIPPED).any(axis=1))
    if len(clipped):
        raise StepNotPossible(f"{len(clipped)} patches of the card are clipped: lower the exposure and take it again.")
    if measured[18:20].min() <= 0.05:
        raise StepNotPossible("The card is too dark: raise the exposure and take it again.")
    true = chart_linear()
    lab = lab_of_linear(true)
    balance, exposure = balance_of_grey(measured[GREY], float(true[GREY] @ TO_XYZ[1]))
    before = delta_e_2000(lab_of_linear(measured * exposure), lab)
    start, *_ = np.linalg.lstsq(measured, true, rcond=None)
    off = lambda m: delta_e_2000(lab_of_linear(measured @ m.reshape(3, 3).T), lab)  # noqa: E731
    found = least_squares(off, start.T.ravel(), loss="soft_l1", diff_step=1e-5)
    matrix = found.x.reshape(3, 3)
    after = off(found.x)
    why = () if after.mean() <= GOOD_DELTA_E else (
        f"Colours are still off by ΔE {after.mean():.1f} on average: is there glare, shadow or a second light on the card?",
    )  # fmt: skip
    return CardCheck(matrix, before, after, exposure, balance, not why, why)
