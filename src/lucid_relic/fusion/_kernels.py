"""Compiled loops of fusion: integration, closing by diffusion, marching tetrahedra."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project

# Six tetrahedra around the diagonal 0-7 of a cell; corner bits are x=4, y=2, z=1 (Kuhn's subdivision).
TETRAHEDRA = np.array([[0, 4, 6, 7], [0, 6, 2, 7], [0, 2, 3, 7], [0, 3, 1, 7], [0, 1, 5, 7], [0, 5, 4, 7]], np.int64)
FREE = 1
UNKNOWN = 0


@njit(cache=True)
def touched_blocks(points, normals, origin, block_mm, reach_mm, keys):
    """Packed keys of the blocks within reach of each point along its normal; returns the count."""
    used = 0
    for i in range(len(points)):
        last = -1
        for s in range(-2, 3):
            bx = int(np.floor((points[i, 0] + normals[i, 0] * reach_mm * s / 2 - origin[0]) / block_mm))
            by = int(np.floor((points[i, 1] + normals[i, 1] * reach_mm * s / 2 - origin[1]) / block_mm))
            bz = int(np.floor((points[i, 2] + normals[i, 2] * reach_mm * s / 2 - origin[2]) / block_mm))
            key = ((bx + 1048576) << 42) | ((by + 1048576) << 21) | (bz + 1048576)
            if key != last:
                keys[used] = key
                used += 1
                last = key
    return used


@njit(parallel=True, cache=True, fastmath=True)
def integrate(
    coords, distance, weight, colour, colour_weight, origin, voxel, trunc, behind, T_camera_object,
    cam, depth, normals, confidence, image, has_image,
):  # fmt: skip
    """Fuse one frame into all blocks it sees (Curless & Levoy 1996), by distance to local planes."""
    height, width = depth.shape
    R = T_camera_object
    half = voxel * 3.5
    reach = voxel * 6.1 + trunc
    for b in prange(len(coords)):
        x0 = origin[0] + coords[b, 0] * 8 * voxel
        y0 = origin[1] + coords[b, 1] * 8 * voxel
        z0 = origin[2] + coords[b, 2] * 8 * voxel
        mx, my, mz = x0 + half, y0 + half, z0 + half
        cx = R[0, 0] * mx + R[0, 1] * my + R[0, 2] * mz + R[0, 3]
        cy = R[1, 0] * mx + R[1, 1] * my + R[1, 2] * mz + R[1, 3]
        cz = R[2, 0] * mx + R[2, 1] * my + R[2, 2] * mz + R[2, 3]
        if cz < reach:
            continue
        u, v = project(cam, cx, cy, cz)
        margin = reach * cam[0] / cz
        if u < -margin or v < -margin or u > width + margin or v > height + margin:
            continue
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    wx = x0 + i * voxel
                    wy = y0 + j * voxel
                    wz = z0 + k * voxel
                    px = R[0, 0] * wx + R[0, 1] * wy + R[0, 2] * wz + R[0, 3]
                    py = R[1, 0] * wx + R[1, 1] * wy + R[1, 2] * wz + R[1, 3]
                    pz = R[2, 0] * wx + R[2, 1] * wy + R[2, 2] * wz + R[2, 3]
                    u, v = project(cam, px, py, pz)
                    if u < 0 or v < 0 or u > width - 1 or v > height - 1:
                        continue
                    uu = int(u + 0.5)
                    vv = int(v + 0.5)
                    c = confidence[vv, uu]
                    if c <= 0.0:
                        continue
                    z = depth[vv, uu]
                    nx = normals[vv, uu, 0]
                    ny = normals[vv, uu, 1]
                    nz = normals[vv, uu, 2]
                    qx = (px / pz + (uu - u) / cam[0]) * z
                    qy = (py / pz + (vv - v) / cam[1]) * z
                    sdf = nx * (px - qx) + ny * (py - qy) + nz * (pz - z)
                    along = z - pz
                    if sdf < -behind or along < -3.0 * behind or sdf > 3.0 * trunc:
                        continue
                    if sdf > trunc:
                        if along < trunc:
                            continue
                        sdf = trunc
                    w = c
                    if sdf < -voxel:
                        w *= max((behind + sdf) / (behind - voxel), 0.02)
                    n = (i * 8 + j) * 8 + k
                    total = weight[b, n] + w
                    distance[b, n] += (sdf / trunc - distance[b, n]) * (w / total)
                    weight[b, n] = total
                    if has_image and abs(sdf) < 2.0 * voxel:
                        cw = c * c
                        ct = colour_weight[b, n] + cw
                        for a in range(3):
                            colour[b, n, a] += (image[vv, uu, a] - colour[b, n, a]) * (cw / ct)
                        colour_weight[b, n] = ct


@njit(parallel=True, cache=True, fastmath=True)
def count_free(free, origin, cell, T_camera_object, cam, depth, margin):
    """Add one to every cell (dense grid) that this frame looked through by more than `margin`."""
    nx, ny, nz = free.shape
    height, width = depth.shape
    R = T_camera_object
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                wx = origin[0] + i * cell
                wy = origin[1] + j * cell
                wz = origin[2] + k * cell
                pz = R[2, 0] * wx + R[2, 1] * wy + R[2, 2] * wz + R[2, 3]
                if pz <= 1.0:
                    continue
                px = R[0, 0] * wx + R[0, 1] * wy + R[0, 2] * wz + R[0, 3]
                py = R[1, 0] * wx + R[1, 1] * wy + R[1, 2] * wz + R[1, 3]
                u, v = project(cam, px, py, pz)
                if u < 1 or v < 1 or u > width - 2 or v > height - 2:
                    continue
                uu = int(u + 0.5)
                vv = int(v + 0.5)
                seen = True
                for dv in range(-1, 2):
                    for du in range(-1, 2):
                        z = depth[vv + dv, uu + du]
                        if z <= 0.0 or pz > z - margin:
                            seen = False
                if seen and free[i, j, k] < 255:
                    free[i, j, k] += 1


@njit(cache=True)
def scatter_blocks(coords, low, distance, weight, field, known):
    """Write sparse blocks into a dense field; `known` marks voxels with weight."""
    for b in range(len(coords)):
        for i in range(8):
            x = (coords[b, 0] - low[0]) * 8 + i
            for j in range(8):
                y = (coords[b, 1] - low[1]) * 8 + j
                for k in range(8):
                    n = (i * 8 + j) * 8 + k
                    if weight[b, n] > 0:
                        z = (coords[b, 2] - low[2]) * 8 + k
                        field[x, y, z] = distance[b, n]
                        known[x, y, z] = True


@njit(parallel=True, cache=True, fastmath=True)
def relax(field, fixed, parity, over):
    """One half-sweep of red-black over-relaxation of Laplace's equation on the cells not fixed."""
    nx, ny, nz = field.shape
    for i in prange(1, nx - 1):
        for j in range(1, ny - 1):
            start = 1 + ((i + j + parity) & 1)
            for k in range(start, nz - 1, 2):
                if not fixed[i, j, k]:
                    mean = (
                        field[i - 1, j, k] + field[i + 1, j, k] + field[i, j - 1, k]
                        + field[i, j + 1, k] + field[i, j, k - 1] + field[i, j, k + 1]
                    ) / 6.0  # fmt: skip
                    field[i, j, k] += over * (mean - field[i, j, k])


