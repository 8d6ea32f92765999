"""Compiled loops that make triangles of a signed field: marching tetrahedra."""

import numpy as np
from numba import njit, prange

# Six tetrahedra around the diagonal 0-7 of a cell; corner bits are x=4, y=2, z=1 (Kuhn's subdivision).
TETRAHEDRA = np.array([[0, 4, 6, 7], [0, 6, 2, 7], [0, 2, 3, 7], [0, 3, 1, 7], [0, 1, 5, 7], [0, 5, 4, 7]], np.int64)


@njit(cache=True)
def crossing_blocks(field, out):
    """Block corners (multiples of 8) of the dense field whose 9³ values change sign."""
    nx, ny, nz = field.shape
    used = 0
    for i in range(0, nx - 1, 8):
        for j in range(0, ny - 1, 8):
            for k in range(0, nz - 1, 8):
                negative = False
                positive = False
                for a in range(i, min(i + 9, nx)):
                    for b in range(j, min(j + 9, ny)):
                        for c in range(k, min(k + 9, nz)):
                            if field[a, b, c] < 0:
                                negative = True
                            else:
                                positive = True
                if negative and positive:
                    out[used, 0] = i // 8
                    out[used, 1] = j // 8
                    out[used, 2] = k // 8
                    used += 1
    return used


@njit(cache=True, inline="always")
def _edge_key(x, y, z, p, q):
    """Key of the edge between corners p and q (bits x=4, y=2, z=1, p a subset of q) of a cell."""
    gx = x + ((p >> 2) & 1)
    gy = y + ((p >> 1) & 1)
    gz = z + (p & 1)
    return (((gx * 2097152 + gy) * 1048576 + gz) << 3) | (q - p)


@njit(parallel=True, cache=True)
def pad_blocks(values, beside, out):
    """Blocks with the first layer of their upper neighbours: out (b, 9, 9, 9), NaN where there is none.

    values (n, 8, 8, 8) are all blocks, beside (8, b) those beside each wanted one, by steps of 0 or 1 along x, y and z; -1
    where there is none.
    """
    for b in prange(len(out)):
        for i in range(9):
            for j in range(9):
                for k in range(9):
                    of = beside[(i >> 3) * 4 + (j >> 3) * 2 + (k >> 3), b]
                    out[b, i, j, k] = values[of, i & 7, j & 7, k & 7] if of >= 0 else np.float32(np.nan)


@njit(parallel=True, cache=True)
def count_triangles(padded):
    """How many triangles (b,) `march` will emit for each of padded blocks (b, 9, 9, 9); NaN = not observed."""
    totals = np.zeros(len(padded), np.int64)
    for b in prange(len(padded)):
        value = np.empty(8)
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    totals[b] += _cell_triangles(padded, b, i, j, k, value)
    return totals


@njit(cache=True)
def _cell_triangles(padded, b, i, j, k, value):
    negatives = 0
    for c in range(8):
        value[c] = padded[b, i + ((c >> 2) & 1), j + ((c >> 1) & 1), k + (c & 1)]
        if np.isnan(value[c]):
            return 0
        if value[c] < 0:
            negatives += 1
    if negatives == 0 or negatives == 8:
        return 0
    total = 0
    for t in range(6):
        inside = 0
        for c in range(4):
            if value[TETRAHEDRA[t, c]] < 0:
                inside += 1
        if inside == 1 or inside == 3:
            total += 1
        elif inside == 2:
            total += 2
    return total


