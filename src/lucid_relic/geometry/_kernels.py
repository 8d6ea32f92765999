"""Compiled loops of the geometry package."""

import numpy as np
from numba import njit, prange

TORN_SLOPE = 5.67  # tan 80°: two neighbours steeper than this against the ray are not one surface
RADIUS = 2  # of the window whose plane describes a pixel
LANES = 16  # pixels that are worked on side by side
FIT_SLOPE = 3.73  # tan 75°: pixels steeper than this do not take part in a window's plane


@njit(cache=True, inline="always")
def project(cam, x, y, z):
    """Pixel (u, v) of a camera-frame point; `cam` is `Camera.as_vector`."""
    return _distorted(
        x / z, y / z, cam[0], cam[1], cam[2], cam[3], cam[4], cam[5], cam[6], cam[7], cam[8]
    )  # fmt: skip


@njit(cache=True)
def project_by(table, k, first, x, y, z):
    """`project` by the camera that begins at column `first` of row k; a view of the row would be counted."""
    return _distorted(
        x / z, y / z, table[k, first], table[k, first + 1], table[k, first + 2], table[k, first + 3],
        table[k, first + 4], table[k, first + 5], table[k, first + 6], table[k, first + 7], table[k, first + 8],
    )  # fmt: skip


@njit(cache=True, inline="always")
def _distorted(a, b, fx, fy, cx, cy, k1, k2, p1, p2, k3):
    r2 = a * a + b * b
    radial = 1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))
    ad = a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a * a)
    bd = b * radial + p1 * (r2 + 2 * b * b) + 2 * p2 * a * b
    return ad * fx + cx, bd * fy + cy


@njit(cache=True, error_model="numpy")
def _solve3(a, b, c, d, e, f, r0, r1, r2):
    """Solve the symmetric 3×3 system (a b c; b d e; c e f) = (r0 r1 r2); returns (x, y, z, ok)."""
    c00 = d * f - e * e
    c01 = c * e - b * f
    c02 = b * e - c * d
    det = a * c00 + b * c01 + c * c02
    if abs(det) < 1e-30:
        return 0.0, 0.0, 0.0, False
    over = 1.0 / det
    c11 = a * f - c * c
    c12 = b * c - a * e
    c22 = a * d - b * b
    x = (c00 * r0 + c01 * r1 + c02 * r2) * over
    y = (c01 * r0 + c11 * r1 + c12 * r2) * over
    z = (c02 * r0 + c12 * r1 + c22 * r2) * over
    return x, y, z, True


@njit(cache=True, fastmath=True, error_model="numpy")
def _add(out, values, factor):
    for u in range(len(out)):
        out[u] += factor * values[u]


@njit(cache=True, fastmath=True, error_model="numpy")
def _lower(out, values):
    for u in range(len(out)):
        out[u] = values[u] if values[u] < out[u] else out[u]


@njit(cache=True, fastmath=True, error_model="numpy")
def _raise(out, values):
    for u in range(len(out)):
        out[u] = values[u] if values[u] > out[u] else out[u]