@njit(parallel=True, cache=True)
def coarsen(field, fixed, out, out_fixed):
    """Half the resolution: a coarse cell is the mean of its fixed children, fixed if any is."""
    nx, ny, nz = out.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                total = 0.0
                count = 0
                for a in range(2):
                    for b in range(2):
                        for c in range(2):
                            x, y, z = 2 * i + a, 2 * j + b, 2 * k + c
                            if (
                                x < field.shape[0] and y < field.shape[1] and z < field.shape[2]
                                and fixed[x, y, z]
                            ):  # fmt: skip
                                total += field[x, y, z]
                                count += 1
                out_fixed[i, j, k] = count > 0
                out[i, j, k] = total / count if count else 0.0


@njit(parallel=True, cache=True)
def refine(coarse, field, fixed):
    """Fill the cells not fixed by trilinear interpolation of the coarser level."""
    nx, ny, nz = field.shape
    mx, my, mz = coarse.shape
    for i in prange(nx):
        x = min(max((i - 0.5) / 2, 0.0), mx - 1.001)
        ix = int(x)
        fx = x - ix
        for j in range(ny):
            y = min(max((j - 0.5) / 2, 0.0), my - 1.001)
            iy = int(y)
            fy = y - iy
            for k in range(nz):
                if fixed[i, j, k]:
                    continue
                z = min(max((k - 0.5) / 2, 0.0), mz - 1.001)
                iz = int(z)
                fz = z - iz
                total = 0.0
                for a in range(2):
                    wa = fx if a else 1 - fx
                    for b in range(2):
                        wb = fy if b else 1 - fy
                        for c in range(2):
                            wc = fz if c else 1 - fz
                            total += wa * wb * wc * coarse[ix + a, iy + b, iz + c]
                field[i, j, k] = total


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