@njit(parallel=True, cache=True)
def march(padded, corner, begin, keys, share, known, edge_known):
    """Marching tetrahedra: edge keys (t, 3) of each triangle and position 0-1 along each edge.

    begin (b,) is the first triangle of each block.

    The level set of a piecewise linear function on a simplicial grid whose vertex values are never
    zero is a manifold, so the mesh is one too, and triangles never cross.
    """
    for b in prange(len(padded)):
        used = begin[b]
        value = np.empty(8)
        order = np.empty(4, np.int64)
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    if _cell_triangles(padded, b, i, j, k, value) == 0:
                        continue
                    x = corner[b, 0] + i
                    y = corner[b, 1] + j
                    z = corner[b, 2] + k
                    for t in range(6):
                        inside = 0
                        for c in range(4):
                            if value[TETRAHEDRA[t, c]] < 0:
                                order[inside] = TETRAHEDRA[t, c]
                                inside += 1
                        if inside == 0 or inside == 4:
                            continue
                        outside = inside
                        for c in range(4):
                            if value[TETRAHEDRA[t, c]] >= 0:
                                order[outside] = TETRAHEDRA[t, c]
                                outside += 1
                        if inside == 1:
                            used = _emit(
                                keys, share, edge_known, known, b, i, j, k, used, x, y, z, value,
                                order[0], order[1], order[0], order[2], order[0], order[3],
                            )  # fmt: skip
                        elif inside == 3:
                            used = _emit(
                                keys, share, edge_known, known, b, i, j, k, used, x, y, z, value,
                                order[0], order[3], order[1], order[3], order[2], order[3],
                            )  # fmt: skip
                        else:
                            used = _emit(
                                keys, share, edge_known, known, b, i, j, k, used, x, y, z, value,
                                order[0], order[2], order[0], order[3], order[1], order[3],
                            )  # fmt: skip
                            used = _emit(
                                keys, share, edge_known, known, b, i, j, k, used, x, y, z, value,
                                order[0], order[2], order[1], order[3], order[1], order[2],
                            )  # fmt: skip


@njit(cache=True)
def _emit(keys, share, edge_known, known, b, i, j, k, used, x, y, z, value, a0, a1, b0, b1, c0, c1):
    """Write one triangle, turned so that its normal points from negative to positive."""
    ends = ((a0, a1), (b0, b1), (c0, c1))
    dx, dy, dz = 0, 0, 0
    for n in range(3):
        lo = min(ends[n][0], ends[n][1])
        hi = max(ends[n][0], ends[n][1])
        keys[used, n] = _edge_key(x, y, z, lo, hi)
        share[used, n] = value[lo] / (value[lo] - value[hi])
        both = True
        for corner in (lo, hi):
            if not known[b, i + ((corner >> 2) & 1), j + ((corner >> 1) & 1), k + (corner & 1)]:
                both = False
        edge_known[used, n] = both
        sign = 1 if value[ends[n][0]] < 0 else -1
        dx += sign * (((ends[n][1] >> 2) & 1) - ((ends[n][0] >> 2) & 1))
        dy += sign * (((ends[n][1] >> 1) & 1) - ((ends[n][0] >> 1) & 1))
        dz += sign * ((ends[n][1] & 1) - (ends[n][0] & 1))
    ax, ay, az = _on_edge(a0, a1, value)
    bx, by, bz = _on_edge(b0, b1, value)
    cx, cy, cz = _on_edge(c0, c1, value)
    bx, by, bz, cx, cy, cz = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az
    if (by * cz - bz * cy) * dx + (bz * cx - bx * cz) * dy + (bx * cy - by * cx) * dz < 0:
        keys[used, 1], keys[used, 2] = keys[used, 2], keys[used, 1]
        share[used, 1], share[used, 2] = share[used, 2], share[used, 1]
        edge_known[used, 1], edge_known[used, 2] = edge_known[used, 2], edge_known[used, 1]
    return used + 1


@njit(cache=True, inline="always")
def _on_edge(c, d, value):
    """Where in its cell an edge between two corners goes through the surface."""
    lo, hi = min(c, d), max(c, d)
    s = value[lo] / (value[lo] - value[hi])
    return (
        ((lo >> 2) & 1) * (1 - s) + ((hi >> 2) & 1) * s,
        ((lo >> 1) & 1) * (1 - s) + ((hi >> 1) & 1) * s,
        (lo & 1) * (1 - s) + (hi & 1) * s,
    )
