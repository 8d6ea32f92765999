"""Finding the laser line in a picture, to a fraction of a pixel."""

import numpy as np

from lucid_relic.light.srgb import LINEAR

HALF_PX = 4  # around a peak over which its centre of gravity is taken
LEAST_SHARE, LEAST_LIGHT = 0.12, 0.02  # of the brightest peak of a picture, and linear light: weaker peaks are none
WIDEST_PX = 7.0  # scatter of a peak that is still a line's; wider are reflections


def ambient(pictures: list[np.ndarray]) -> np.ndarray:
    """(h, w) float32 redness that does not come from the line: the median of some pictures (h, w, 3) uint8."""
    return np.median(np.stack([redness(p) for p in pictures]), axis=0).astype(np.float32)


def redness(picture: np.ndarray) -> np.ndarray:
    """(h, w) float32 red light beyond green and blue, in linear light."""
    linear = LINEAR[picture]
    return linear[..., 0] - 0.5 * (linear[..., 1] + linear[..., 2])


def line_places(picture: np.ndarray, without: np.ndarray) -> np.ndarray:
    """(n, 2) u, v of the line in a picture: one place for each column at the most, u whole.

    The line runs over both walls, so it lies more across than upright. The centre of gravity about each column's brightest
    pixel (Fisher & Naidu 1996 compare such estimators); `without` (h, w) is what `ambient` says.
    """
    light = np.maximum(redness(picture) - without, 0)
    h, w = light.shape
    peak = light.argmax(axis=0)
    height = light[peak, np.arange(w)]
    bright = height > max(LEAST_LIGHT, LEAST_SHARE * float(height.max()))
    columns = np.flatnonzero(bright & (peak >= HALF_PX) & (peak < h - HALF_PX))
    if not len(columns):
        return np.empty((0, 2))
    rows = peak[columns, None] + np.arange(-HALF_PX, HALF_PX + 1)
    part = light[rows, columns[:, None]]
    part = np.maximum(part - 0.1 * part.max(axis=1, keepdims=True), 0)
    total = part.sum(axis=1)
    v = (part * rows).sum(axis=1) / total
    scatter = np.sqrt((part * (rows - v[:, None]) ** 2).sum(axis=1) / total)
    good = scatter < WIDEST_PX / 2
    return np.stack([columns, v], axis=1)[good]
