"""Compiled loops of mending: quadric edge collapse."""

import numpy as np
from numba import njit

NORMAL_COS = 0.2  # a collapse may not turn a triangle by more than about 78 degrees
BORDER_WEIGHT = 100.0  # of planes that stand on open borders: borders stay where they are
SLIVER = 0.03  # of a well-shaped triangle (1): thinner ones are not made
FLAT = 1e-9  # a quadric whose planes are nearly one has no minimum worth moving to


@njit(cache=True)
def vertex_quadrics(vertices, faces, quadrics, area):
    """Sum the area-weighted plane quadrics (n, 10) of the faces around each vertex, and a third of their area."""
    for f in range(len(faces)):
        i, j, k = faces[f, 0], faces[f, 1], faces[f, 2]
        ex, ey, ez = vertices[j, 0] - vertices[i, 0], vertices[j, 1] - vertices[i, 1], vertices[j, 2] - vertices[i, 2]
        fx, fy, fz = vertices[k, 0] - vertices[i, 0], vertices[k, 1] - vertices[i, 1], vertices[k, 2] - vertices[i, 2]
        nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        if length < 1e-20:
            continue
        nx, ny, nz = nx / length, ny / length, nz / length
        d = -(nx * vertices[i, 0] + ny * vertices[i, 1] + nz * vertices[i, 2])
        for c in range(3):
            _add_plane(quadrics, faces[f, c], nx, ny, nz, d, length / 6)
            area[faces[f, c]] += length / 6


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


@njit(cache=True, inline="always")
def _cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, x, y, z):
    return (
        q0 * x * x + 2 * q1 * x * y + 2 * q2 * x * z + 2 * q3 * x + q4 * y * y
        + 2 * q5 * y * z + 2 * q6 * y + q7 * z * z + 2 * q8 * z + q9
    )  # fmt: skip


@njit(cache=True)
def _merged_place(u, v, vertices, quadrics, locked, out):
    """Cost of merging u and v, and into `out` where: the quadric's minimum near the edge, else the better
    of both ends and the middle. A locked vertex keeps its place; two of them never merge.

    Written out in scalars: this is the hottest loop of simplifying, and temporary arrays cost it tenfold.
    """
    if locked[u] and locked[v]:
        return np.inf
    q0 = quadrics[u, 0] + quadrics[v, 0]
    q1 = quadrics[u, 1] + quadrics[v, 1]
    q2 = quadrics[u, 2] + quadrics[v, 2]
    q3 = quadrics[u, 3] + quadrics[v, 3]
    q4 = quadrics[u, 4] + quadrics[v, 4]
    q5 = quadrics[u, 5] + quadrics[v, 5]
    q6 = quadrics[u, 6] + quadrics[v, 6]
    q7 = quadrics[u, 7] + quadrics[v, 7]
    q8 = quadrics[u, 8] + quadrics[v, 8]
    q9 = quadrics[u, 9] + quadrics[v, 9]
    ax, ay, az = vertices[u, 0], vertices[u, 1], vertices[u, 2]
    bx, by, bz = vertices[v, 0], vertices[v, 1], vertices[v, 2]
    if locked[v]:
        out[0], out[1], out[2] = bx, by, bz
        return max(_cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, bx, by, bz), 0.0)
    if locked[u]:
        out[0], out[1], out[2] = ax, ay, az
        return max(_cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, ax, ay, az), 0.0)
    mx, my, mz = (ax + bx) / 2, (ay + by) / 2, (az + bz) / 2
    c0 = q4 * q7 - q5 * q5
    c1 = q1 * q7 - q5 * q2
    c2 = q1 * q5 - q4 * q2
    det = q0 * c0 - q1 * c1 + q2 * c2
    scale = q0 + q4 + q7
    if abs(det) > FLAT * scale * scale * scale:
        r0, r1, r2 = -q3, -q6, -q8
        x = (r0 * c0 - q1 * (r1 * q7 - q5 * r2) + q2 * (r1 * q5 - q4 * r2)) / det
        y = (q0 * (r1 * q7 - r2 * q5) - r0 * c1 + q2 * (q1 * r2 - r1 * q2)) / det
        z = (q0 * (q4 * r2 - q5 * r1) - q1 * (q1 * r2 - r1 * q2) + r0 * c2) / det
        edge = (ax - bx) ** 2 + (ay - by) ** 2 + (az - bz) ** 2
        if (x - mx) ** 2 + (y - my) ** 2 + (z - mz) ** 2 < 2.25 * edge:
            out[0], out[1], out[2] = x, y, z
            return max(_cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, x, y, z), 0.0)
    best = _cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, mx, my, mz)
    out[0], out[1], out[2] = mx, my, mz
    ca = _cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, ax, ay, az)
    cb = _cost(q0, q1, q2, q3, q4, q5, q6, q7, q8, q9, bx, by, bz)
    if ca < best:
        best = ca
        out[0], out[1], out[2] = ax, ay, az
    if cb < best:
        best = cb
        out[0], out[1], out[2] = bx, by, bz
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


