"""Compiled loops of alignment: point-to-plane terms, matches and the motions they agree on, FPFH."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import nearest_in_cells, project

ANGLE_BINS = 11  # of each of the three angles, as in the paper of FPFH
NO_LIGHT = -1e6  # less than any light: nothing is known of it
LEAST_FACING = 0.3  # cosine: frames that see a place from flatter say nothing about it
LIGHT_SCALE = 0.15  # natural logarithm at which a difference of light counts for a quarter


@njit(cache=True, fastmath=True, inline="always")
def _set_jacobian(jacobian, qx, qy, qz, dx, dy, dz):
    """The derivative of a residual by a left perturbation, when its gradient at q (from the centre) is d."""
    jacobian[0] = qy * dz - qz * dy
    jacobian[1] = qz * dx - qx * dz
    jacobian[2] = qx * dy - qy * dx
    jacobian[3] = dx
    jacobian[4] = dy
    jacobian[5] = dz


@njit(cache=True, fastmath=True, inline="always")
def _add_normal(hessian, gradient, jacobian, w, r):
    """Add the terms of one residual r of weight w to the upper triangle of the normal equations."""
    for m in range(6):
        gradient[m] += w * jacobian[m] * r
        for n in range(m, 6):
            hessian[m, n] += w * jacobian[m] * jacobian[n]


@njit(cache=True, fastmath=True, nogil=True)
def pair_terms(
    points, normals, weights, light, T_camera_object, cam, rays, fitted, map_normals, confidence, map_light, stride,
    max_dist, scale, min_cos, centre, light_weight, hessian, gradient,
):  # fmt: skip
    """Accumulate the 6×6 terms of object-frame points against one frame's map, along the mean of both normals.

    The unknown is a left perturbation (rotation about `centre`, translation). Where light_weight (mm² per squared
    unit of light) is over 0, the difference between the points' light and the map's (h, w, 3: light and its steps
    to the right and down) joins in. Returns the number of correspondences, their robust weight and the weighted
    sum of squared residuals of the shape.
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
        # The mean of both normals: the plane of one alone errs by the bend of the surface between the two places
        # (symmetric objective, Rusinkiewicz 2019, doi:10.1145/3306346.3323037).
        nx, ny, nz = nx + normals[i, 0], ny + normals[i, 1], nz + normals[i, 2]
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        nx, ny, nz = nx / size, ny / size, nz / size
        r = nx * (R[0, 0] * dx + R[1, 0] * dy + R[2, 0] * dz)
        r += ny * (R[0, 1] * dx + R[1, 1] * dy + R[2, 1] * dz)
        r += nz * (R[0, 2] * dx + R[1, 2] * dy + R[2, 2] * dz)
        robust = scale * scale / (scale * scale + r * r)
        w = robust * robust * weights[i] * c
        qx, qy, qz = x - centre[0], y - centre[1], z - centre[2]
        _set_jacobian(jacobian, qx, qy, qz, nx, ny, nz)
        _add_normal(hessian, gradient, jacobian, w, r)
        count += 1
        total_weight += w
        squares += w * r * r
        if light_weight > 0.0 and map_light[vv, uu, 0] > NO_LIGHT and light[i] > NO_LIGHT:
            su, sv = map_light[vv, uu, 1], map_light[vv, uu, 2]
            r = map_light[vv, uu, 0] + su * (u / stride - uu) + sv * (v / stride - vv) - light[i]
            robust = LIGHT_SCALE * LIGHT_SCALE / (LIGHT_SCALE * LIGHT_SCALE + r * r)
            w = light_weight * robust * robust * weights[i] * c
            # The step of light per mm, in the camera's frame, then in the object's.
            a, b = su * cam[0] / (stride * pz), sv * cam[1] / (stride * pz)
            d = -(a * px + b * py) / pz
            gx = R[0, 0] * a + R[1, 0] * b + R[2, 0] * d
            gy = R[0, 1] * a + R[1, 1] * b + R[2, 1] * d
            gz = R[0, 2] * a + R[1, 2] * b + R[2, 2] * d
            _set_jacobian(jacobian, qx, qy, qz, gx, gy, gz)
            _add_normal(hessian, gradient, jacobian, w, r)
    return count, total_weight, squares


