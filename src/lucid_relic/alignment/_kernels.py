"""Compiled loops of alignment: point-to-plane terms, FPFH and its matches, what frames say of a fit."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import nearest_in_cells, project

ANGLE_BINS = 11  # of each of the three angles, as in the paper of FPFH
STRETCH = 64  # of a row of distances, looked at together
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


@njit(cache=True, fastmath=True, error_model="numpy", inline="always")
def _add_plane(sums, part, jacobian, x, y, z, points, normals, near, scale, centre):
    """Add the distance of a place to the plane of point `near`."""
    nx, ny, nz = normals[near, 0], normals[near, 1], normals[near, 2]
    r = nx * (x - points[near, 0]) + ny * (y - points[near, 1]) + nz * (z - points[near, 2])
    robust = scale * scale / (scale * scale + r * r)
    w = robust * robust
    _add_row(sums, part, jacobian, x - centre[0], y - centre[1], z - centre[2], nx, ny, nz, w, r)
    sums[part, 27] += 1.0
    sums[part, 28] += w
    sums[part, 29] += w * r * r


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
            if near >= 0 and cos > min_cos:
                _add_plane(sums, part, jacobian, x, y, z, grid_points, grid_normals, near, scale, centre)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def rough_plane_terms(
    points, normals, motion, fixed, fixed_normals, low, cell, nearest, max_dist, min_cos, scale, centre, block, sums
):
    """As `plane_terms`, against the point that a `NearestTable` of the fixed points names."""
    n, (wide, high, deep) = len(points), nearest.shape
    M = motion
    for part in prange(len(sums)):
        jacobian = np.empty(6)
        for i in range(part * block, min(part * block + block, n)):
            a, b, c = points[i, 0], points[i, 1], points[i, 2]
            x = M[0, 0] * a + M[0, 1] * b + M[0, 2] * c + M[0, 3]
            y = M[1, 0] * a + M[1, 1] * b + M[1, 2] * c + M[1, 3]
            z = M[2, 0] * a + M[2, 1] * b + M[2, 2] * c + M[2, 3]
            p, q, r = (x - low[0]) / cell, (y - low[1]) / cell, (z - low[2]) / cell
            if p < 0 or q < 0 or r < 0 or p >= wide or q >= high or r >= deep:
                continue
            near = nearest[int(p), int(q), int(r)]
            if near < 0:
                continue
            dx, dy, dz = x - fixed[near, 0], y - fixed[near, 1], z - fixed[near, 2]
            if dx * dx + dy * dy + dz * dz >= max_dist * max_dist:
                continue
            a, b, c = normals[i, 0], normals[i, 1], normals[i, 2]
            cos = (
                fixed_normals[near, 0] * (M[0, 0] * a + M[0, 1] * b + M[0, 2] * c)
                + fixed_normals[near, 1] * (M[1, 0] * a + M[1, 1] * b + M[1, 2] * c)
                + fixed_normals[near, 2] * (M[2, 0] * a + M[2, 1] * b + M[2, 2] * c)
            )
            if cos > min_cos:
                _add_plane(sums, part, jacobian, x, y, z, fixed, fixed_normals, near, scale, centre)


@njit(cache=True)
def move_by_terms(sums, damping, centre, motion, information, step):
    """Move `motion` (4, 4) by the answer of the normal equations that `plane_terms` summed in rows (p, 30).

    The information (6, 6) and the step (6,) are written; returns the number of partners, Σw and Σwr². Of fewer than
    six partners nothing is asked.
    """
    total = np.zeros(30)
    for part in range(len(sums)):
        total += sums[part]
    if total[27] < 6:
        return total[27], total[28], total[29]
    at = 0
    for p in range(6):
        for q in range(p, 6):
            information[p, q] = information[q, p] = total[at]
            at += 1
    step[:] = -np.linalg.solve(information + damping * np.trace(information) * np.eye(6), total[21:27])
    # The turn of a rotation vector (Rodrigues), about the centre.
    angle = np.sqrt(step[0] * step[0] + step[1] * step[1] + step[2] * step[2])
    one = np.sin(angle) / angle if angle > 1e-8 else 1.0
    half = np.sin(0.5 * angle) / angle if angle > 1e-8 else 0.5
    cross = np.zeros((3, 3))
    cross[0, 1], cross[0, 2], cross[1, 2] = -step[2], step[1], -step[0]
    cross -= cross.T.copy()
    turn = np.eye(3) + one * cross + 2.0 * half * half * (cross @ cross)
    motion[:3, :3] = turn @ np.ascontiguousarray(motion[:3, :3])
    motion[:3, 3] = turn @ (motion[:3, 3] - centre) + centre + step[3:]
    return total[27], total[28], total[29]


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


@njit(parallel=True, cache=True, fastmath={"contract"}, error_model="numpy")
def three_nearest(products, first, fixed_sq, moving_sq, limits, fixed_best, fixed_which, moving_best, moving_which):
    """Renew the three nearest of rows first… and of all columns from their products (r, m) with each other.

    Stretches that hold nothing nearer than what is kept are passed over whole. limits (m,) holds what the next of each
    column must be under, less the column's own square. Numbers without a sign let the compiler take many at a time.
    """
    rows, columns = products.shape
    two = np.float32(2.0)
    parts = (columns + STRETCH - 1) // STRETCH
    for i in prange(rows):
        row, own = np.uint64(i), fixed_sq[first + i]
        limit = fixed_best[first + i, 2] - own
        for part in range(parts):
            low, high = np.uint64(part * STRETCH), np.uint64(min(part * STRETCH + STRETCH, columns))
            nearer = np.int32(0)
            for j in range(low, high):
                nearer += np.int32(moving_sq[j] - two * products[row, j] < limit)
            if nearer:
                for j in range(low, high):
                    _keep_three(
                        fixed_best, fixed_which, first + i, own + (moving_sq[j] - two * products[row, j]), np.int64(j)
                    )
                limit = fixed_best[first + i, 2] - own
    for part in prange(parts):
        low, high = np.uint64(part * STRETCH), np.uint64(min(part * STRETCH + STRETCH, columns))
        for i in range(np.uint64(rows)):
            own = fixed_sq[first + np.int64(i)]
            nearer = np.int32(0)
            for j in range(low, high):
                nearer += np.int32(own - two * products[i, j] < limits[j])
            if nearer:
                for j in range(low, high):
                    if own - two * products[i, j] < limits[j]:
                        value = moving_sq[j] + (own - two * products[i, j])
                        _keep_three(moving_best, moving_which, np.int64(j), value, first + np.int64(i))
                        limits[j] = moving_best[np.int64(j), 2] - moving_sq[j]


@njit(cache=True, fastmath=True, error_model="numpy", inline="always")
def _bin_of(share):
    """The bin of a share (0-1) of an angle's range."""
    return min(max(int(share * np.float32(ANGLE_BINS)), 0), ANGLE_BINS - 1)


