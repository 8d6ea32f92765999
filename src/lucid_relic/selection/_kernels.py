"""Compiled loops of selection."""

import numpy as np
from numba import njit, prange


@njit(cache=True, parallel=True)
def inside_polygon(places, corners, inside):
    """Whether places (n, 2) lie inside a closed polygon (k, 2), by the even-odd rule."""
    low_x, high_x = corners[:, 0].min(), corners[:, 0].max()
    low_y, high_y = corners[:, 1].min(), corners[:, 1].max()
    k = len(corners)
    for n in prange(len(places)):
        x, y = places[n, 0], places[n, 1]
        if not (low_x <= x <= high_x and low_y <= y <= high_y):
            continue
        odd = False
        j = k - 1
        for i in range(k):
            if (corners[i, 1] > y) != (corners[j, 1] > y):
                share = (y - corners[i, 1]) / (corners[j, 1] - corners[i, 1])
                if x < corners[i, 0] + share * (corners[j, 0] - corners[i, 0]):
                    odd = not odd
            j = i
        inside[n] = odd


@njit(cache=True, parallel=True)
def near_path(places, corners, radius, inside):
    """Whether places (n, d) lie within a radius of a path through corners (k, d)."""
    low, high = np.empty(places.shape[1]), np.empty(places.shape[1])
    for a in range(places.shape[1]):
        low[a], high[a] = corners[:, a].min() - radius, corners[:, a].max() + radius
    limit = radius * radius
    for n in prange(len(places)):
        out = False
        for a in range(places.shape[1]):
            if not low[a] <= places[n, a] <= high[a]:
                out = True
        if out:
            continue
        if len(corners) == 1:
            inside[n] = _away_sq(places[n], corners[0], corners[0]) <= limit
        for i in range(len(corners) - 1):
            if _away_sq(places[n], corners[i], corners[i + 1]) <= limit:
                inside[n] = True
                break


@njit(cache=True)
def _away_sq(p, a, b):
    """Squared distance of a place to a stretch of a line."""
    along, length = 0.0, 0.0
    for k in range(len(p)):
        along += (p[k] - a[k]) * (b[k] - a[k])
        length += (b[k] - a[k]) ** 2
    share = 0.0 if length == 0.0 else min(max(along / length, 0.0), 1.0)
    away = 0.0
    for k in range(len(p)):
        away += (p[k] - a[k] - share * (b[k] - a[k])) ** 2
    return away


@njit(cache=True)
def nearest_depths(pixels, depth, radius, buffer):
    """Least depth per pixel of a buffer (h, w), every point covering the pixels within `radius` of it."""
    h, w = buffer.shape
    for n in range(len(pixels)):
        if not depth[n] > 0:
            continue
        u, v, r = pixels[n, 0], pixels[n, 1], radius[n]
        for y in range(max(int(np.ceil(v - r)), 0), min(int(np.floor(v + r)), h - 1) + 1):
            for x in range(max(int(np.ceil(u - r)), 0), min(int(np.floor(u + r)), w - 1) + 1):
                buffer[y, x] = min(buffer[y, x], depth[n])