@njit(cache=True, fastmath=True, error_model="numpy")
def _window_sums(depth, nearness, v, pitch, down, sums):
    """Sums over the windows of row v of `nearness` q: Σq, Σq·du, Σq·dv; a fourth > 0 marks a broken window.

    A window is whole when every depth in it is there and near the middle one. Sums and extremes are taken
    down the columns first (`down` (6, width)), then along the row, by loops over few arrays that become
    vector code.
    """
    width = depth.shape[1]
    n = width - 2 * RADIUS
    one = np.float32(1.0)
    down[0, :] = 0.0
    down[1, :] = 0.0
    for k in range(2, 6):
        down[k] = depth[v]
    for dv in range(-RADIUS, RADIUS + 1):
        _add(down[0], nearness[v + dv], one)
        _add(down[1], nearness[v + dv], np.float32(dv))
        _lower(down[2], depth[v + dv])
        _raise(down[3], depth[v + dv])
        if abs(dv) < 2:
            _lower(down[4], depth[v + dv])
            _raise(down[5], depth[v + dv])
    for k in range(3):
        sums[k, :] = 0.0
    for k in range(3, 7):
        sums[k] = depth[v, RADIUS : RADIUS + n]
    for du in range(-RADIUS, RADIUS + 1):
        a = RADIUS + du
        _add(sums[0], down[0, a : a + n], one)
        _add(sums[1], down[0, a : a + n], np.float32(du))
        _add(sums[2], down[1, a : a + n], one)
        _lower(sums[3], down[2, a : a + n])
        _raise(sums[4], down[3, a : a + n])
        if abs(du) < 2:
            _lower(sums[5], down[4, a : a + n])
            _raise(sums[6], down[5, a : a + n])
    far = np.float32((FIT_SLOPE * RADIUS + 4.0) * pitch)
    near = np.float32((FIT_SLOPE + 4.0) * pitch)
    for u in range(n):
        z = depth[v, RADIUS + u]
        wide = max(z - sums[3, u], sums[4, u] - z) - far * z
        tight = max(z - sums[5, u], sums[6, u] - z) - near * z
        sums[3, u] = max(wide, tight)


@njit(cache=True, fastmath=True, error_model="numpy")
def _sum_window_rows(wide, plane, own, row, dv, pitch, s):
    """One row, dv below the middle one, of the windows around LANES pixels side by side, into their sums.

    wide holds depth and the two coordinates of the rays, each (h, LANES + w + LANES) flat with zeros at both sides and
    `plane` long; own is where the pixels start in it, row where the first of their neighbours. s (12 · LANES,) holds
    in its rows 0-8 the sums of a least-squares plane, in 9-11 how many neighbours lie beyond a jump, are linked, are
    torn off. Places are unsigned, since a sign would keep the loop from becoming vector code.
    """
    one, nothing = np.float32(1.0), np.float32(0.0)
    tear = np.float32(TORN_SLOPE * pitch * 1.42)
    for k in range(np.uint64(LANES)):
        z0, x0, y0 = wide[own + k], wide[plane + own + k], wide[plane + plane + own + k]
        aa, ab, a1 = s[k], s[np.uint64(LANES) + k], s[np.uint64(2 * LANES) + k]
        bb, b1, count = s[np.uint64(3 * LANES) + k], s[np.uint64(4 * LANES) + k], s[np.uint64(5 * LANES) + k]
        aw, bw, w1 = s[np.uint64(6 * LANES) + k], s[np.uint64(7 * LANES) + k], s[np.uint64(8 * LANES) + k]
        beyond, linked, torn = s[np.uint64(9 * LANES) + k], s[np.uint64(10 * LANES) + k], s[np.uint64(11 * LANES) + k]
        for across in range(2 * RADIUS + 1):
            reach = max(abs(dv), abs(across - RADIUS))
            ring = one if reach == 1 else nothing
            at = row + k + np.uint64(across)
            z = wide[at]
            there = one if z > nothing else nothing
            off = z0 - z
            share = there if abs(off) <= np.float32((FIT_SLOPE * reach + 4.0) * pitch) * z0 else nothing
            beyond += there - share
            linked += ring * there
            torn += ring * there if abs(off) > tear * z0 else nothing
            w = share * off / (z if z > nothing else one)
            a, b = share * (wide[plane + at] - x0), share * (wide[plane + plane + at] - y0)
            aa += a * a
            ab += a * b
            a1 += a
            bb += b * b
            b1 += b
            count += share
            aw += a * w
            bw += b * w
            w1 += w
        s[k], s[np.uint64(LANES) + k], s[np.uint64(2 * LANES) + k] = aa, ab, a1
        s[np.uint64(3 * LANES) + k], s[np.uint64(4 * LANES) + k], s[np.uint64(5 * LANES) + k] = bb, b1, count
        s[np.uint64(6 * LANES) + k], s[np.uint64(7 * LANES) + k], s[np.uint64(8 * LANES) + k] = aw, bw, w1
        s[np.uint64(9 * LANES) + k], s[np.uint64(10 * LANES) + k], s[np.uint64(11 * LANES) + k] = beyond, linked, torn


