"""Positions in sixteen bits an axis."""

import numpy as np

LEVELS = 65535  # of sixteen bits


def quantised(points: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """u16 positions (n, 3), their origin (3,) and the step (mm): a 65 535th of the longest side."""
    low = points.min(axis=0).astype(np.float64)
    step = max(float((points.max(axis=0) - low).max()) / LEVELS, 1e-9)
    return np.round((points - low) / step).astype(np.uint16), low, step
