"""Relief and colour patterns: lettering, grain, smooth noise."""

from functools import lru_cache

import numpy as np
from PIL import Image, ImageDraw, ImageFilter, ImageFont
from scipy.ndimage import map_coordinates

PIXELS_PER_MM = 8.0  # of drawn letters: finer than the models are made


@lru_cache(maxsize=32)
def lettering(text: str, height_mm: float) -> np.ndarray:
    """(h, w) float32 0-1 picture of a line of text, `PIXELS_PER_MM` fine, softened at its edges."""
    size = int(height_mm * PIXELS_PER_MM)
    font = ImageFont.load_default(size)
    left, top, right, bottom = font.getbbox(text)
    pad = size // 4
    image = Image.new("L", (right - left + 2 * pad, bottom - top + 2 * pad), 0)
    ImageDraw.Draw(image).text((pad - left, pad - top), text, fill=255, font=font)
    return np.asarray(image.filter(ImageFilter.GaussianBlur(1.2)), np.float32) / 255


def stamp_at(picture: np.ndarray, across: np.ndarray, up: np.ndarray) -> np.ndarray:
    """Values (n,) of a centred picture at places across/up (mm); 0 outside."""
    h, w = picture.shape
    rows = (h - 1) / 2 - up * PIXELS_PER_MM
    columns = (w - 1) / 2 + across * PIXELS_PER_MM
    return map_coordinates(picture, [rows, columns], order=1, mode="constant", cval=0.0)


@lru_cache(maxsize=16)
def _lattice(seed: int) -> np.ndarray:
    return np.random.default_rng(seed).random((32, 32, 32)).astype(np.float32)


def noise(p: np.ndarray, scale_mm: float, seed: int, octaves: int = 3) -> np.ndarray:
    """(n,) smooth noise 0-1 whose largest lumps are `scale_mm` wide."""
    total, weight = np.zeros(len(p), np.float32), 0.0
    for octave in range(octaves):
        q = (p.T * (2**octave / scale_mm)).astype(np.float32)
        total += map_coordinates(_lattice(seed + octave), q, order=1, mode="grid-wrap") / 2**octave
        weight += 1 / 2**octave
    return total / weight


def mixed(a: tuple[float, float, float], b: tuple[float, float, float], share: np.ndarray) -> np.ndarray:
    """(n, 3) float32 colours between two linear-light colours."""
    s = np.clip(share, 0, 1)[:, None]
    return (np.float32(a) * (1 - s) + np.float32(b) * s).astype(np.float32)