@njit(cache=True, fastmath=True, error_model="numpy")
def _broken_windows(wide, v, columns, pitch, planes):
    """Planes of windows with gaps or jumps, at some columns (n,) of row v; see `_sum_window_rows`.

    planes (5, width) receives there m0, m1, m2, whether an edge is near, and the linked neighbours (0: no plane).
    """
    _, height, width = wide.shape
    flat = wide.reshape(-1)
    s = np.empty(12 * LANES, np.float32)
    first = -LANES
    for u in columns:
        if u >= first + LANES:
            first = u
            for n in range(12 * LANES):
                s[n] = 0.0
            own = np.uint64(v * width + LANES + first)
            for dv in range(max(-RADIUS, -v), min(RADIUS + 1, height - v)):
                row = np.uint64((v + dv) * width + LANES + first - RADIUS)
                _sum_window_rows(flat, np.uint64(height * width), own, row, dv, pitch, s)
        k = u - first
        linked = s[10 * LANES + k]
        planes[3, u], planes[4, u] = s[9 * LANES + k], 0.0
        if s[11 * LANES + k] > 0.0 or linked < 5 or s[5 * LANES + k] < 8:
            continue
        aa, ab, a1 = float(s[k]), float(s[LANES + k]), float(s[2 * LANES + k])
        bb, b1, count = float(s[3 * LANES + k]), float(s[4 * LANES + k]), float(s[5 * LANES + k])
        aw, bw, w1 = float(s[6 * LANES + k]), float(s[7 * LANES + k]), float(s[8 * LANES + k])
        m0, m1, m2, ok = _solve3(aa, ab, a1, bb, b1, count, aw, bw, w1)
        if ok:
            planes[0, u], planes[1, u], planes[2, u], planes[4, u] = m0, m1, m2, linked


@njit(cache=True, fastmath=True, error_model="numpy")
def _row_planes(depth, nearness, wanted, wide, v, pitch, aspect, regular, middle):
    """(5, width) planes of the windows around the pixels of row v; see `_broken_windows`."""
    height, width = depth.shape
    planes = np.zeros((5, width), np.float32)
    rowwise = regular and v >= RADIUS and v < height - RADIUS and width > 2 * RADIUS
    inner = width - 2 * RADIUS if rowwise else 0
    sums = np.empty((7, inner), np.float32)
    if rowwise:
        _window_sums(depth, nearness, v, pitch, np.empty((6, width), np.float32), sums)
    side = 2 * RADIUS + 1
    spread = side * RADIUS * (RADIUS + 1) * side / 3.0  # Σ du² over the window
    for u in range(inner):
        share = depth[v, RADIUS + u] / middle
        planes[0, RADIUS + u] = share * sums[1, u] / (spread * pitch)
        planes[1, RADIUS + u] = share * sums[2, u] / (spread * pitch * aspect)
        planes[2, RADIUS + u] = share * (sums[0, u] / (side * side) + 1.0) - 1.0
        planes[4, RADIUS + u] = 8.0
    broken = np.empty(width, np.int32)
    n = 0
    for u in range(1, width - 1):
        whole = u >= RADIUS and u < RADIUS + inner and sums[3, u - RADIUS] <= 0.0
        if depth[v, u] > 0.0 and wanted[v, u] and not whole:
            broken[n] = u
            n += 1
    _broken_windows(wide, v, broken[:n], pitch, planes)
    return planes


