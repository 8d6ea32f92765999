"""Compiled loops of alignment: projective point-to-plane terms, free-space votes, FPFH."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project

ANGLE_BINS = 11


@njit(cache=True, fastmath=True)
def pair_terms(
    points, normals, weights, T_camera_object, cam, rays, fitted, map_normals, confidence, stride,
    max_dist, scale, min_cos, centre, hessian, gradient,
):  # fmt: skip
    """Accumulate the 6×6 point-to-plane terms of object-frame points against one frame's map.

    The unknown is a left perturbation (rotation about `centre`, translation). Returns the number of
    correspondences, their robust weight and the weighted sum of squared residuals.
    """
    height, width = fitted.shape
    R = T_camera_object
    count = 0
    total_weight = 0.0
    squares = 0.0
    jacobian = np.empty(6)
    for i in range(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
        py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
        pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
        if pz <= 1.0:
            continue
        u, v = project(cam, px, py, pz)
        uu = int(u / stride + 0.5)
        vv = int(v / stride + 0.5)
        if u < 0 or v < 0 or uu >= width or vv >= height:
            continue
        c = confidence[vv, uu]
        if c <= 0.0:
            continue
        zq = fitted[vv, uu]
        dx = px - rays[vv, uu, 0] * zq
        dy = py - rays[vv, uu, 1] * zq
        dz = pz - zq
        if dx * dx + dy * dy + dz * dz > max_dist * max_dist:
            continue
        a, b, d = map_normals[vv, uu, 0], map_normals[vv, uu, 1], map_normals[vv, uu, 2]
        nx = R[0, 0] * a + R[1, 0] * b + R[2, 0] * d
        ny = R[0, 1] * a + R[1, 1] * b + R[2, 1] * d
        nz = R[0, 2] * a + R[1, 2] * b + R[2, 2] * d
        if nx * normals[i, 0] + ny * normals[i, 1] + nz * normals[i, 2] < min_cos:
            continue
        r = a * dx + b * dy + d * dz
        robust = scale * scale / (scale * scale + r * r)
        w = robust * robust * weights[i] * c
        qx, qy, qz = x - centre[0], y - centre[1], z - centre[2]
        jacobian[0] = qy * nz - qz * ny
        jacobian[1] = qz * nx - qx * nz
        jacobian[2] = qx * ny - qy * nx
        jacobian[3] = nx
        jacobian[4] = ny
        jacobian[5] = nz
        for m in range(6):
            gradient[m] += w * jacobian[m] * r
            for n in range(m, 6):
                hessian[m, n] += w * jacobian[m] * jacobian[n]
        count += 1
        total_weight += w
        squares += w * r * r
    return count, total_weight, squares


@njit(cache=True)
def _angle_bin(value, low, high):
    b = int((value - low) / (high - low) * ANGLE_BINS)
    return min(max(b, 0), ANGLE_BINS - 1)


@njit(parallel=True, cache=True)
def spfh(points, normals, neighbours, distances, radius, out):
    """Simplified point feature histograms (n, 33) of Rusu et al. (2009)."""
    n, k = neighbours.shape
    for i in prange(n):
        used = 0
        for m in range(k):
            j = neighbours[i, m]
            if j >= n or j == i or distances[i, m] > radius:
                continue
            d = points[j] - points[i]
            length = np.sqrt(d[0] * d[0] + d[1] * d[1] + d[2] * d[2])
            if length < 1e-9:
                continue
            d = d / length
            u = normals[i]
            w0 = d[1] * u[2] - d[2] * u[1]
            w1 = d[2] * u[0] - d[0] * u[2]
            w2 = d[0] * u[1] - d[1] * u[0]
            wl = np.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
            if wl < 1e-9:
                continue
            w0, w1, w2 = w0 / wl, w1 / wl, w2 / wl
            nj = normals[j]
            alpha = w0 * nj[0] + w1 * nj[1] + w2 * nj[2]
            phi = u[0] * d[0] + u[1] * d[1] + u[2] * d[2]
            v0 = w1 * u[2] - w2 * u[1]
            v1 = w2 * u[0] - w0 * u[2]
            v2 = w0 * u[1] - w1 * u[0]
            theta = np.arctan2(v0 * nj[0] + v1 * nj[1] + v2 * nj[2], u[0] * nj[0] + u[1] * nj[1] + u[2] * nj[2])
            out[i, _angle_bin(alpha, -1.0, 1.0)] += 1.0
            out[i, ANGLE_BINS + _angle_bin(phi, -1.0, 1.0)] += 1.0
            out[i, 2 * ANGLE_BINS + _angle_bin(theta, -np.pi, np.pi)] += 1.0
            used += 1
        if used:
            for b in range(3 * ANGLE_BINS):
                out[i, b] /= used


@njit(parallel=True, cache=True)
def fpfh(simple, neighbours, distances, radius, out):
    """Fast point feature histograms: each point's own plus its neighbours', weighted by nearness."""
    n, k = neighbours.shape
    for i in prange(n):
        total = 0.0
        for m in range(k):
            j = neighbours[i, m]
            if j >= n or j == i or distances[i, m] > radius:
                continue
            w = 1.0 / max(distances[i, m], 1e-6)
            total += w
            for b in range(simple.shape[1]):
                out[i, b] += w * simple[j, b]
        for b in range(simple.shape[1]):
            out[i, b] = simple[i, b] + (out[i, b] / total if total > 0 else 0.0)
