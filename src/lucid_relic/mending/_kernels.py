"""Compiled loops of mending: quadric edge collapse."""

import numpy as np
from numba import njit

NORMAL_COS = 0.2  # a collapse may not turn a triangle by more than about 78 degrees
BORDER_WEIGHT = 100.0
SLIVER = 0.03


@njit(cache=True)
def vertex_quadrics(vertices, faces, quadrics):
    """Sum the area-weighted plane quadrics (n, 10) of the faces around each vertex."""
    for f in range(len(faces)):
        a, b, c = vertices[faces[f, 0]], vertices[faces[f, 1]], vertices[faces[f, 2]]
        n = np.cross(b - a, c - a)
        length = np.sqrt(np.dot(n, n))
        if length < 1e-20:
            continue
        n = n / length
        d = -np.dot(n, a)
        for k in range(3):
            _add_plane(quadrics, faces[f, k], n[0], n[1], n[2], d, length / 6)


@njit(cache=True)
def _add_plane(q, v, a, b, c, d, w):
    q[v, 0] += w * a * a
    q[v, 1] += w * a * b
    q[v, 2] += w * a * c
    q[v, 3] += w * a * d
    q[v, 4] += w * b * b
    q[v, 5] += w * b * c
    q[v, 6] += w * b * d
    q[v, 7] += w * c * c
    q[v, 8] += w * c * d
    q[v, 9] += w * d * d


@njit(cache=True)
def border_quadrics(vertices, faces, is_border_side, quadrics):
    """Add planes that stand on border edges, so that borders keep their course."""
    for f in range(len(faces)):
        for k in range(3):
            if not is_border_side[f, k]:
                continue
            a = vertices[faces[f, k]]
            b = vertices[faces[f, (k + 1) % 3]]
            c = vertices[faces[f, (k + 2) % 3]]
            edge = b - a
            n = np.cross(edge, np.cross(b - a, c - a))
            length = np.sqrt(np.dot(n, n))
            if length < 1e-20:
                continue
            n = n / length
            w = BORDER_WEIGHT * np.dot(edge, edge)
            for v in (faces[f, k], faces[f, (k + 1) % 3]):
                _add_plane(quadrics, v, n[0], n[1], n[2], -np.dot(n, a), w)


@njit(cache=True)
def _cost(q, p):
    x, y, z = p[0], p[1], p[2]
    return (
        q[0] * x * x + 2 * q[1] * x * y + 2 * q[2] * x * z + 2 * q[3] * x + q[4] * y * y
        + 2 * q[5] * y * z + 2 * q[6] * y + q[7] * z * z + 2 * q[8] * z + q[9]
    )  # fmt: skip


@njit(cache=True)
def _best_point(q, a, b, out):
    """Where to put the merged vertex: the quadric's minimum near the edge, else the better of a, b, mid."""
    det = (
        q[0] * (q[4] * q[7] - q[5] * q[5]) - q[1] * (q[1] * q[7] - q[5] * q[2])
        + q[2] * (q[1] * q[5] - q[4] * q[2])
    )  # fmt: skip
    scale = q[0] + q[4] + q[7]
    mid = (a + b) / 2
    if abs(det) > 1e-4 * scale * scale * scale:
        r0, r1, r2 = -q[3], -q[6], -q[8]
        x = (r0 * (q[4] * q[7] - q[5] * q[5]) - q[1] * (r1 * q[7] - q[5] * r2) + q[2] * (r1 * q[5] - q[4] * r2)) / det
        y = (q[0] * (r1 * q[7] - r2 * q[5]) - r0 * (q[1] * q[7] - q[5] * q[2]) + q[2] * (q[1] * r2 - r1 * q[2])) / det
        z = (q[0] * (q[4] * r2 - q[5] * r1) - q[1] * (q[1] * r2 - r1 * q[2]) + r0 * (q[1] * q[5] - q[4] * q[2])) / det
        edge = np.dot(a - b, a - b)
        if (x - mid[0]) ** 2 + (y - mid[1]) ** 2 + (z - mid[2]) ** 2 < 2.25 * edge:
            out[0], out[1], out[2] = x, y, z
            return max(_cost(q, out), 0.0)
    best = _cost(q, mid)
    out[:] = mid
    ca, cb = _cost(q, a), _cost(q, b)
    if ca < best:
        best = ca
        out[:] = a
    if cb < best:
        best = cb
        out[:] = b
    return max(best, 0.0)


