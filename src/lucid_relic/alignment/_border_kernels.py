"""Compiled loop of alignment: borders of faces laid onto those that another frame sees."""

import numpy as np
from numba import njit

from lucid_relic.alignment._kernels import _add_normal, _set_jacobian
from lucid_relic.geometry._kernels import project

LEAST_ALIKE = 0.9  # cosine of what lies across two borders, and of their faces: others are not the same border


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def border_terms(
    points, across, normals, T_camera_object, cam, nearest, their_points, their_across, their_normals, stride, max_dist,
    scale, weight, centre, hessian, gradient,
):  # fmt: skip
    """Accumulate the 6×6 terms of object-frame border points (n, 3) against those (m, 3) that a camera sees.

    across (n, 3) and (m, 3) are unit vectors in the faces, square to their borders: only along them is a border told.
    nearest (h, w) is which of the camera's borders lies nearest to a pixel of its thinned image, -1 none. weight
    (1/mm²) is that of one point. The unknown is a left perturbation (rotation about `centre`, translation).
    """
    height, width = nearest.shape
    R = T_camera_object
    jacobian, d, a, n = np.empty(6), np.empty(3), np.empty(3), np.empty(3)
    for i in range(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
        py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
        pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
        if pz <= 1.0:
            continue
        u, v = project(cam, px, py, pz)
        uu, vv = int(u / stride + 0.5), int(v / stride + 0.5)
        if u < 0 or v < 0 or uu >= width or vv >= height:
            continue
        k = nearest[vv, uu]
        if k < 0:
            continue
        d[0], d[1], d[2] = px - their_points[k, 0], py - their_points[k, 1], pz - their_points[k, 2]
        if d[0] * d[0] + d[1] * d[1] + d[2] * d[2] > max_dist * max_dist:
            continue
        same, faces = 0.0, 0.0
        for m in range(3):
            a[m] = R[m, 0] * across[i, 0] + R[m, 1] * across[i, 1] + R[m, 2] * across[i, 2]
            n[m] = R[m, 0] * normals[i, 0] + R[m, 1] * normals[i, 1] + R[m, 2] * normals[i, 2]
            same += a[m] * their_across[k, m]
            faces += n[m] * their_normals[k, m]
            a[m] += their_across[k, m]
        if same < LEAST_ALIKE or faces < LEAST_ALIKE:
            continue
        size = np.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2])
        r = (a[0] * d[0] + a[1] * d[1] + a[2] * d[2]) / size
        robust = scale * scale / (scale * scale + r * r)
        gx = (R[0, 0] * a[0] + R[1, 0] * a[1] + R[2, 0] * a[2]) / size
        gy = (R[0, 1] * a[0] + R[1, 1] * a[1] + R[2, 1] * a[2]) / size
        gz = (R[0, 2] * a[0] + R[1, 2] * a[1] + R[2, 2] * a[2]) / size
        _set_jacobian(jacobian, x - centre[0], y - centre[1], z - centre[2], gx, gy, gz)
        _add_normal(hessian, gradient, jacobian, weight * robust * robust, r)