@njit(cache=True, fastmath=True, error_model="numpy")
def _surface_of_row(
    depth, wanted, rays, planes, v, pitch, aspect, regular, min_cos, fitted, normals, confidence, residual
):  # fmt: skip
    """What row v of a depth image is worth, by the planes (5, width) of its windows; see `depth_surface`."""
    one, nothing = np.float32(1.0), np.float32(0.0)
    for u in range(1, depth.shape[1] - 1):
        z0 = depth[v, u]
        if z0 <= 0.0 or not wanted[v, u]:
            continue
        mx, my, rest, linked = planes[0, u], planes[1, u], planes[2, u], planes[4, u]
        inv_at_centre = one + rest
        if linked == nothing or inv_at_centre < np.float32(0.5):
            continue
        x0, y0 = rays[v, u, 0], rays[v, u, 1]
        mz = inv_at_centre - mx * x0 - my * y0
        length = np.sqrt(mx * mx + my * my + mz * mz)
        cos = inv_at_centre / (length * np.sqrt(x0 * x0 + y0 * y0 + one))
        if cos < min_cos:
            continue
        squared = nothing
        gx, gy = mx * np.float32(pitch), my * np.float32(pitch * aspect)
        for dv in range(-1, 2):
            for du in range(-1, 2):
                zn = depth[v + dv, u + du]
                slope = gx * np.float32(du) + gy * np.float32(dv)
                if not regular:
                    slope = mx * (rays[v + dv, u + du, 0] - x0) + my * (rays[v + dv, u + du, 1] - y0)
                # The depth less the plane's there, to first order in the slope over one pixel.
                off = zn - z0 + zn * (rest + slope)
                squared += off * off if zn > nothing else nothing
        fitted[v, u] = z0 / inv_at_centre
        normals[v, u, 0] = -mx / length
        normals[v, u, 1] = -my / length
        normals[v, u, 2] = -mz / length
        residual[v, u] = np.sqrt(squared / (linked + one)) / inv_at_centre
        confidence[v, u] = cos * cos * np.float32(0.4 if planes[3, u] > 0.0 else 1.0)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def depth_surface(
    depth, wanted, rays, pitch, aspect, regular, middle, min_cos, fitted, normals, confidence, residual
):  # fmt: skip
    """Plane fit of inverse depth in a window at every pixel; see `geometry.depth_map`.

    pitch is the step of the rays from column to column, pitch × aspect from row to row; where they are
    `regular` (no distortion) the moments of a whole window are the same everywhere. middle (float32) is about
    the mean depth, against which steps are taken for precision. fitted, normals, confidence and residual come
    as zeros and stay so where there is no surface.
    """
    height, width = depth.shape
    nearness = np.zeros((height, width), np.float32)  # a depth to measure against, over the depth, less one
    if regular:
        for v in range(height):
            for u in range(width):
                if depth[v, u] > np.float32(0.0):
                    nearness[v, u] = (middle - depth[v, u]) / depth[v, u]
    wide = np.zeros((3, height, width + 2 * LANES), np.float32)
    for v in range(height):
        for u in range(width):
            wide[0, v, LANES + u] = depth[v, u]
            wide[1, v, LANES + u], wide[2, v, LANES + u] = rays[v, u, 0], rays[v, u, 1]
    for v in prange(1, height - 1):
        planes = _row_planes(depth, nearness, wanted, wide, v, pitch, aspect, regular, middle)
        _surface_of_row(
            depth, wanted, rays, planes, v, pitch, aspect, regular, min_cos, fitted, normals, confidence, residual
        )  # fmt: skip


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def keep_edges(depth, rays, fitted, normals, confidence, residual, noise, reach, out_fitted, out_normals):
    """Give pixels with a bad fit the plane of a well-fitting neighbour that passes through them."""
    height, width = depth.shape
    for v in prange(height):
        for u in range(width):
            if confidence[v, u] <= 0.0 or residual[v, u] < 1.3 * noise:
                continue
            best = 0.8 * residual[v, u] ** 2
            z = depth[v, u]
            for dv in range(-reach, reach + 1):
                for du in range(-reach, reach + 1):
                    vv, uu = v + dv, u + du
                    if vv < 0 or uu < 0 or vv >= height or uu >= width or confidence[vv, uu] <= 0.0:
                        continue
                    a, b, c = normals[vv, uu, 0], normals[vv, uu, 1], normals[vv, uu, 2]
                    slope = a * rays[v, u, 0] + b * rays[v, u, 1] + c
                    if slope > -0.05:
                        continue
                    zq = fitted[vv, uu]
                    there = zq * (a * rays[vv, uu, 0] + b * rays[vv, uu, 1] + c) / slope
                    off = (there - z) * slope
                    score = residual[vv, uu] ** 2 + off * off
                    if score < best:
                        best = score
                        out_fitted[v, u] = there
                        out_normals[v, u, 0] = a
                        out_normals[v, u, 1] = b
                        out_normals[v, u, 2] = c


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def temper(fitted, residual, noise, middle, confidence):
    """Lower the confidence with distance and where the local plane fits far worse than the noise."""
    height, width = fitted.shape
    for v in prange(height):
        for u in range(width):
            if confidence[v, u] > 0.0:
                near = min(middle / max(fitted[v, u], 1e-6), 1.15)
                off = max(residual[v, u] / max(noise, 1e-6) - 3.0, 0.0) / 6.0
                confidence[v, u] *= near * near / (1.0 + off * off)


