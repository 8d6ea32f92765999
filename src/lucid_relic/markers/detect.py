"""Marker dots in a photograph: bright round places on dark, their middles to a small part of a pixel.

The middle is the centroid of the light above the dark around it (cf. Trinder 1989, Photogrammetric Record 13(73); the
precision of such centroids is a few hundredths of a pixel), the ring's parts are read along an ellipse around it.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from lucid_relic.light.srgb import LINEAR
from lucid_relic.markers import design

WINDOW_SHARE = 0.09  # of the image's width that a dot may be across
LEAST_RATIO, LEAST_STEP = 2.5, 0.02  # of bright to dark beside it, and their difference in linear light
LEAST_PIXELS = 9
LEAST_ROUND = 0.22  # of the short to the long axis: what is more slanted is not sure
FILLED = (0.82, 1.18)  # of the ellipse of its moments that a disc fills
AROUND = (1.3, 1.55)  # radii between which a dot must be dark all around
LEAST_AROUND_PX = 1.2
DARK_AROUND = 0.95  # of its surroundings that must be dark
READABLE_PX = 1.8  # of the ring's parts, along the short axis
CLEAR = (0.35, 0.65)  # of the step from black to white between which a part is unsure
PROBES = 8 * design.PARTS
PART_OF_RADII = 2.8  # of a larger dot, within which a smaller one is a part of its ring


@dataclass(frozen=True)
class Dots:
    """Dots of one photograph: pixel (n, 2) of their middles, ellipse (n, 2, 2) half axes as rows (pixels), number (n,), -1 without."""

    pixel: np.ndarray
    ellipse: np.ndarray
    number: np.ndarray

    def __len__(self) -> int:
        return len(self.pixel)


def detect(image: np.ndarray) -> Dots:
    """Find the dots of a photograph (h, w, 3) uint8 sRGB."""
    grey = cv2.cvtColor(image, cv2.COLOR_RGB2GRAY)
    light = LINEAR[grey]
    size = max(int(WINDOW_SHARE * light.shape[1]) | 1, 9)
    box = np.ones((size, size), np.uint8)
    high, low = LINEAR[cv2.dilate(grey, box)], LINEAR[cv2.erode(grey, box)]
    clear = (high > LEAST_RATIO * low) & (high - low > LEAST_STEP)
    bright = clear & (light > (high + low) / 2)
    _, labels, stats, _ = cv2.connectedComponentsWithStats(bright.astype(np.uint8), connectivity=4)
    sizes = stats[:, cv2.CC_STAT_AREA], stats[:, [cv2.CC_STAT_WIDTH, cv2.CC_STAT_HEIGHT]].max(axis=1)
    likely = np.flatnonzero((sizes[0] >= LEAST_PIXELS) & (sizes[1] <= size))
    found = [d for k in likely[likely > 0] if (d := _dot(light, labels, stats[k], k)) is not None]
    found = [d for d in found if not any(_part_of(d, other) for other in found)]
    numbers = np.array([_number(light, middle, axes) for middle, axes in found], int)
    return Dots(
        np.array([m for m, _ in found]).reshape(-1, 2), np.array([a for _, a in found]).reshape(-1, 2, 2), numbers
    )


def _dot(light: np.ndarray, labels: np.ndarray, stat: np.ndarray, label: int) -> tuple[np.ndarray, np.ndarray] | None:
    """Middle and axes of a bright place that is a disc with dark around it, None otherwise."""
    left, top, width, height, area = (int(s) for s in stat)
    reach = int(0.5 * max(width, height)) + 2
    rows, columns = (
        slice(top - reach, top + height + reach),
        slice(left - reach, left + width + reach),
    )
    if rows.start < 0 or columns.start < 0 or rows.stop > light.shape[0] or columns.stop > light.shape[1]:
        return None
    own = labels[rows, columns] == label
    v, u = np.nonzero(own)
    axes = _axes(np.stack([u, v], axis=1).astype(float))
    long, short = np.linalg.norm(axes, axis=1)
    if short < LEAST_ROUND * long or not FILLED[0] < area / (np.pi * long * short) < FILLED[1]:
        return None
    # The middle of the light above the dark, of all that lies within a little more than the disc.
    part = light[rows, columns]
    middle = np.array([u.mean(), v.mean()])
    grid = np.stack(np.meshgrid(np.arange(part.shape[1]), np.arange(part.shape[0])), axis=-1).astype(float)
    for _ in range(2):
        away = _radii(grid - middle, axes)
        end = max(AROUND[1], AROUND[0] + LEAST_AROUND_PX / short)
        inside, ring = away < AROUND[0], (away >= AROUND[0]) & (away < end)
        if not ring.any():
            return None
        dark, white = middle_one(part[ring]), middle_one(part[own])
        if white < LEAST_RATIO * dark or white - dark < LEAST_STEP:
            return None
        weight = np.clip((part - dark) / (white - dark), 0.0, None) * inside
        middle = (grid * weight[..., None]).sum(axis=(0, 1)) / weight.sum()
    if (part[ring] < (dark + white) / 2).mean() < DARK_AROUND:
        return None
    return middle + [columns.start, rows.start], axes


def middle_one(values: np.ndarray) -> float:
    """The middle one of some values in order: their median, found faster where they are few."""
    return float(np.sort(values)[len(values) // 2])


def _part_of(dot: tuple[np.ndarray, np.ndarray], other: tuple[np.ndarray, np.ndarray]) -> bool:
    """Whether a bright place is but a white part of the ring around another."""
    (middle, axes), (centre, around) = dot, other
    smaller = abs(np.linalg.det(axes)) < 0.7 * abs(np.linalg.det(around))
    return smaller and float(_radii(middle - centre, around)) < PART_OF_RADII


def _axes(pixels: np.ndarray) -> np.ndarray:
    """(2, 2) half axes of the ellipse with the moments of some pixels, the longer first."""
    spread = np.cov(pixels.T, bias=True) + np.eye(2) / 12
    values, vectors = np.linalg.eigh(spread)
    return (2 * np.sqrt(values) * vectors).T[::-1]


def _radii(away: np.ndarray, axes: np.ndarray) -> np.ndarray:
    """How many radii of an ellipse places (…, 2) lie away from its middle."""
    return np.linalg.norm(away @ (axes / (axes**2).sum(axis=1, keepdims=True)).T, axis=-1)


def _number(light: np.ndarray, middle: np.ndarray, axes: np.ndarray) -> int:
    """The number that the ring around a dot tells; -1 when it has none, or it cannot be read for sure."""
    short = float(np.linalg.norm(axes[1]))
    inner, outer = design.CODE_RADII
    if (outer - inner) * short < READABLE_PX:
        return -1
    angle = np.arange(PROBES) * 2 * np.pi / PROBES
    # Rows run downwards in the image: words are read as one sees them from before the dot.
    round_axes = axes if np.linalg.det(axes) < 0 else axes * [[1], [-1]]
    around = np.stack([np.cos(angle), np.sin(angle)], axis=1) @ round_axes
    probed = _probe(light, middle + around * (inner + outer) / 2)
    dark = float(np.median(_probe(light, middle + around * (1 + design.BLACK_RADII) / 2)))
    white = float(_probe(light, middle[None])[0])
    share = (probed - dark) / max(white - dark, 1e-6)
    per_part = PROBES // design.PARTS
    # Where the ring's parts begin is not known: the beginning is where all of them are the most clearly one or the other.
    best = max((_parts(np.roll(share, -k), per_part) for k in range(per_part)), key=lambda p: np.abs(p - 0.5).min())
    if ((best > CLEAR[0]) & (best < CLEAR[1])).any():
        return -1
    number = design.number_of(best > 0.5)
    return -1 if number is None else number


def _parts(share: np.ndarray, per_part: int) -> np.ndarray:
    """Mean of the inner probes of every part."""
    return share.reshape(design.PARTS, per_part)[:, 1:-1].mean(axis=1)


def _probe(light: np.ndarray, places: np.ndarray) -> np.ndarray:
    return cv2.remap(light, places.astype(np.float32).reshape(-1, 1, 2), None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[:, 0]  # fmt: skip
