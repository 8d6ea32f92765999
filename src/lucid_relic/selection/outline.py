"""Which pixels lie within what was drawn: lasso, polygon, box, brush."""

import numpy as np

from lucid_relic.selection import _kernels
from lucid_relic.types import ScreenStroke


def within_outline(stroke: ScreenStroke, pixels: np.ndarray) -> np.ndarray:
    """(n,) bool for pixel coordinates (n, 2); NaN (behind the eye) lies nowhere.

    A lasso or polygon that crosses itself holds what its line winds around an odd number of times.
    """
    inside = np.zeros(len(pixels), np.bool_)
    corners = np.array(stroke.points, dtype=np.float64)
    places = np.ascontiguousarray(pixels, dtype=np.float64)
    if stroke.shape == "box":
        low, high = corners.min(axis=0), corners.max(axis=0)
        return np.asarray(((places >= low) & (places <= high)).all(axis=1))
    if stroke.shape == "brush":
        _kernels.near_path(places, corners, stroke.radius_px, inside)
    else:
        _kernels.inside_polygon(places, corners, inside)
    return inside