@njit(cache=True, fastmath=True, error_model="numpy", inline="always")
def _partner(i, points, normals, motion, max_dist, grid_points, low, cell, table, start, end, grid_normals):
    """Nearest grid point of moved point i (-1: none), where the point is moved to, and the cosine of the normals."""
    a, b, c = points[i, 0], points[i, 1], points[i, 2]
    x = motion[0, 0] * a + motion[0, 1] * b + motion[0, 2] * c + motion[0, 3]
    y = motion[1, 0] * a + motion[1, 1] * b + motion[1, 2] * c + motion[1, 3]
    z = motion[2, 0] * a + motion[2, 1] * b + motion[2, 2] * c + motion[2, 3]
    near = nearest_in_cells(x, y, z, max_dist, grid_points, low, cell, table, start, end)
    cos = -1.0
    if near >= 0:
        a, b, c = normals[i, 0], normals[i, 1], normals[i, 2]
        cos = (
            grid_normals[near, 0] * (motion[0, 0] * a + motion[0, 1] * b + motion[0, 2] * c)
            + grid_normals[near, 1] * (motion[1, 0] * a + motion[1, 1] * b + motion[1, 2] * c)
            + grid_normals[near, 2] * (motion[2, 0] * a + motion[2, 1] * b + motion[2, 2] * c)
        )
    return near, x, y, z, cos


@njit(cache=True, fastmath=True, error_model="numpy", inline="always")
def _add_row(sums, part, jacobian, qx, qy, qz, dx, dy, dz, w, r):
    """Add the terms of one residual r of weight w whose gradient at q (from the centre) is d."""
    _set_jacobian(jacobian, qx, qy, qz, dx, dy, dz)
    at = 0
    for p in range(6):
        for q in range(p, 6):
            sums[part, at] += w * jacobian[p] * jacobian[q]
            at += 1
    for p in range(6):
        sums[part, 21 + p] += w * jacobian[p] * r


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def plane_terms(
    points, normals, motion, grid_points, low, cell, table, start, end, grid_normals, max_dist, min_cos, scale, centre,
    block, sums,
):  # fmt: skip
    """Point-to-plane terms of moved points against their nearest in a grid, summed by blocks.

    A row of sums (·, 30) holds the upper triangle of JᵀwJ (21), Jᵀwr (6), the number of partners, Σw and Σwr².
    """
    n = len(points)
    for part in prange(len(sums)):
        jacobian = np.empty(6)
        for i in range(part * block, min(part * block + block, n)):
            near, x, y, z, cos = _partner(
                i, points, normals, motion, max_dist, grid_points, low, cell, table, start, end, grid_normals
            )
            if near < 0 or cos <= min_cos:
                continue
            nx, ny, nz = grid_normals[near, 0], grid_normals[near, 1], grid_normals[near, 2]
            r = nx * (x - grid_points[near, 0]) + ny * (y - grid_points[near, 1]) + nz * (z - grid_points[near, 2])
            robust = scale * scale / (scale * scale + r * r)
            w = robust * robust
            _add_row(sums, part, jacobian, x - centre[0], y - centre[1], z - centre[2], nx, ny, nz, w, r)
            sums[part, 27] += 1.0
            sums[part, 28] += w
            sums[part, 29] += w * r * r


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def light_gradients(points, normals, light, begin, index, distance, out):
    """Gradient (n, 3) per mm of the light over the surface, in each point's tangent plane, from its neighbours."""
    for i in prange(len(points)):
        nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
        # Two directions across the normal.
        ax, ay, az = (0.0, nz, -ny) if abs(nx) < 0.7 else (-nz, 0.0, nx)
        size = np.sqrt(ax * ax + ay * ay + az * az)
        ax, ay, az = ax / size, ay / size, az / size
        bx, by, bz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
        uu, uv, vv, ur, vr = 0.0, 0.0, 0.0, 0.0, 0.0
        for m in range(begin[i], begin[i + 1]):
            j = index[m]
            dx, dy, dz = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
            u, v = ax * dx + ay * dy + az * dz, bx * dx + by * dy + bz * dz
            r = light[j] - light[i]
            uu += u * u
            uv += u * v
            vv += v * v
            ur += u * r
            vr += v * r
        det = uu * vv - uv * uv
        if det > 1e-6 * (uu + vv) * (uu + vv):
            u, v = (vv * ur - uv * vr) / det, (uu * vr - uv * ur) / det
            out[i, 0], out[i, 1], out[i, 2] = u * ax + v * bx, u * ay + v * by, u * az + v * bz


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def light_terms(
    points, normals, light, motion, grid_points, low, cell, table, start, end, grid_normals, grid_light, gradient,
    max_dist, min_cos, offset, factor, centre, block, sums,
):  # fmt: skip
    """Terms of the light's difference between moved points and their nearest in a grid, laid out as `plane_terms`.

    gradient (n, 3) is that of grid_light; offset is taken off the moved points' light; factor weighs the terms.
    """
    n = len(points)
    for part in prange(len(sums)):
        jacobian = np.empty(6)
        for i in range(part * block, min(part * block + block, n)):
            near, x, y, z, cos = _partner(
                i, points, normals, motion, max_dist, grid_points, low, cell, table, start, end, grid_normals
            )
            if near < 0 or cos <= min_cos:
                continue
            gx, gy, gz = gradient[near, 0], gradient[near, 1], gradient[near, 2]
            r = grid_light[near] - light[i] + offset
            r += gx * (x - grid_points[near, 0]) + gy * (y - grid_points[near, 1]) + gz * (z - grid_points[near, 2])
            robust = LIGHT_SCALE * LIGHT_SCALE / (LIGHT_SCALE * LIGHT_SCALE + r * r)
            w = factor * robust * robust
            _add_row(sums, part, jacobian, x - centre[0], y - centre[1], z - centre[2], gx, gy, gz, w, r)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def plane_gaps(
    points, normals, motion, grid_points, low, cell, table, start, end, grid_normals, max_dist, away, cosine, index
):  # fmt: skip
    """Distance of moved points to the plane of their nearest in a grid, cosine of the normals, and which it is."""
    for i in prange(len(points)):
        near, x, y, z, cos = _partner(
            i, points, normals, motion, max_dist, grid_points, low, cell, table, start, end, grid_normals
        )
        if near < 0:
            continue
        nx, ny, nz = grid_normals[near, 0], grid_normals[near, 1], grid_normals[near, 2]
        cosine[i] = cos
        away[i] = abs(
            nx * (x - grid_points[near, 0]) + ny * (y - grid_points[near, 1]) + nz * (z - grid_points[near, 2])
        )
        index[i] = near