@njit(parallel=True, cache=True)
def see_through(points, T_camera_object, cam, depth, margin, agree, contradict):
    """Per point: add one where the frame agrees, or where it looked through by more than `margin`."""
    height, width = depth.shape
    R = T_camera_object
    for i in prange(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
        if pz <= 1.0:
            continue
        px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
        py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
        u, v = project(cam, px, py, pz)
        if u < 2 or v < 2 or u > width - 3 or v > height - 3:
            continue
        uu = int(u + 0.5)
        vv = int(v + 0.5)
        near = np.inf
        for dv in range(-2, 3):
            for du in range(-2, 3):
                zz = depth[vv + dv, uu + du]
                if zz <= 0.0:
                    near = 0.0
                near = min(near, zz)
        if near > 0.0 and pz < near - margin:
            contradict[i] += 1
        elif abs(depth[vv, uu] - pz) < margin:
            agree[i] += 1


@njit(cache=True)
def build_bvh(low, high, centres, order, node_low, node_high, node_left, node_start, node_count, leaf):
    """Median-split tree over boxes; fills the node arrays and returns how many were used."""
    stack = np.empty(128, np.int64)
    node_start[0] = 0
    node_count[0] = len(order)
    used = 1
    top = 1
    stack[0] = 0
    while top > 0:
        top -= 1
        node = stack[top]
        start = node_start[node]
        count = node_count[node]
        for axis in range(3):
            lo = np.inf
            hi = -np.inf
            for i in range(start, start + count):
                t = order[i]
                lo = min(lo, low[t, axis])
                hi = max(hi, high[t, axis])
            node_low[node, axis] = lo
            node_high[node, axis] = hi
        node_left[node] = -1
        if count <= leaf:
            continue
        axis = 0
        for k in range(1, 3):
            if node_high[node, k] - node_low[node, k] > node_high[node, axis] - node_low[node, axis]:
                axis = k
        part = order[start : start + count]
        ranked = np.argsort(centres[part, axis])
        order[start : start + count] = part[ranked]
        half = count // 2
        node_left[node] = used
        node_start[used] = start
        node_count[used] = half
        node_start[used + 1] = start + half
        node_count[used + 1] = count - half
        stack[top] = used
        stack[top + 1] = used + 1
        top += 2
        used += 2
    return used


@njit(cache=True)
def _point_triangle_sq(p, a, b, c):
    """Squared distance from a point to a triangle (Ericson 2005, section 5.1.5)."""
    ab = b - a
    ac = c - a
    ap = p - a
    d1 = np.dot(ab, ap)
    d2 = np.dot(ac, ap)
    if d1 <= 0 and d2 <= 0:
        return np.dot(ap, ap)
    bp = p - b
    d3 = np.dot(ab, bp)
    d4 = np.dot(ac, bp)
    if d3 >= 0 and d4 <= d3:
        return np.dot(bp, bp)
    vc = d1 * d4 - d3 * d2
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        q = ap - ab * (d1 / (d1 - d3))
        return np.dot(q, q)
    cp = p - c
    d5 = np.dot(ab, cp)
    d6 = np.dot(ac, cp)
    if d6 >= 0 and d5 <= d6:
        return np.dot(cp, cp)
    vb = d5 * d2 - d1 * d6
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        q = ap - ac * (d2 / (d2 - d6))
        return np.dot(q, q)
    va = d3 * d6 - d5 * d4
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        q = bp - (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)))
        return np.dot(q, q)
    s = va + vb + vc
    if s == 0:
        return np.dot(ap, ap)
    q = ap - ab * (vb / s) - ac * (vc / s)
    return np.dot(q, q)