@njit(cache=True)
def _push(heap, heap_edge, heap_stamp, size, cost, edge, stamp):
    i = size
    while i > 0:
        parent = (i - 1) // 2
        if heap[parent] <= cost:
            break
        heap[i], heap_edge[i], heap_stamp[i] = heap[parent], heap_edge[parent], heap_stamp[parent]
        i = parent
    heap[i], heap_edge[i], heap_stamp[i] = cost, edge, stamp
    return size + 1


@njit(cache=True)
def _pop(heap, heap_edge, heap_stamp, size):
    size -= 1
    cost, edge, stamp = heap[size], heap_edge[size], heap_stamp[size]
    i = 0
    while True:
        child = 2 * i + 1
        if child >= size:
            break
        if child + 1 < size and heap[child + 1] < heap[child]:
            child += 1
        if heap[child] >= cost:
            break
        heap[i], heap_edge[i], heap_stamp[i] = heap[child], heap_edge[child], heap_stamp[child]
        i = child
    heap[i], heap_edge[i], heap_stamp[i] = cost, edge, stamp
    return size


@njit(cache=True)
def _ring(v, faces, alive, first, after, mark, stamp, out):
    """Neighbours of v without repeats; `first`/`after` link the corners of each vertex."""
    count = 0
    corner = first[v]
    while corner >= 0:
        f = corner // 3
        if alive[f]:
            for k in range(3):
                w = faces[f, k]
                if w != v and mark[w] != stamp:
                    mark[w] = stamp
                    if count < len(out):
                        out[count] = w
                        count += 1
        corner = after[corner]
    return count


@njit(cache=True)
def _allowed(u, v, p, vertices, faces, alive, first, after, on_border, mark, stamp, ring_u, ring_v):
    """The link condition (Dey et al. 1999) and no turned or needle triangle."""
    nu = _ring(u, faces, alive, first, after, mark, stamp, ring_u)
    nv = _ring(v, faces, alive, first, after, mark, stamp + 1, ring_v)
    if nu >= len(ring_u) or nv >= len(ring_v):
        return False
    common = 0
    for i in range(nu):
        if mark[ring_u[i]] == stamp + 1:
            common += 1
    shared = 0
    corner = first[u]
    while corner >= 0:
        f = corner // 3
        if alive[f] and (faces[f, 0] == v or faces[f, 1] == v or faces[f, 2] == v):
            shared += 1
        corner = after[corner]
    if common != shared or shared == 0:
        return False
    if on_border[u] and on_border[v] and shared != 1:
        return False
    if shared == 2 and nu + nv - common - 2 < 3:
        return False
    for end in range(2):
        w = u if end == 0 else v
        other = v if end == 0 else u
        corner = first[w]
        while corner >= 0:
            f = corner // 3
            if alive[f] and faces[f, 0] != other and faces[f, 1] != other and faces[f, 2] != other:
                k = 0
                while faces[f, k] != w:
                    k += 1
                a = vertices[faces[f, (k + 1) % 3]]
                b = vertices[faces[f, (k + 2) % 3]]
                before = np.cross(a - vertices[w], b - vertices[w])
                now = np.cross(a - p, b - p)
                lb, ln = np.sqrt(np.dot(before, before)), np.sqrt(np.dot(now, now))
                longest = max(np.dot(a - p, a - p), np.dot(b - p, b - p), np.dot(a - b, a - b))
                if ln < SLIVER * longest and ln < lb:
                    return False
                if lb > 1e-14 and np.dot(before, now) < NORMAL_COS * lb * ln:
                    return False
            corner = after[corner]
    return True


