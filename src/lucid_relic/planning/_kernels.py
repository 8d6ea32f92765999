"""Compiled loops of planning: space carved by what was looked through, and lines of sight through what is left."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project

BACKGROUND_MM = 1e6  # a depth from which on a look met nothing
STEEPEST = 6.0  # tangent of the slant of what is measured at all
UNSEEN, FREE = 0, 1  # of a cell: nothing is known of it, or a look went through it


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def carve(low, cell, T_camera_grid, cam, stride, fitted, normals, way, count, state, times, square, sides, facing):
    """Take one look (a thinned map) into a grid of cells (x, y, z).

    Cells before what was measured become free, on a slant only those farther before it than it changes within half a
    pixel; a look that met nothing frees nothing that was measured, which may only be too steep for it. Those within a
    cell of it count so many looks: times, the square of its best cosine in 255 steps, and `way`, the bit of the side
    that it came from; facing (x, y, z, 3) sums the normals along the grid's axes.
    """
    T = T_camera_grid
    height, width = fitted.shape
    for x in prange(state.shape[0]):
        for y in range(state.shape[1]):
            for z in range(state.shape[2]):
                a, b, c = low[0] + (x + 0.5) * cell, low[1] + (y + 0.5) * cell, low[2] + (z + 0.5) * cell
                pz = T[2, 0] * a + T[2, 1] * b + T[2, 2] * c + T[2, 3]
                if pz <= 1.0:
                    continue
                px = T[0, 0] * a + T[0, 1] * b + T[0, 2] * c + T[0, 3]
                py = T[1, 0] * a + T[1, 1] * b + T[1, 2] * c + T[1, 3]
                u, v = project(cam, px, py, pz)
                uu, vv = int(u / stride + 0.5), int(v / stride + 0.5)
                if u < 0 or v < 0 or uu >= width or vv >= height:
                    continue
                depth = fitted[vv, uu]
                if depth <= 0.0:
                    continue
                behind = depth - pz
                if behind <= -cell:
                    continue
                n0, n1, n2 = normals[vv, uu, 0], normals[vv, uu, 1], normals[vv, uu, 2]
                length = np.sqrt(px * px + py * py + pz * pz)
                cos = -(n0 * px + n1 * py + n2 * pz) / length
                slant = 0.0
                if cos > 0.0:  # what lies far behind has no slant
                    slant = min(np.sqrt(max(1.0 - cos * cos, 0.0)) / cos, STEEPEST)
                if depth > BACKGROUND_MM and times[x, y, z] > 0:
                    continue
                if behind > cell + slant * 0.5 * stride * depth / cam[0]:
                    state[x, y, z] = FREE
                elif behind <= cell:
                    times[x, y, z] = min(times[x, y, z] + count, 255)
                    square[x, y, z] = max(square[x, y, z], np.uint8(min(max(255.0 * cos * cos, 0.0), 255.0)))
                    sides[x, y, z] |= way
                    for k in range(3):
                        facing[x, y, z, k] += T[0, k] * n0 + T[1, k] * n1 + T[2, k] * n2


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def seen_from(eye, places, normals, low, cell, state, least_cos, out):
    """out (n,) uint8: the square of the cosine (255 steps, at least 1) at which an eye sees places (n, 3), 0 where not.

    A line of sight ends at a cell that is not free; it begins one and a half cells off its place.
    """
    for i in prange(len(places)):
        out[i] = 0
        x, y, z = places[i, 0], places[i, 1], places[i, 2]
        dx, dy, dz = eye[0] - x, eye[1] - y, eye[2] - z
        length = np.sqrt(dx * dx + dy * dy + dz * dz)
        dx, dy, dz = dx / length, dy / length, dz / length
        cos = dx * normals[i, 0] + dy * normals[i, 1] + dz * normals[i, 2]
        if cos < least_cos:
            continue
        x, y, z = x + cell * normals[i, 0], y + cell * normals[i, 1], z + cell * normals[i, 2]
        clear = True
        for step in range(1, 400):
            along = 0.7 * cell * step
            if along >= length:
                break
            a = int(np.floor((x + along * dx - low[0]) / cell))
            b = int(np.floor((y + along * dy - low[1]) / cell))
            c = int(np.floor((z + along * dz - low[2]) / cell))
            if a < 0 or b < 0 or c < 0 or a >= state.shape[0] or b >= state.shape[1] or c >= state.shape[2]:
                break
            if state[a, b, c] != FREE:
                clear = False
                break
        if clear:
            out[i] = max(1, int(255.0 * cos * cos))
