"""Several exposures of one view merged: dark places from the long ones, bright and glossy ones from the short ones.

Photographs are merged in linear light, each pixel weighted by how well it is exposed (Debevec & Malik 1997,
doi:10.1145/258734.258884, with a hat weight); depth is the mean of the measurements under the same weights, of those
that agree with the best exposed one.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.light.srgb import to_linear, to_srgb

CLIPPED, DARK = 250, 8  # sRGB bytes from which a photograph tells nothing more
LEAST_WEIGHT = 1e-3  # of a pixel that is badly exposed everywhere: the best of bad ones is taken
APART = 0.002  # share of the distance within which two exposures measured the same surface


@dataclass(frozen=True)
class Merged:
    """depth (h, w) float32 mm, colour (h, w, 3) uint8 sRGB as at the reference exposure, valid share (0-1) per exposure
    and merged."""

    depth: np.ndarray
    colour: np.ndarray
    valid: tuple[float, ...]
    valid_merged: float


def well_exposed(colour: np.ndarray) -> np.ndarray:
    """(h, w) float32 weight 0-1: highest in the middle of the range, least where clipped or dark."""
    brightest, darkest = colour.max(axis=2).astype(np.float32), colour.min(axis=2).astype(np.float32)
    hat = 1 - np.abs(colour.mean(axis=2, dtype=np.float32) / 127.5 - 1)
    hat[(brightest >= CLIPPED) | ((brightest <= DARK) & (darkest <= DARK))] = 0
    return np.maximum(hat, LEAST_WEIGHT)


def merge_exposures(depths: list[np.ndarray], colours: list[np.ndarray], exposures: tuple[float, ...]) -> Merged:
    """One frame of several (each (h, w) mm and (h, w, 3)), taken at `exposures` (any unit); the middle one is the reference."""
    stack = np.stack(depths)
    exposed = np.stack([well_exposed(c) for c in colours])
    weights = exposed * (stack > 0)
    best = np.take_along_axis(stack, weights.argmax(axis=0)[None], axis=0)[0]
    agree = weights * (np.abs(stack - best) < APART * np.maximum(best, 1.0))
    total = agree.sum(axis=0)
    depth = np.divide((agree * stack).sum(axis=0), total, out=np.zeros_like(best), where=total > 0)
    reference = sorted(exposures)[len(exposures) // 2]
    seen = exposed[..., None]
    linear = sum(w * to_linear(c) * (reference / e) for w, c, e in zip(seen, colours, exposures, strict=True))
    valid = tuple(float((d > 0).mean()) for d in depths)
    return Merged(depth.astype(np.float32), to_srgb(linear / seen.sum(axis=0)), valid, float((depth > 0).mean()))
