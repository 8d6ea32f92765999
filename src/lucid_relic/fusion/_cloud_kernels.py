"""The compiled loop that turns oriented points into the blocks of a signed distance field."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import find_cell, nearest_in_cells

REACH_WIDTHS = 2.0  # of the weights, beyond which a point counts for less than 2 %
LEAST_WEIGHT = 1.2  # of the points around a place, each 1 at it: in the midst of a surface they have seven
BORDER = 0.62  # widths that the middle of the points may lie aside: straight over a border it is 0.56
BEYOND_VOXELS = 1.75  # beside the nearest point, where the points end: the corners of a cell on a sharp edge lie so far
SAME_SIDE = 0.3  # cosine between two normals of one wall
LEAST_OTHER = 0.15  # of the points around an edge lie on its other side; fewer are noise
ALONG_EDGE = 8.0  # power of the cosine that keeps edges: what turns by 30° counts a third


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _told(
    x, y, z, px, py, pz, ax, ay, az, wide, keep_edges,
    points, low, cell, table, start, end, normals, width, quality, colours, out,
):  # fmt: skip
    """What the points around a place (px, py, pz) on a plane (ax, ay, az) tell of the distance at (x, y, z).

    Only those of the same wall count. out gets the distance, the worth of the points, their colour, and how far their middle lies aside (squared). Returns
    whether there are enough of them.
    """
    reach = REACH_WIDTHS * wide
    total = held = strength = mx = my = mz = sx = sy = sz = own = red = green = blue = 0.0
    i = int(np.floor((px - low[0]) / cell - 0.5))
    j = int(np.floor((py - low[1]) / cell - 0.5))
    k = int(np.floor((pz - low[2]) / cell - 0.5))
    for corner in range(8):
        slot = find_cell(table, i + (corner >> 2), j + (corner >> 1 & 1), k + (corner & 1))
        if slot < 0:
            continue
        for m in range(start[slot], end[slot]):
            dx, dy, dz = points[m, 0] - px, points[m, 1] - py, points[m, 2] - pz
            away = dx * dx + dy * dy + dz * dz
            if away > reach * reach:
                continue
            nx, ny, nz = normals[m, 0], normals[m, 1], normals[m, 2]
            facing = ax * nx + ay * ny + az * nz
            if facing < SAME_SIDE:
                continue
            share = np.exp(-away / (width[m] * width[m]))
            if keep_edges:
                share *= facing**ALONG_EDGE
            held += share
            w = share * quality[m]
            total += w
            strength += w / (width[m] * width[m])
            mx += w * points[m, 0]
            my += w * points[m, 1]
            mz += w * points[m, 2]
            sx += w * nx
            sy += w * ny
            sz += w * nz
            own += w * (nx * (x - points[m, 0]) + ny * (y - points[m, 1]) + nz * (z - points[m, 2]))
            red += w * colours[m, 0]
            green += w * colours[m, 1]
            blue += w * colours[m, 2]
    size = np.sqrt(sx * sx + sy * sy + sz * sz)
    if held < LEAST_WEIGHT or size <= 0.0:
        return False
    mx, my, mz = mx / total, my / total, mz / total
    sx, sy, sz = sx / size, sy / size, sz / size
    ex, ey, ez = mx - px, my - py, mz - pz
    along = ex * sx + ey * sy + ez * sz
    out[0] = 0.5 * (sx * (x - mx) + sy * (y - my) + sz * (z - mz) + own / total)
    out[1] = strength
    out[2], out[3], out[4] = red / total, green / total, blue / total
    out[5] = ex * ex + ey * ey + ez * ez - along * along
    return True


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _told_beyond(
    x, y, z, px, py, pz, ax, ay, az, wide,
    points, low, cell, table, start, end, normals, width, quality, colours, out,
):  # fmt: skip
    """As `_told`, around the last point (px, py, pz) before a border or an edge.

    The two sides of an edge are asked apart: over one that juts out what is outside of either is outside, in a groove what is
    inside of either is inside.
    """
    reach = REACH_WIDTHS * wide
    same = other = strength = own = across = off = red = green = blue = 0.0
    i = int(np.floor((px - low[0]) / cell - 0.5))
    j = int(np.floor((py - low[1]) / cell - 0.5))
    k = int(np.floor((pz - low[2]) / cell - 0.5))
    for corner in range(8):
        slot = find_cell(table, i + (corner >> 2), j + (corner >> 1 & 1), k + (corner & 1))
        if slot < 0:
            continue
        for m in range(start[slot], end[slot]):
            dx, dy, dz = points[m, 0] - px, points[m, 1] - py, points[m, 2] - pz
            away = dx * dx + dy * dy + dz * dz
            if away > reach * reach:
                continue
            nx, ny, nz = normals[m, 0], normals[m, 1], normals[m, 2]
            share = np.exp(-away / (width[m] * width[m]))
            plane = nx * (x - points[m, 0]) + ny * (y - points[m, 1]) + nz * (z - points[m, 2])
            strength += share * quality[m] / (width[m] * width[m])
            red += share * colours[m, 0]
            green += share * colours[m, 1]
            blue += share * colours[m, 2]
            if ax * nx + ay * ny + az * nz >= SAME_SIDE:
                same += share
                own += share * plane
            else:
                other += share
                across += share * plane
                off += share * (ax * dx + ay * dy + az * dz)
    total = same + other
    if total < LEAST_WEIGHT or same <= 0.0:
        return False
    out[0] = own / same
    if other > LEAST_OTHER * total:
        juts_out = off < 0.0
        out[0] = max(out[0], across / other) if juts_out else min(out[0], across / other)
    out[1] = strength
    out[2], out[3], out[4] = red / total, green / total, blue / total
    return True


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def fuse_points(
    coords, origin, voxel, truncation, behind, keep_edges,
    near_points, near_low, near_cell, near_table, near_start, near_end, near_normals, near_width,
    points, low, cell, table, start, end, normals, width, quality, colours, distance, weight, colour,
):  # fmt: skip
    """Per voxel of some blocks (b, 3) the signed distance to the surface that the points around it tell.

    The place next to a voxel on the plane of its nearest point is asked: the points around it, weighted by a Gaussian as wide
    as their own `width` (mm), give the distance as the mean of two estimates, to the plane through their middle and to their
    own planes. On a bent surface the one lies too deep by as much as the other lies too high (second order). Where that
    place lies beyond the points, over a border or a sharp edge, those around the nearest point are asked, within `BEYOND_VOXELS`.

    near_points stand for points about a voxel apart, in a grid as coarse as the band is wide. distance, weight (b, 512)
    float32, in widths of the truncation, and colour (b, 512, 3) float32 come as zeros and stay so where nothing is told.
    """
    for b in prange(len(coords)):
        out = np.empty(6)
        x0 = origin[0] + coords[b, 0] * 8 * voxel
        y0 = origin[1] + coords[b, 1] * 8 * voxel
        z0 = origin[2] + coords[b, 2] * 8 * voxel
        for v in range(512):
            x, y, z = x0 + (v >> 6) * voxel, y0 + (v >> 3 & 7) * voxel, z0 + (v & 7) * voxel
            n = nearest_in_cells(
                x, y, z, truncation, near_points, near_low, near_cell, near_table, near_start, near_end
            )
            if n < 0:
                continue
            ax, ay, az = near_normals[n, 0], near_normals[n, 1], near_normals[n, 2]
            bx, by, bz = near_points[n, 0], near_points[n, 1], near_points[n, 2]
            off = ax * (x - bx) + ay * (y - by) + az * (z - bz)
            if off < -behind - voxel:
                continue
            px, py, pz = x - off * ax, y - off * ay, z - off * az
            wide = near_width[n]
            enough = _told(
                x, y, z, px, py, pz, ax, ay, az, wide, keep_edges,
                points, low, cell, table, start, end, normals, width, quality, colours, out,
            )  # fmt: skip
            if not enough or out[5] > (BORDER * wide) ** 2:
                aside = (px - bx) ** 2 + (py - by) ** 2 + (pz - bz) ** 2
                if aside > (BEYOND_VOXELS * voxel) ** 2:
                    continue
                if not _told_beyond(
                    x, y, z, bx, by, bz, ax, ay, az, wide,
                    points, low, cell, table, start, end, normals, width, quality, colours, out,
                ):  # fmt: skip
                    continue
            if out[0] < -behind or out[0] > truncation:
                continue
            distance[b, v] = out[0] / truncation
            weight[b, v] = out[1]
            colour[b, v, 0], colour[b, v, 1], colour[b, v, 2] = out[2], out[3], out[4]


@njit(parallel=True, cache=True)
def join_fields(distance, weight, colour, more, more_weight, more_colour):
    """Join what points tell (as `fuse_points` left it) into the field of the frames, voxel by voxel.

    Where both know a voxel and agree within the band they are averaged by weight, else the nearer surface counts.
    colour (b, 512, 3) uint8 is that of the frames, 0 where they have none.
    """
    for b in prange(len(distance)):
        for v in range(512):
            w, m = weight[b, v], more_weight[b, v]
            if m <= 0.0:
                continue
            share = m / (w + m)
            if w > 0.0 and abs(distance[b, v] - more[b, v]) >= 1.0:
                share = 1.0 if abs(more[b, v]) < abs(distance[b, v]) else 0.0
            if share == 0.0:
                continue
            dark = colour[b, v, 0] == 0 and colour[b, v, 1] == 0 and colour[b, v, 2] == 0
            for c in range(3):
                mixed = more_colour[b, v, c] if dark else (1 - share) * colour[b, v, c] + share * more_colour[b, v, c]
                colour[b, v, c] = np.uint8(min(max(mixed + 0.5, 0.0), 255.0))
            distance[b, v] = (1 - share) * distance[b, v] + share * more[b, v]
            weight[b, v] = w + m
