"""Compiled loops over how the faces of a mesh hang together."""

import numpy as np
from numba import njit

MANY = 64  # sides of a vertex, as where a fan closes a round hole: beyond it they are sorted


@njit(cache=True, nogil=True)
def side_order(faces, count, order):
    """Sides (face·3 + side) of faces (m, 3) in the order of their ends, the lower number first; equal ones in a row.

    count is one more than the highest vertex number; order (3m,) is filled.
    """
    m = len(faces)
    begin = np.zeros(count + 1, np.int64)
    for f in range(m):
        for k in range(3):
            begin[min(faces[f, k], faces[f, (k + 1) % 3]) + 1] += 1
    for v in range(count):
        begin[v + 1] += begin[v]
    upper = np.empty(3 * m, faces.dtype)
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            low, high = min(a, b), max(a, b)
            at = begin[low]
            begin[low] = at + 1
            order[at] = 3 * f + k
            upper[at] = high
    start = 0
    for v in range(count):
        end = begin[v]
        if end - start > MANY:
            by = np.argsort(upper[start:end], kind="mergesort")
            order[start:end], upper[start:end] = order[start:end][by], upper[start:end][by]
            start = end
            continue
        # The sides of most vertices are few: put in order one by one, which keeps equal ones as they came.
        for i in range(start + 1, end):
            high, side = upper[i], order[i]
            j = i - 1
            while j >= start and upper[j] > high:
                upper[j + 1], order[j + 1] = upper[j], order[j]
                j -= 1
            upper[j + 1], order[j + 1] = high, side
        start = end


@njit(cache=True, inline="always")
def _same_ends(faces, s, t):
    a, b = faces[s // 3, s % 3], faces[s // 3, (s % 3 + 1) % 3]
    c, d = faces[t // 3, t % 3], faces[t // 3, (t % 3 + 1) % 3]
    return min(a, b) == min(c, d) and max(a, b) == max(c, d)


@njit(cache=True, nogil=True)
def number_sides(faces, order, edges, counts, edge_of):
    """Number the edges in the order of their sides; fills edges (e, 2), counts (e,) and edge_of (m, 3); how many there are."""
    used = -1
    for i in range(len(order)):
        s = order[i]
        f, k = s // 3, s % 3
        if i == 0 or not _same_ends(faces, order[i - 1], s):
            used += 1
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            edges[used, 0], edges[used, 1] = min(a, b), max(a, b)
            counts[used] = 0
        counts[used] += 1
        edge_of[f, k] = used
    return used + 1


@njit(cache=True, nogil=True)
def pair_sides(faces, order, first, second):
    """Sides that lie on each other, of more than two the first in a row: fills first and second; how many there are."""
    used = 0
    for i in range(1, len(order)):
        if _same_ends(faces, order[i - 1], order[i]):
            first[used], second[used] = order[i - 1], order[i]
            used += 1
    return used


@njit(cache=True, inline="always")
def _root(parent, k):
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@njit(cache=True, nogil=True)
def join_corners(faces, first, second, fan):
    """Number (3m,) the fans of corners that sides `first` and `second` (k,), lying on each other, hold together.

    Fans are numbered by their first corner; returns how many there are.
    """
    parent = np.arange(3 * len(faces))
    for i in range(len(first)):
        s, t = first[i], second[i]
        f, g = s // 3, t // 3
        for end in range(2):
            mine = f * 3 + (s % 3 + end) % 3
            here = t % 3
            other = g * 3 + (here if faces[g, here] == faces[f, mine % 3] else (here + 1) % 3)
            a, b = _root(parent, mine), _root(parent, other)
            # The lower corner stays the root, so that it is the first of its fan.
            if a < b:
                parent[b] = a
            else:
                parent[a] = b
    used = 0
    for k in range(len(parent)):
        root = _root(parent, k)
        if root == k:
            fan[k] = used
            used += 1
        else:
            fan[k] = fan[root]
    return used


@njit(cache=True)
def tips(vertices, faces, centres, out):
    """How far (m,) the farthest corner of each face lies from its centre (m, 3)."""
    for f in range(len(faces)):
        most = 0.0
        for k in range(3):
            away = 0.0
            for a in range(3):
                away += (vertices[faces[f, k], a] - centres[f, a]) ** 2
            most = max(most, away)
        out[f] = np.sqrt(most)
