"""Compiled loops over a tree of triangles: built, asked for what is nearest or farthest, and for what crosses."""

import numpy as np
from numba import njit, prange

RUN = 4096  # points that one thread asks in a row


@njit(cache=True)
def _split_at(order, left, right, middle, centres, axis):
    """Put into order[middle] what sorting order[left…right] by an axis would, smaller ones before it (Hoare 1961)."""
    while left < right:
        pivot = centres[order[(left + right) // 2], axis]
        i, j = left, right
        while i <= j:
            while centres[order[i], axis] < pivot:
                i += 1
            while centres[order[j], axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if middle <= j:
            right = j
        elif middle >= i:
            left = i
        else:
            return


@njit(cache=True, nogil=True)
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
        half = count // 2
        _split_at(order, start, start + count - 1, start + half, centres, axis)
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


@njit(cache=True, inline="always")
def _dot(ax, ay, az, bx, by, bz):
    return ax * bx + ay * by + az * bz


@njit(cache=True)
def _point_triangle_sq(p, tri, t):
    """Squared distance from a point to triangle t (Ericson 2005, section 5.1.5); scalars only, arrays would be made here."""
    abx, aby, abz = tri[t, 1, 0] - tri[t, 0, 0], tri[t, 1, 1] - tri[t, 0, 1], tri[t, 1, 2] - tri[t, 0, 2]
    acx, acy, acz = tri[t, 2, 0] - tri[t, 0, 0], tri[t, 2, 1] - tri[t, 0, 1], tri[t, 2, 2] - tri[t, 0, 2]
    apx, apy, apz = p[0] - tri[t, 0, 0], p[1] - tri[t, 0, 1], p[2] - tri[t, 0, 2]
    d1 = _dot(abx, aby, abz, apx, apy, apz)
    d2 = _dot(acx, acy, acz, apx, apy, apz)
    if d1 <= 0 and d2 <= 0:
        return _dot(apx, apy, apz, apx, apy, apz)
    bpx, bpy, bpz = apx - abx, apy - aby, apz - abz
    d3 = _dot(abx, aby, abz, bpx, bpy, bpz)
    d4 = _dot(acx, acy, acz, bpx, bpy, bpz)
    if d3 >= 0 and d4 <= d3:
        return _dot(bpx, bpy, bpz, bpx, bpy, bpz)
    cpx, cpy, cpz = apx - acx, apy - acy, apz - acz
    d5 = _dot(abx, aby, abz, cpx, cpy, cpz)
    d6 = _dot(acx, acy, acz, cpx, cpy, cpz)
    if d6 >= 0 and d5 <= d6:
        return _dot(cpx, cpy, cpz, cpx, cpy, cpz)
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    # The nearest place, as shares of the two sides that leave the first corner.
    s, t2 = 0.0, 0.0
    # Of a side without length, as what comes in may have one, the others tell.
    if vc <= 0 and d1 >= 0 and d3 <= 0 and d1 > d3:
        s = d1 / (d1 - d3)
    elif vb <= 0 and d2 >= 0 and d6 <= 0 and d2 > d6:
        t2 = d2 / (d2 - d6)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0 and d4 + d5 > d3 + d6:
        t2 = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        s = 1.0 - t2
    elif va + vb + vc != 0:
        s, t2 = vb / (va + vb + vc), vc / (va + vb + vc)
    qx, qy, qz = apx - s * abx - t2 * acx, apy - s * aby - t2 * acy, apz - s * abz - t2 * acz
    return _dot(qx, qy, qz, qx, qy, qz)


@njit(cache=True)
def _nearest(p, tri, order, node_low, node_high, node_left, node_start, node_count, best, enough, stack):
    """Squared distance from a point and its triangle, by descending the tree; -1 where none is nearer than `best`.

    Once something lies within `enough` (squared), nothing nearer is looked for.
    """
    which = -1
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
                sq = _point_triangle_sq(p, tri, t)
                if sq < best:
                    best = sq
                    which = t
            if best <= enough:
                break
            continue
        left = node_left[node]
        near, far = left, left + 1
        if _box_sq(p, node_low[far], node_high[far]) < _box_sq(p, node_low[near], node_high[near]):
            near, far = far, near
        stack[top] = far
        stack[top + 1] = near
        top += 2
    return best, which


@njit(parallel=True, cache=True)
def closest_on_mesh(points, tri, order, node_low, node_high, node_left, node_start, node_count, limit, enough):
    """Distance (n,) and triangle (n,) nearest to each point; a point within `enough` is not asked more exactly."""
    n = len(points)
    distance = np.empty(n)
    nearest = np.empty(n, np.int64)
    for i in prange(n):
        stack = np.empty(128, np.int64)
        best, nearest[i] = _nearest(
            points[i], tri, order, node_low, node_high, node_left, node_start, node_count, limit * limit,
            enough * abs(enough), stack,
        )  # fmt: skip
        distance[i] = np.sqrt(best)
    return distance, nearest


@njit(parallel=True, cache=True)
def farthest_from_mesh(points, tri, order, node_low, node_high, node_left, node_start, node_count, least):
    """The greatest distance of points (n, 3), at least `least`: one within what is known already is not asked exactly."""
    runs = (len(points) + RUN - 1) // RUN
    most = np.empty(runs)
    for r in prange(runs):
        known = least * least
        stack = np.empty(128, np.int64)
        for i in range(r * RUN, min((r + 1) * RUN, len(points))):
            away, _ = _nearest(
                points[i], tri, order, node_low, node_high, node_left, node_start, node_count, np.inf, known, stack
            )
            known = max(known, away)
        most[r] = known
    return max(least, np.sqrt(most.max())) if runs else least


@njit(cache=True, inline="always")
def _box_sq(p, low, high):
    total = 0.0
    for k in range(3):
        gap = max(low[k] - p[k], 0.0, p[k] - high[k])
        total += gap * gap
    return total


@njit(cache=True)
def _side_hits_triangle(tri, i, k, j):
    """True when side k of triangle i crosses the inside of triangle j (Möller & Trumbore 1997)."""
    n = (k + 1) % 3
    px, py, pz = tri[i, k, 0], tri[i, k, 1], tri[i, k, 2]
    dx, dy, dz = tri[i, n, 0] - px, tri[i, n, 1] - py, tri[i, n, 2] - pz
    ax, ay, az = tri[j, 0, 0], tri[j, 0, 1], tri[j, 0, 2]
    e1x, e1y, e1z = tri[j, 1, 0] - ax, tri[j, 1, 1] - ay, tri[j, 1, 2] - az
    e2x, e2y, e2z = tri[j, 2, 0] - ax, tri[j, 2, 1] - ay, tri[j, 2, 2] - az
    hx, hy, hz = dy * e2z - dz * e2y, dz * e2x - dx * e2z, dx * e2y - dy * e2x
    det = _dot(e1x, e1y, e1z, hx, hy, hz)
    if abs(det) < 1e-14:
        return False
    sx, sy, sz = (px - ax) / det, (py - ay) / det, (pz - az) / det
    u = _dot(sx, sy, sz, hx, hy, hz)
    if u <= 1e-9 or u >= 1 - 1e-9:
        return False
    kx, ky, kz = sy * e1z - sz * e1y, sz * e1x - sx * e1z, sx * e1y - sy * e1x
    v = _dot(dx, dy, dz, kx, ky, kz)
    if v <= 1e-9 or u + v >= 1 - 1e-9:
        return False
    t = _dot(e2x, e2y, e2z, kx, ky, kz)
    return t > 1e-9 and t < 1 - 1e-9


@njit(cache=True)
def _triangles_cross(tri, i, j):
    for k in range(3):
        if _side_hits_triangle(tri, i, k, j) or _side_hits_triangle(tri, j, k, i):
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
                if not shared and _triangles_cross(tri, i, j):
                    found[i] += 1
                    other[i] = j
    return found, other


@njit(cache=True, inline="always")
def _boxes_meet(low_a, high_a, low_b, high_b):
    for k in range(3):
        if low_a[k] > high_b[k] or low_b[k] > high_a[k]:
            return False
    return True
