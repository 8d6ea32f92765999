"""The sRGB transfer function of IEC 61966-2-1."""

import numpy as np

DARKEST = 0.02  # of white: darker light says nothing on a logarithmic scale


def to_linear(encoded: np.ndarray) -> np.ndarray:
    """Linear light 0-1 (float32) of sRGB values given as uint8 or as floats 0-1."""
    c = encoded.astype(np.float32) / 255 if encoded.dtype == np.uint8 else encoded.astype(np.float32)
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4).astype(np.float32)


def to_srgb(linear: np.ndarray) -> np.ndarray:
    """uint8 sRGB of linear light; values outside 0-1 are clipped."""
    c = np.clip(linear, 0, 1)
    encoded = np.where(c <= 0.0031308, 12.92 * c, 1.055 * np.maximum(c, 1e-12) ** (1 / 2.4) - 0.055)
    return np.round(encoded * 255).astype(np.uint8)


def log_light(encoded: np.ndarray) -> np.ndarray:
    """Natural logarithm of the linear light of sRGB values (float32): a change of exposure is a constant added to it."""
    return np.log(np.maximum(to_linear(encoded), DARKEST))


LINEAR = to_linear(np.arange(256, dtype=np.uint8))  # linear light of every sRGB byte