@njit(cache=True)
def collapse(vertices, faces, edges, quadrics, on_border, alive, target, max_cost):
    """Collapse edges cheapest first until `target` faces are left or the cost passes `max_cost`.

    Changes vertices, faces and alive in place; returns how many faces are left and the last cost.
    """
    n, m = len(vertices), len(faces)
    first = np.full(n, -1, np.int64)
    tail = np.full(n, -1, np.int64)
    after = np.full(3 * m, -1, np.int64)
    for corner in range(3 * m):
        v = faces[corner // 3, corner % 3]
        after[corner] = first[v]
        if first[v] < 0:
            tail[v] = corner
        first[v] = corner
    capacity = 4 * len(edges) + 1024
    heap = np.empty(capacity)
    heap_edge = np.empty(capacity, np.int64)
    heap_stamp = np.empty(capacity, np.int64)
    version = np.zeros(n, np.int64)
    size = 0
    p = np.empty(3)
    for e in range(len(edges)):
        u, v = edges[e, 0], edges[e, 1]
        cost = _best_point(quadrics[u] + quadrics[v], vertices[u], vertices[v], p)
        size = _push(heap, heap_edge, heap_stamp, size, cost, (u << 32) | v, 0)
    mark = np.zeros(n, np.int64)
    stamp = 1
    ring_u = np.empty(256, np.int64)
    ring_v = np.empty(256, np.int64)
    left = m
    last = 0.0
    while size > 0 and left > target:
        cost, key, when = heap[0], heap_edge[0], heap_stamp[0]
        size = _pop(heap, heap_edge, heap_stamp, size)
        u, v = key >> 32, key & 0xFFFFFFFF
        if first[u] < 0 or first[v] < 0 or when != version[u] + version[v]:
            continue
        if cost > max_cost:
            break
        _best_point(quadrics[u] + quadrics[v], vertices[u], vertices[v], p)
        stamp += 2
        if not _allowed(u, v, p, vertices, faces, alive, first, after, on_border, mark, stamp, ring_u, ring_v):
            continue
        last = cost
        vertices[u] = p
        quadrics[u] += quadrics[v]
        on_border[u] = on_border[u] or on_border[v]
        corner = first[v]
        while corner >= 0:
            f = corner // 3
            if alive[f]:
                if faces[f, 0] == u or faces[f, 1] == u or faces[f, 2] == u:
                    alive[f] = False
                    left -= 1
                else:
                    faces[f, corner % 3] = u
            corner = after[corner]
        after[tail[u]] = first[v]
        tail[u] = tail[v]
        first[v] = -1
        version[u] += version[v] + 1
        stamp += 2
        count = _ring(u, faces, alive, first, after, mark, stamp, ring_u)
        if size + count >= capacity:
            size = _compact(heap, heap_edge, heap_stamp, size, first, version)
        for i in range(count):
            w = ring_u[i]
            c = _best_point(quadrics[u] + quadrics[w], vertices[u], vertices[w], p)
            size = _push(heap, heap_edge, heap_stamp, size, c, (u << 32) | w, version[u] + version[w])
    return left, last


@njit(cache=True)
def _compact(heap, heap_edge, heap_stamp, size, first, version):
    """Drop the outdated entries of the heap."""
    kept = 0
    for i in range(size):
        u, v = heap_edge[i] >> 32, heap_edge[i] & 0xFFFFFFFF
        if first[u] >= 0 and first[v] >= 0 and heap_stamp[i] == version[u] + version[v]:
            cost, edge, stamp = heap[i], heap_edge[i], heap_stamp[i]
            kept = _push(heap, heap_edge, heap_stamp, kept, cost, edge, stamp)
    return kept