@njit(cache=True, inline="always")
def _keeps_facing(vertices, w, i, j, p):
    """True when triangle (w, i, j) neither turns over nor becomes a needle as w moves to p."""
    ax, ay, az = vertices[i, 0], vertices[i, 1], vertices[i, 2]
    bx, by, bz = vertices[j, 0], vertices[j, 1], vertices[j, 2]
    ex, ey, ez = ax - vertices[w, 0], ay - vertices[w, 1], az - vertices[w, 2]
    fx, fy, fz = bx - vertices[w, 0], by - vertices[w, 1], bz - vertices[w, 2]
    nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
    gx, gy, gz = ax - p[0], ay - p[1], az - p[2]
    hx, hy, hz = bx - p[0], by - p[1], bz - p[2]
    mx, my, mz = gy * hz - gz * hy, gz * hx - gx * hz, gx * hy - gy * hx
    before = np.sqrt(nx * nx + ny * ny + nz * nz)
    now = np.sqrt(mx * mx + my * my + mz * mz)
    across = (ax - bx) ** 2 + (ay - by) ** 2 + (az - bz) ** 2
    longest = max(gx * gx + gy * gy + gz * gz, hx * hx + hy * hy + hz * hz, across)
    if now < SLIVER * longest and now < before:
        return False
    return not (before > 1e-14 and nx * mx + ny * my + nz * mz < NORMAL_COS * before * now)


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
                i, j = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
                if not _keeps_facing(vertices, w, i, j, p):
                    return False
            corner = after[corner]
    return True