@njit(parallel=True, cache=True)
def closest_on_mesh(points, tri, order, node_low, node_high, node_left, node_start, node_count, limit):
    """Distance (n,) and triangle (n,) nearest to each point, by descending the tree."""
    n = len(points)
    distance = np.empty(n)
    nearest = np.empty(n, np.int64)
    for i in prange(n):
        p = points[i]
        best = limit * limit
        which = -1
        stack = np.empty(128, np.int64)
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            if _box_sq(p, node_low[node], node_high[node]) >= best:
                continue
            if node_left[node] < 0:
                for k in range(node_start[node], node_start[node] + node_count[node]):
                    t = order[k]
                    sq = _point_triangle_sq(p, tri[t, 0], tri[t, 1], tri[t, 2])
                    if sq < best:
                        best = sq
                        which = t
                continue
            left = node_left[node]
            near, far = left, left + 1
            if _box_sq(p, node_low[far], node_high[far]) < _box_sq(p, node_low[near], node_high[near]):
                near, far = far, near
            stack[top] = far
            stack[top + 1] = near
            top += 2
        distance[i] = np.sqrt(best)
        nearest[i] = which
    return distance, nearest


@njit(cache=True, inline="always")
def _box_sq(p, low, high):
    total = 0.0
    for k in range(3):
        gap = max(low[k] - p[k], 0.0, p[k] - high[k])
        total += gap * gap
    return total


@njit(cache=True)
def _segment_hits_triangle(p, q, a, b, c):
    """True when the open segment p-q crosses the inside of the triangle."""
    e1 = b - a
    e2 = c - a
    d = q - p
    h = np.cross(d, e2)
    det = np.dot(e1, h)
    if abs(det) < 1e-14:
        return False
    s = (p - a) / det
    u = np.dot(s, h)
    if u <= 1e-9 or u >= 1 - 1e-9:
        return False
    k = np.cross(s, e1)
    v = np.dot(d, k)
    if v <= 1e-9 or u + v >= 1 - 1e-9:
        return False
    t = np.dot(e2, k)
    return t > 1e-9 and t < 1 - 1e-9


@njit(cache=True)
def _triangles_cross(x, y):
    for k in range(3):
        if _segment_hits_triangle(x[k], x[(k + 1) % 3], y[0], y[1], y[2]):
            return True
        if _segment_hits_triangle(y[k], y[(k + 1) % 3], x[0], x[1], x[2]):
            return True
    return False


@njit(parallel=True, cache=True)
def crossing_triangles(tri, faces, low, high, order, node_low, node_high, node_left, node_start, node_count):
    """With how many triangles of higher index, sharing no vertex, each one crosses (m,), and the last (m,)."""
    m = len(tri)
    found = np.zeros(m, np.int64)
    other = np.full(m, -1, np.int64)
    for i in prange(m):
        stack = np.empty(128, np.int64)
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            if not _boxes_meet(low[i], high[i], node_low[node], node_high[node]):
                continue
            if node_left[node] >= 0:
                stack[top] = node_left[node]
                stack[top + 1] = node_left[node] + 1
                top += 2
                continue
            for k in range(node_start[node], node_start[node] + node_count[node]):
                j = order[k]
                if j <= i or not _boxes_meet(low[i], high[i], low[j], high[j]):
                    continue
                shared = False
                for a in range(3):
                    for b in range(3):
                        if faces[i, a] == faces[j, b]:
                            shared = True
                if not shared and _triangles_cross(tri[i], tri[j]):
                    found[i] += 1
                    other[i] = j
    return found, other