@njit(cache=True, inline="always")
def _keep_three(best, which, row, value, candidate):
    """Enter a candidate among the three least of a row."""
    if value < best[row, 2]:
        slot = 2
        while slot > 0 and value < best[row, slot - 1]:
            best[row, slot], which[row, slot] = best[row, slot - 1], which[row, slot - 1]
            slot -= 1
        best[row, slot], which[row, slot] = value, candidate


@njit(parallel=True, cache=True, error_model="numpy")
def three_nearest(products, first, fixed_sq, moving_sq, fixed_best, fixed_which, moving_best, moving_which):
    """Renew the three nearest of rows first… and of all columns from their products (r, m) with each other."""
    rows, columns = products.shape
    for i in prange(rows):
        limit = fixed_best[first + i, 2]
        for j in range(columns):
            value = fixed_sq[first + i] + moving_sq[j] - np.float32(2.0) * products[i, j]
            if value < limit:
                _keep_three(fixed_best, fixed_which, first + i, value, j)
                limit = fixed_best[first + i, 2]
    for part in prange((columns + 255) // 256):
        for i in range(rows):
            for j in range(part * 256, min(part * 256 + 256, columns)):
                value = fixed_sq[first + i] + moving_sq[j] - np.float32(2.0) * products[i, j]
                _keep_three(moving_best, moving_which, j, value, first + i)


@njit(cache=True, fastmath=True, error_model="numpy")
def _lengths_off(ax, ay, az, bx, by, bz, i, least, off):
    """By how much (mm) match i and every later match fail to keep their distance; inf where they are closer than `least`."""
    x, y, z, p, q, r = ax[i], ay[i], az[i], bx[i], by[i], bz[i]
    for j in range(i + 1, len(ax)):
        one = np.sqrt((ax[j] - x) * (ax[j] - x) + (ay[j] - y) * (ay[j] - y) + (az[j] - z) * (az[j] - z))
        two = np.sqrt((bx[j] - p) * (bx[j] - p) + (by[j] - q) * (by[j] - q) + (bz[j] - r) * (bz[j] - r))
        off[j] = abs(one - two) if one > least else np.float32(1e30)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def agreeing_pairs(ax, ay, az, bx, by, bz, na, nb, slack, least, min_cos, agree):
    """agree (k, k) uint8: whether two matches keep their distance (and are not too close) and their normals' angle.

    ax … bz (k,) float32 are the coordinates of the matched points a and b.
    """
    k = len(ax)
    for half in prange((k + 1) // 2):
        off = np.empty(k, np.float32)
        # Rows from both ends together, so that every turn of the loop has as much to do.
        for end in range(2):
            i = np.int64(half) if end == 0 else k - 1 - np.int64(half)
            _lengths_off(ax, ay, az, bx, by, bz, i, np.float32(least), off)
            for j in range(i + 1, k):
                if off[j] < slack:
                    c = na[i, 0] * na[j, 0] + na[i, 1] * na[j, 1] + na[i, 2] * na[j, 2]
                    d = nb[i, 0] * nb[j, 0] + nb[i, 1] * nb[j, 1] + nb[i, 2] * nb[j, 2]
                    # The cosine of the difference of the two angles.
                    if c * d + np.sqrt(max(1.0 - c * c, 0.0) * max(1.0 - d * d, 0.0)) > min_cos:
                        agree[i, j] = 1
                        agree[j, i] = 1


@njit(cache=True, inline="always")
def _ones(word):
    """The number of bits set in a uint64."""
    word = word - ((word >> np.uint64(1)) & np.uint64(0x5555555555555555))
    word = (word & np.uint64(0x3333333333333333)) + ((word >> np.uint64(2)) & np.uint64(0x3333333333333333))
    word = (word + (word >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return (word * np.uint64(0x0101010101010101)) >> np.uint64(56)


@njit(parallel=True, cache=True)
def common_friends(agree, words, second):
    """second (k, k) int32: for agreeing matches, with how many others both agree; words (k, w) uint64 pack `agree`."""
    k = len(agree)
    for half in prange((k + 1) // 2):
        for end in range(2):
            i = np.int64(half) if end == 0 else k - 1 - np.int64(half)
            for j in range(i + 1, k):
                if agree[i, j]:
                    total = np.uint64(0)
                    for w in range(words.shape[1]):
                        total += _ones(words[i, w] & words[j, w])
                    second[i, j] = total
                    second[j, i] = total


@njit(cache=True)
def _rigid_of(source, target, members, count, motion):
    """Least-squares motion (3, 4) of the first `count` members' pairs (Umeyama 1991, without scale)."""
    s, t = np.zeros(3), np.zeros(3)
    for m in range(count):
        for c in range(3):
            s[c] += source[members[m], c] / count
            t[c] += target[members[m], c] / count
    covariance = np.zeros((3, 3))
    for m in range(count):
        for c in range(3):
            for d in range(3):
                covariance[c, d] += (target[members[m], c] - t[c]) * (source[members[m], d] - s[d])
    u, _, vt = np.linalg.svd(covariance)
    if np.linalg.det(u) * np.linalg.det(vt) < 0:
        u[:, 2] *= -1.0
    turn = u @ vt
    for c in range(3):
        motion[c, 3] = t[c]
        for d in range(3):
            motion[c, d] = turn[c, d]
            motion[c, 3] -= turn[c, d] * s[d]


@njit(cache=True)
def _agreeing_with(motion, a, b, na, nb, near, min_cos, members):
    """Numbers of the matches that a motion fulfils into `members`; returns how many."""
    count = 0
    for i in range(len(a)):
        away, cos = 0.0, 0.0
        for c in range(3):
            p = motion[c, 0] * b[i, 0] + motion[c, 1] * b[i, 1] + motion[c, 2] * b[i, 2] + motion[c, 3] - a[i, c]
            away += p * p
            cos += na[i, c] * (motion[c, 0] * nb[i, 0] + motion[c, 1] * nb[i, 1] + motion[c, 2] * nb[i, 2])
        if away < near * near and cos > min_cos:
            members[count] = i
            count += 1
    return count


@njit(parallel=True, cache=True)
def seed_motions(seeds, second, most, rounds, a, b, na, nb, near, min_cos, motions, support):
    """A motion (s, 3, 4) from each seed's best friends, refined on all matches it fulfils, and how many those are."""
    for n in prange(len(seeds)):
        members = np.empty(len(a), np.int64)
        row = second[seeds[n]].copy()
        count = 0
        while count < most:
            best = np.argmax(row)
            if row[best] <= 0:
                break
            members[count] = best
            row[best] = 0
            count += 1
        if count < 3:
            continue
        _rigid_of(b, a, members, count, motions[n])
        for _ in range(rounds):
            count = _agreeing_with(motions[n], a, b, na, nb, near, min_cos, members)
            if count >= 3:
                _rigid_of(b, a, members, count, motions[n])
        support[n] = _agreeing_with(motions[n], a, b, na, nb, near, min_cos, members)


@njit(cache=True, error_model="numpy")
def _angle_bin(value, low, high):
    b = int((value - low) / (high - low) * ANGLE_BINS)
    return min(max(b, 0), ANGLE_BINS - 1)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def spfh(points, normals, begin, index, distance, radius, out):
    """Simplified point feature histograms (n, 33) of Rusu et al. (2009) over the neighbours within `radius`."""
    for i in prange(len(points)):
        used = 0
        ux, uy, uz = normals[i, 0], normals[i, 1], normals[i, 2]
        for m in range(begin[i], begin[i + 1]):
            j, length = index[m], distance[m]
            if j == i or length > radius or length < 1e-9:
                continue
            dx = (points[j, 0] - points[i, 0]) / length
            dy = (points[j, 1] - points[i, 1]) / length
            dz = (points[j, 2] - points[i, 2]) / length
            wx, wy, wz = dy * uz - dz * uy, dz * ux - dx * uz, dx * uy - dy * ux
            size = np.sqrt(wx * wx + wy * wy + wz * wz)
            if size < 1e-9:
                continue
            wx, wy, wz = wx / size, wy / size, wz / size
            nx, ny, nz = normals[j, 0], normals[j, 1], normals[j, 2]
            alpha = wx * nx + wy * ny + wz * nz
            phi = ux * dx + uy * dy + uz * dz
            vx, vy, vz = wy * uz - wz * uy, wz * ux - wx * uz, wx * uy - wy * ux
            theta = np.arctan2(vx * nx + vy * ny + vz * nz, ux * nx + uy * ny + uz * nz)
            out[i, _angle_bin(alpha, -1.0, 1.0)] += 1.0
            out[i, ANGLE_BINS + _angle_bin(phi, -1.0, 1.0)] += 1.0
            out[i, 2 * ANGLE_BINS + _angle_bin(theta, -np.pi, np.pi)] += 1.0
            used += 1
        if used:
            for b in range(3 * ANGLE_BINS):
                out[i, b] /= used


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def fpfh(simple, begin, index, distance, radius, out):
    """Fast point feature histograms: each point's own plus its neighbours', weighted by nearness."""
    for i in prange(len(simple)):
        total = 0.0
        for m in range(begin[i], begin[i + 1]):
            j = index[m]
            if j == i or distance[m] > radius:
                continue
            w = 1.0 / max(distance[m], 1e-6)
            total += w
            for b in range(simple.shape[1]):
                out[i, b] += w * simple[j, b]
        for b in range(simple.shape[1]):
            out[i, b] = simple[i, b] + (out[i, b] / total if total > 0 else 0.0)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def gazes(points, normals, poses, cam, depths, within, margin, agree, against):
    """Per point: in how many frames (poses (k, 4, 4) object → camera, depths (k, h, w)) it is measured, or looked through.

    Distances are taken along the point's normal; a frame looked through when all of a 3×3 window lies behind it by more
    than `margin`. Frames that the point faces away from say nothing.
    """
    count, height, width = depths.shape
    for i in prange(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
        for k in range(count):
            R = poses[k]
            pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
            if pz <= 1.0:
                continue
            px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
            py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
            u, v = project(cam, px, py, pz)
            uu, vv = int(u + 0.5), int(v + 0.5)
            if u < 1 or v < 1 or uu > width - 2 or vv > height - 2:
                continue
            a = R[0, 0] * nx + R[0, 1] * ny + R[0, 2] * nz
            b = R[1, 0] * nx + R[1, 1] * ny + R[1, 2] * nz
            c = R[2, 0] * nx + R[2, 1] * ny + R[2, 2] * nz
            # How far along the normal one goes for a mm along the axis.
            slope = -(a * px + b * py + c * pz) / pz
            if slope < LEAST_FACING:
                continue
            if abs(depths[k, vv, uu] - pz) * slope < within:
                agree[i] += 1
                continue
            near = np.inf
            for dv in range(-1, 2):
                for du in range(-1, 2):
                    near = min(near, depths[k, vv + dv, uu + du])
            if near > 0.0 and (near - pz) * slope > margin:
                against[i] += 1