@njit(cache=True, fastmath=True, error_model="numpy", inline="always")
def _share_of_turn(y, x):
    """The angle of (x, y) as a share of a turn, from -π (0) to π (1), to 2·10⁻⁴ of a radian: bins are half a radian wide."""
    a, b = abs(x), abs(y)
    t = min(a, b) / max(max(a, b), np.float32(1e-20))
    s = t * t
    angle = ((np.float32(-0.0464964749) * s + np.float32(0.15931422)) * s - np.float32(0.327622764)) * s * t + t
    angle = np.float32(0.5 * np.pi) - angle if b > a else angle
    angle = np.float32(np.pi) - angle if x < 0 else angle
    angle = -angle if y < 0 else angle
    return angle * np.float32(0.5 / np.pi) + np.float32(0.5)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def spfh(points, normals, begin, index, distance, radii, out):
    """Simplified point feature histograms (r, n, 33) of Rusu et al. (2009) over the neighbours within each of `radii`."""
    n, half, least = len(points), np.float32(0.5), np.float32(1e-9)
    for i in prange(n):
        used = np.zeros(len(radii), np.float32)
        ux, uy, uz = normals[i, 0], normals[i, 1], normals[i, 2]
        for m in range(begin[i], begin[i + 1]):
            j, length = index[m], distance[m]
            if j == i or length < least:
                continue
            dx = (points[j, 0] - points[i, 0]) / length
            dy = (points[j, 1] - points[i, 1]) / length
            dz = (points[j, 2] - points[i, 2]) / length
            wx, wy, wz = dy * uz - dz * uy, dz * ux - dx * uz, dx * uy - dy * ux
            size = np.sqrt(wx * wx + wy * wy + wz * wz)
            if size < least:
                continue
            wx, wy, wz = wx / size, wy / size, wz / size
            nx, ny, nz = normals[j, 0], normals[j, 1], normals[j, 2]
            alpha = _bin_of((wx * nx + wy * ny + wz * nz) * half + half)
            phi = ANGLE_BINS + _bin_of((ux * dx + uy * dy + uz * dz) * half + half)
            vx, vy, vz = wy * uz - wz * uy, wz * ux - wx * uz, wx * uy - wy * ux
            theta = _share_of_turn(vx * nx + vy * ny + vz * nz, ux * nx + uy * ny + uz * nz)
            theta = 2 * ANGLE_BINS + _bin_of(theta)
            for r in range(len(radii)):
                if length <= radii[r]:
                    out[r, i, alpha] += np.float32(1.0)
                    out[r, i, phi] += np.float32(1.0)
                    out[r, i, theta] += np.float32(1.0)
                    used[r] += np.float32(1.0)
        for r in range(len(radii)):
            if used[r] > 0:
                for b in range(3 * ANGLE_BINS):
                    out[r, i, b] /= used[r]


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def fpfh(simple, begin, index, distance, radii, out):
    """Fast point feature histograms (n, r · 33): each point's own plus its neighbours', weighted by nearness, to a sum of one."""
    count, n, bins = simple.shape
    for i in prange(n):
        for r in range(count):
            total = np.float32(0.0)
            sums = np.zeros(bins, np.float32)
            for m in range(begin[i], begin[i + 1]):
                j = index[m]
                if j == i or distance[m] > radii[r]:
                    continue
                w = np.float32(1.0) / max(distance[m], np.float32(1e-6))
                total += w
                for b in range(bins):
                    sums[b] += w * simple[r, j, b]
            whole = np.float32(0.0)
            for b in range(bins):
                sums[b] = simple[r, i, b] + (sums[b] / total if total > 0 else np.float32(0.0))
                whole += sums[b]
            for b in range(bins):
                out[i, r * bins + b] = sums[b] / max(whole, np.float32(1e-9))


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def distances_after_turns(probes, turns, places, away, near, mean, share):
    """Mean (k,) of what a grid of distances (a, b, c) says of probes (n, 3) that are turned (k, 3, 3) and set to places (k, 3).

    All in cells of the grid; what leaves it is asked at its border. share (k,) is that of probes nearer than `near`.
    """
    a, b, c = away.shape
    n = len(probes)
    for k in prange(len(turns)):
        R, place = turns[k], places[k]
        total, close = np.float32(0.0), 0
        for i in range(n):
            x, y, z = probes[i, 0], probes[i, 1], probes[i, 2]
            p = int(R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + place[0])
            q = int(R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + place[1])
            r = int(R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + place[2])
            far = away[min(max(p, 0), a - 1), min(max(q, 0), b - 1), min(max(r, 0), c - 1)]
            total += far
            close += far < near
        mean[k], share[k] = total / n, close / n


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