@njit(cache=True)
def count_triangles(padded):
    """How many triangles `march` will emit for padded blocks (b, 9, 9, 9); NaN = not observed."""
    total = 0
    value = np.empty(8)
    for b in range(len(padded)):
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    total += _cell_triangles(padded, b, i, j, k, value)
    return total


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


@njit(cache=True)
def march(padded, corner, keys, share, known, edge_known):
    """Marching tetrahedra: edge keys (t, 3) of each triangle and position 0-1 along each edge.

    The level set of a piecewise linear function on a simplicial grid whose vertex values are never
    zero is a manifold, so the mesh is one too, and triangles never cross.
    """
    used = 0
    value = np.empty(8)
    order = np.empty(4, np.int64)
    for b in range(len(padded)):
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
                                keys,
                                share,
                                edge_known,
                                known,
                                b,
                                i,
                                j,
                                k,
                                used,
                                x,
                                y,
                                z,
                                value,
                                order[0],
                                order[1],
                                order[0],
                                order[2],
                                order[0],
                                order[3],
                            )
                        elif inside == 3:
                            used = _emit(
                                keys,
                                share,
                                edge_known,
                                known,
                                b,
                                i,
                                j,
                                k,
                                used,
                                x,
                                y,
                                z,
                                value,
                                order[0],
                                order[3],
                                order[1],
                                order[3],
                                order[2],
                                order[3],
                            )
                        else:
                            used = _emit(
                                keys,
                                share,
                                edge_known,
                                known,
                                b,
                                i,
                                j,
                                k,
                                used,
                                x,
                                y,
                                z,
                                value,
                                order[0],
                                order[2],
                                order[0],
                                order[3],
                                order[1],
                                order[3],
                            )
                            used = _emit(
                                keys,
                                share,
                                edge_known,
                                known,
                                b,
                                i,
                                j,
                                k,
                                used,
                                x,
                                y,
                                z,
                                value,
                                order[0],
                                order[2],
                                order[1],
                                order[3],
                                order[1],
                                order[2],
                            )
    return used


@njit(cache=True)
def _emit(keys, share, edge_known, known, b, i, j, k, used, x, y, z, value, a0, a1, b0, b1, c0, c1):
    """Write one triangle, turned so that its normal points from negative to positive."""
    ends = ((a0, a1), (b0, b1), (c0, c1))
    p = np.empty((3, 3))
    for n in range(3):
        lo = min(ends[n][0], ends[n][1])
        hi = max(ends[n][0], ends[n][1])
        s = value[lo] / (value[lo] - value[hi])
        keys[used, n] = _edge_key(x, y, z, lo, hi)
        share[used, n] = s
        both = True
        for corner in (lo, hi):
            if not known[b, i + ((corner >> 2) & 1), j + ((corner >> 1) & 1), k + (corner & 1)]:
                both = False
        edge_known[used, n] = both
        for axis in range(3):
            bit = 2 - axis
            p[n, axis] = ((lo >> bit) & 1) * (1 - s) + ((hi >> bit) & 1) * s
    normal = np.cross(p[1] - p[0], p[2] - p[0])
    direction = np.zeros(3)
    for axis in range(3):
        bit = 2 - axis
        for n in range(3):
            a, c = ends[n]
            sign = 1.0 if value[a] < 0 else -1.0
            direction[axis] += sign * (((c >> bit) & 1) - ((a >> bit) & 1))
    if np.dot(normal, direction) < 0:
        keys[used, 1], keys[used, 2] = keys[used, 2], keys[used, 1]
        share[used, 1], share[used, 2] = share[used, 2], share[used, 1]
        edge_known[used, 1], edge_known[used, 2] = edge_known[used, 2], edge_known[used, 1]
    return used + 1