@njit(cache=True)
def _join_chains(u, v, alive, first, after):
    """Give u the living corners of both vertices; v has none left."""
    head = -1
    for w in (u, v):
        corner = first[w]
        while corner >= 0:
            following = after[corner]
            if alive[corner // 3]:
                after[corner] = head
                head = corner
            corner = following
    first[u] = head
    first[v] = -1


@njit(cache=True)
def corner_chains(faces, count):
    """Linked corners of every vertex: `first` (count,) and `after` (3m,), -1 at the end."""
    first = np.full(count, -1, np.int64)
    after = np.full(3 * len(faces), -1, np.int64)
    for corner in range(3 * len(faces)):
        v = faces[corner // 3, corner % 3]
        after[corner] = first[v]
        first[v] = corner
    return first, after


@njit(cache=True)
def _merge(u, v, p, vertices, faces, quadrics, area, on_border, locked, alive, first, after):
    """Merge v into u at p; returns how many faces vanish."""
    gone = 0
    for k in range(3):
        vertices[u, k] = p[k]
    for k in range(10):
        quadrics[u, k] += quadrics[v, k]
    area[u] += area[v]
    on_border[u] = on_border[u] or on_border[v]
    locked[u] = locked[u] or locked[v]
    corner = first[v]
    while corner >= 0:
        f = corner // 3
        if alive[f]:
            if faces[f, 0] == u or faces[f, 1] == u or faces[f, 2] == u:
                alive[f] = False
                gone += 1
            else:
                faces[f, corner % 3] = u
        corner = after[corner]
    _join_chains(u, v, alive, first, after)
    return gone


@njit(cache=True)
def sweep(
    vertices, faces, quadrics, area, on_border, locked, alive, first, after, left, target, max_cost, allowed_sq
):  # fmt: skip
    """Collapse, in the order of the faces, every edge that costs at most `max_cost`, each vertex once.

    Runs through memory in order and so is far faster than the heap of `collapse`, which finishes
    where order matters. Returns how many faces are left.
    """
    n = len(vertices)
    touched = np.zeros(n, np.bool_)
    mark = np.zeros(n, np.int64)
    stamp = 1
    ring_u = np.empty(256, np.int64)
    ring_v = np.empty(256, np.int64)
    p = np.empty(3)
    for f in range(len(faces)):
        if left <= target:
            break
        if not alive[f]:
            continue
        for k in range(3):
            u, v = faces[f, k], faces[f, (k + 1) % 3]
            if touched[u] or touched[v]:
                continue
            cost = _merged_place(u, v, vertices, quadrics, locked, p)
            if cost > max_cost or cost > min(allowed_sq[u], allowed_sq[v]) * (area[u] + area[v]):
                continue
            stamp += 2
            if not _allowed(u, v, p, vertices, faces, alive, first, after, on_border, mark, stamp, ring_u, ring_v):
                continue
            left -= _merge(u, v, p, vertices, faces, quadrics, area, on_border, locked, alive, first, after)
            allowed_sq[u] = min(allowed_sq[u], allowed_sq[v])
            touched[u] = True
            break
    return left


@njit(cache=True, nogil=True)
def collapse(
    vertices, faces, edges, quadrics, area, on_border, locked, alive, first, after, left, target, allowed_sq, board
):  # fmt: skip
    """Collapse edges cheapest first until `target` faces are left or every error passes what its ends allow.

    The error of a collapse is its cost over the area that its quadric stands for, the mean squared
    distance to the merged planes; allowed_sq (n,) bounds it for every vertex. Changes vertices, faces and alive in place; returns how many faces
    are left. board is as in `progress.watched`: how many faces went, and whether to stop.
    """
    n = len(vertices)
    begun = left
    capacity = 4 * len(edges) + 1024
    heap = np.empty(capacity)
    heap_edge = np.empty(capacity, np.int64)
    heap_stamp = np.empty(capacity, np.int64)
    version = np.zeros(n, np.int64)
    size = 0
    p = np.empty(3)
    for e in range(len(edges)):
        u, v = edges[e, 0], edges[e, 1]
        cost = _merged_place(u, v, vertices, quadrics, locked, p)
        if cost < np.inf:
            size = _push(heap, heap_edge, heap_stamp, size, cost, (u << 32) | v, 0)
    mark = np.zeros(n, np.int64)
    stamp = 1
    ring_u = np.empty(256, np.int64)
    ring_v = np.empty(256, np.int64)
    while size > 0 and left > target:
        cost, key, when = heap[0], heap_edge[0], heap_stamp[0]
        size = _pop(heap, heap_edge, heap_stamp, size)
        u, v = key >> 32, key & 0xFFFFFFFF
        if first[u] < 0 or first[v] < 0 or when != version[u] + version[v]:
            continue
        if cost > min(allowed_sq[u], allowed_sq[v]) * (area[u] + area[v]):
            continue
        board[0] = begun - left
        if board[1] != 0:
            break
        _merged_place(u, v, vertices, quadrics, locked, p)
        stamp += 2
        if not _allowed(u, v, p, vertices, faces, alive, first, after, on_border, mark, stamp, ring_u, ring_v):
            continue
        left -= _merge(u, v, p, vertices, faces, quadrics, area, on_border, locked, alive, first, after)
        allowed_sq[u] = min(allowed_sq[u], allowed_sq[v])
        version[u] += version[v] + 1
        stamp += 2
        count = _ring(u, faces, alive, first, after, mark, stamp, ring_u)
        if size + count >= capacity:
            size = _compact(heap, heap_edge, heap_stamp, size, first, version)
        for i in range(count):
            w = ring_u[i]
            c = _merged_place(u, w, vertices, quadrics, locked, p)
            if c < np.inf:
                size = _push(heap, heap_edge, heap_stamp, size, c, (u << 32) | w, version[u] + version[w])
    return left


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


@njit(cache=True)
def collapse_short(vertices, faces, quadrics, area, on_border, locked, alive, first, after, shortest, longest):
    """Collapse edges under `shortest` at their middle (or at a locked end) unless one over `longest` results."""
    n = len(vertices)
    mark = np.zeros(n, np.int64)
    stamp = 1
    ring_u = np.empty(256, np.int64)
    ring_v = np.empty(256, np.int64)
    p = np.empty(3)
    left = 0
    for f in range(len(faces)):
        for k in range(3):
            if not alive[f]:
                break
            u, v = faces[f, k], faces[f, (k + 1) % 3]
            if (locked[u] and locked[v]) or on_border[u] != on_border[v]:
                continue
            square = 0.0
            for a in range(3):
                square += (vertices[u, a] - vertices[v, a]) ** 2
                p[a] = (vertices[u, a] + vertices[v, a]) / 2
                if locked[u]:
                    p[a] = vertices[u, a]
                elif locked[v]:
                    p[a] = vertices[v, a]
            if square >= shortest * shortest:
                continue
            stamp += 2
            if not _allowed(u, v, p, vertices, faces, alive, first, after, on_border, mark, stamp, ring_u, ring_v):
                continue
            fits = True
            for end in range(2):
                ring = ring_u if end == 0 else ring_v
                stamp += 2
                count = _ring(u if end == 0 else v, faces, alive, first, after, mark, stamp, ring)
                for i in range(count):
                    w = ring[i]
                    if w != u and w != v:
                        reach = (
                            (vertices[w, 0] - p[0]) ** 2 + (vertices[w, 1] - p[1]) ** 2 + (vertices[w, 2] - p[2]) ** 2
                        )
                        if reach > longest * longest:
                            fits = False
            if fits:
                _merge(u, v, p, vertices, faces, quadrics, area, on_border, locked, alive, first, after)
                left += 1
    return left


@njit(cache=True)
def flip_edges(vertices, faces, first_side, second_side, edge_keys, sharp, valence, wish):
    """Flip edges where that brings the valences nearer to what is wished; returns how many were flipped.

    first_side and second_side (k,) name the two sides (face·3 + side) of every edge, edge_keys (e,) all
    edges in order as low << 32 | high, sharp (k,) edges that stay. A vertex takes part once.
    """
    busy_face = np.zeros(len(faces), np.bool_)
    busy = np.zeros(len(vertices), np.bool_)
    flipped = 0
    for e in range(len(first_side)):
        f, g = first_side[e] // 3, second_side[e] // 3
        if sharp[e] or busy_face[f] or busy_face[g]:
            continue
        k, j = first_side[e] % 3, second_side[e] % 3
        a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        d = faces[g, (j + 2) % 3]
        if faces[g, j] != b or c == d or busy[a] or busy[b] or busy[c] or busy[d]:
            continue
        now = (
            abs(valence[a] - wish[a])
            + abs(valence[b] - wish[b])
            + abs(valence[c] - wish[c])
            + abs(valence[d] - wish[d])
        )
        then = (
            abs(valence[a] - 1 - wish[a]) + abs(valence[b] - 1 - wish[b])
            + abs(valence[c] + 1 - wish[c]) + abs(valence[d] + 1 - wish[d])
        )  # fmt: skip
        if then >= now or valence[a] <= 3 or valence[b] <= 3:
            continue
        key = (min(c, d) << 32) | max(c, d)
        at = np.searchsorted(edge_keys, key)
        if at < len(edge_keys) and edge_keys[at] == key:
            continue
        if not _flip_keeps_facing(vertices, a, b, c, d):
            continue
        faces[f, 0], faces[f, 1], faces[f, 2] = a, d, c
        faces[g, 0], faces[g, 1], faces[g, 2] = d, b, c
        busy_face[f] = busy_face[g] = True
        busy[a] = busy[b] = busy[c] = busy[d] = True
        valence[a] -= 1
        valence[b] -= 1
        valence[c] += 1
        valence[d] += 1
        flipped += 1
    return flipped


@njit(cache=True)
def _flip_keeps_facing(vertices, a, b, c, d):
    """True when both triangles after a flip face as the two before did."""
    p, q, r, s = vertices[a], vertices[b], vertices[c], vertices[d]
    before = np.cross(q - p, r - p) + np.cross(p - q, s - q)
    one, two = np.cross(s - p, r - p), np.cross(q - s, r - s)
    length = np.sqrt(np.dot(before, before))
    for n in (one, two):
        size = np.sqrt(np.dot(n, n))
        if size < 1e-12 or np.dot(n, before) < 0.7 * size * length:
            return False
    return True