@njit(cache=True, inline="always")
def _boxes_meet(low_a, high_a, low_b, high_b):
    for k in range(3):
        if low_a[k] > high_b[k] or low_b[k] > high_a[k]:
            return False
    return True


@njit(cache=True, inline="always")
def _slot_of(key, slots):
    """Where the search for a cell begins in a table of a power of two of slots."""
    return ((key * -7046029254386353131) >> 24) & (slots - 1)


@njit(cache=True)
def fill_cells(keys, first, table, start, end):
    """Enter the runs of equal keys, which begin at `first`, into the open-addressing table (0 = empty)."""
    for c in range(len(first)):
        key = keys[first[c]] + 1
        slot = _slot_of(key, len(table))
        while table[slot] != 0:
            slot = (slot + 1) & (len(table) - 1)
        table[slot] = key
        start[slot] = first[c]
        end[slot] = first[c + 1] if c + 1 < len(first) else len(keys)


@njit(cache=True)
def find_cell(table, x, y, z):
    """Slot of the cell (x, y, z), or -1 when it is empty."""
    if x < 0 or y < 0 or z < 0:
        return -1
    key = ((x << 42) | (y << 21) | z) + 1
    slot = _slot_of(key, len(table))
    while table[slot] != 0:
        if table[slot] == key:
            return slot
        slot = (slot + 1) & (len(table) - 1)
    return -1


@njit(cache=True, fastmath=True, error_model="numpy")
def nearest_in_cells(x, y, z, reach, points, low, cell, table, start, end):
    """Nearest of a grid's points to a place, as its number in the grid's order, or -1 beyond `reach`."""
    best, found = np.float32(reach * reach), -1
    fx, fy, fz = np.float32(x), np.float32(y), np.float32(z)
    i = int(np.floor((x - low[0]) / cell - 0.5))
    j = int(np.floor((y - low[1]) / cell - 0.5))
    k = int(np.floor((z - low[2]) / cell - 0.5))
    for corner in range(8):
        slot = find_cell(table, i + (corner >> 2), j + (corner >> 1 & 1), k + (corner & 1))
        if slot < 0:
            continue
        for n in range(start[slot], end[slot]):
            dx, dy, dz = points[n, 0] - fx, points[n, 1] - fy, points[n, 2] - fz
            away = dx * dx + dy * dy + dz * dz
            if away < best:
                best, found = away, n
    return found


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def neighbours_around(places, points, low, cell, table, start, end, order, radius, count, begin, index, distance):
    """All points of a grid with cells of `radius` within it of every place: counted, and written if there is room."""
    for p in prange(len(places)):
        x, y, z = places[p, 0], places[p, 1], places[p, 2]
        i = int(np.floor((x - low[0]) / cell))
        j = int(np.floor((y - low[1]) / cell))
        k = int(np.floor((z - low[2]) / cell))
        held = 0
        for near in range(27):
            slot = find_cell(table, i + near // 9 - 1, j + near // 3 % 3 - 1, k + near % 3 - 1)
            if slot < 0:
                continue
            for n in range(start[slot], end[slot]):
                dx, dy, dz = points[n, 0] - x, points[n, 1] - y, points[n, 2] - z
                away = dx * dx + dy * dy + dz * dz
                if away <= radius * radius:
                    if len(index):
                        index[begin[p] + held] = order[n]
                        distance[begin[p] + held] = np.sqrt(away)
                    held += 1
        count[p] = held
