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


@njit(cache=True, parallel=True)
def projected(points, pose, f, cx, cy, pixels, depth):
    """Pixels (n, 2) and depths (n,) of points (n, 3) in a view; NaN for what lies behind the eye."""
    for n in prange(len(points)):
        p = points[n]
        z = pose[2, 0] * p[0] + pose[2, 1] * p[1] + pose[2, 2] * p[2] + pose[2, 3]
        depth[n] = z
        if z <= 1e-9:
            pixels[n] = np.nan
            continue
        pixels[n, 0] = (pose[0, 0] * p[0] + pose[0, 1] * p[1] + pose[0, 2] * p[2] + pose[0, 3]) / z * f + cx
        pixels[n, 1] = (pose[1, 0] * p[0] + pose[1, 1] * p[1] + pose[1, 2] * p[2] + pose[1, 3]) / z * f + cy


@njit(cache=True, parallel=True)
def take_out_hidden(points, normals, eye, pixels, depth, buffer, f, margin, least_cos, inside):
    """Of the points (n, 3) that are inside, leave those that face the eye and lie no farther behind a buffer (h, w) than a margin.

    What a pixel's own slant explains comes on top of the margin; points outside the buffer are not seen.
    """
    h, w = buffer.shape
    for n in prange(len(points)):
        if not inside[n]:
            continue
        inside[n] = False
        x, y = int(np.round(pixels[n, 0])), int(np.round(pixels[n, 1]))
        if x < 0 or y < 0 or x >= w or y >= h or not depth[n] > 0:
            continue
        along, away = 0.0, 0.0
        for k in range(3):
            to_eye = eye[k] - points[n, k]
            along += to_eye * normals[n, k]
            away += to_eye * to_eye
        cosine = along / max(np.sqrt(away), 1e-9)
        if cosine <= 0.0:
            continue
        cosine = min(max(cosine, least_cos), 1.0)
        slant = depth[n] / f * np.sqrt(1.0 - cosine * cosine) / cosine
        inside[n] = depth[n] <= buffer[y, x] + margin + slant


@njit(cache=True, parallel=True)
def disc_depths(points, normals, pose, radius, f, cx, cy, buffers):
    """Least depth per pixel of discs about points (n, 3) across their normals (n, 3); a buffer (h, w) for every share."""
    shares = len(buffers)
    for k in prange(shares):
        first, last = k * len(points) // shares, (k + 1) * len(points) // shares
        _discs(points[first:last], normals[first:last], pose, radius, f, cx, cy, buffers[k])


@njit(cache=True)
def _discs(points, normals, pose, radius, f, cx, cy, buffer):
    h, w = buffer.shape
    for n in range(len(points)):
        p, m = points[n], normals[n]
        z = pose[2, 0] * p[0] + pose[2, 1] * p[1] + pose[2, 2] * p[2] + pose[2, 3]
        if z <= 1e-9:
            continue
        x = pose[0, 0] * p[0] + pose[0, 1] * p[1] + pose[0, 2] * p[2] + pose[0, 3]
        y = pose[1, 0] * p[0] + pose[1, 1] * p[1] + pose[1, 2] * p[2] + pose[1, 3]
        a = pose[0, 0] * m[0] + pose[0, 1] * m[1] + pose[0, 2] * m[2]
        b = pose[1, 0] * m[0] + pose[1, 1] * m[1] + pose[1, 2] * m[2]
        c = pose[2, 0] * m[0] + pose[2, 1] * m[1] + pose[2, 2] * m[2]
        u, v, r = x / z * f + cx, y / z * f + cy, max(radius * f / z, 0.5)
        level = a * x + b * y + c * z
        for row in range(max(int(np.ceil(v - r)), 0), min(int(np.floor(v + r)), h - 1) + 1):
            for column in range(max(int(np.ceil(u - r)), 0), min(int(np.floor(u + r)), w - 1) + 1):
                along, down = (column - cx) / f, (row - cy) / f
                slope = a * along + b * down + c
                deep = level / slope if abs(slope) > 1e-6 else z
                away = (along * deep - x) ** 2 + (down * deep - y) ** 2 + (deep - z) ** 2
                if away > radius * radius:
                    if r > 1.0 or abs(slope) <= 1e-6:
                        continue
                    deep = z
                buffer[row, column] = min(buffer[row, column], deep)
