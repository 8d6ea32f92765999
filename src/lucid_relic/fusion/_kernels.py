"""Compiled loops of fusion: integration, closing by diffusion, marching tetrahedra."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project

# Six tetrahedra around the diagonal 0-7 of a cell; corner bits are x=4, y=2, z=1 (Kuhn's subdivision).
TETRAHEDRA = np.array([[0, 4, 6, 7], [0, 6, 2, 7], [0, 2, 3, 7], [0, 3, 1, 7], [0, 1, 5, 7], [0, 5, 4, 7]], np.int64)
FREE = 1
UNKNOWN = 0


@njit(cache=True, inline="always")
def _insert(table, used, key):
    """Put a key into an open-addressing set (0 = empty); returns how many it holds."""
    mask = len(table) - 1
    slot = (key * -7046029254386353131 >> 20) & mask
    while table[slot] != 0:
        if table[slot] == key:
            return used
        slot = (slot + 1) & mask
    table[slot] = key
    return used + 1


@njit(cache=True)
def touched_blocks(depth, keep, rays, stride, T_object_camera, origin, block_mm, reach_mm, table, used):
    """Add the blocks within reach of a frame's points, along their normals, to the set `table`.

    Returns the number of keys held, or -1 when the table is more than half full.
    """
    height, width = depth.shape
    T = T_object_camera
    n = np.empty(3)
    before = np.zeros(5, np.int64)
    for v in range(stride, height - stride, stride):
        for u in range(stride, width - stride, stride):
            z = depth[v, u]
            if z <= 0.0 or not keep[v, u]:
                continue
            if 2 * used > len(table):
                return -1
            a, b = depth[v, u + stride], depth[v, u - stride]
            c, d = depth[v + stride, u], depth[v - stride, u]
            limit = 6.0 * stride * z * abs(rays[v, u + 1, 0] - rays[v, u, 0]) + 1e-6
            n[0], n[1], n[2] = rays[v, u, 0], rays[v, u, 1], 1.0
            if a > 0 and b > 0 and c > 0 and d > 0 and abs(a - b) < 2 * limit and abs(c - d) < 2 * limit:
                ax = rays[v, u + stride, 0] * a - rays[v, u - stride, 0] * b
                ay = rays[v, u + stride, 1] * a - rays[v, u - stride, 1] * b
                az = a - b
                bx = rays[v + stride, u, 0] * c - rays[v - stride, u, 0] * d
                by = rays[v + stride, u, 1] * c - rays[v - stride, u, 1] * d
                bz = c - d
                n[0], n[1], n[2] = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
            length = np.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2])
            x, y = rays[v, u, 0] * z, rays[v, u, 1] * z
            for s in range(5):
                step = reach_mm * (s - 2) / 2 / length
                px, py, pz = x + n[0] * step, y + n[1] * step, z + n[2] * step
                bx_ = int(np.floor((T[0, 0] * px + T[0, 1] * py + T[0, 2] * pz + T[0, 3] - origin[0]) / block_mm))
                by_ = int(np.floor((T[1, 0] * px + T[1, 1] * py + T[1, 2] * pz + T[1, 3] - origin[1]) / block_mm))
                bz_ = int(np.floor((T[2, 0] * px + T[2, 1] * py + T[2, 2] * pz + T[2, 3] - origin[2]) / block_mm))
                key = ((bx_ + 1048576) << 42) | ((by_ + 1048576) << 21) | (bz_ + 1048576)
                if key != before[s]:
                    used = _insert(table, used, key)
                    before[s] = key
    return used


@njit(cache=True)
def packed_surface(depth, normals, confidence, out, tile, tiles):
    """Depth, normal and confidence side by side (h, w, 5), and the greatest usable depth of every tile."""
    height, width = depth.shape
    for v in range(height):
        for u in range(width):
            c = confidence[v, u]
            out[v, u, 4] = c
            if c <= 0.0:
                continue
            out[v, u, 0] = depth[v, u]
            out[v, u, 1] = normals[v, u, 0]
            out[v, u, 2] = normals[v, u, 1]
            out[v, u, 3] = normals[v, u, 2]
            a, b = v // tile, u // tile
            if depth[v, u] > tiles[a, b]:
                tiles[a, b] = depth[v, u]


@njit(cache=True)
def distrust_clipped(image, limit, trust, confidence):
    """Lower the confidence of pixels whose photograph is clipped in all channels."""
    for v in range(image.shape[0]):
        for u in range(image.shape[1]):
            if image[v, u, 0] >= limit and image[v, u, 1] >= limit and image[v, u, 2] >= limit:
                confidence[v, u] *= trust


@njit(cache=True, inline="always")
def _hidden(tiles, tile, u, v, margin, nearest, behind):
    """True when no tile near (u, v) holds a depth that a block starting at `nearest` could touch."""
    rows, columns = tiles.shape
    a0 = max(int((v - margin) / tile), 0)
    a1 = min(int((v + margin) / tile), rows - 1)
    b0 = max(int((u - margin) / tile), 0)
    b1 = min(int((u + margin) / tile), columns - 1)
    for a in range(a0, a1 + 1):
        for b in range(b0, b1 + 1):
            if tiles[a, b] > 0.0 and nearest < tiles[a, b] + behind:
                return False
    return True


@njit(parallel=True, cache=True, fastmath=True)
def integrate(
    chosen, coords, distance, weight, facing, colour, colour_weight, origin, voxel, trunc, behind, fade,
    T_camera_object, cam, plain, surface, tiles, tile, image, has_image, quality,
):  # fmt: skip
    """Fuse one frame into the chosen blocks (Curless & Levoy 1996), by distance to local planes.

    surface (h, w, 5) float32 holds depth, normal and confidence; `facing` (b, 512, 3) int8 the object
    normal that a voxel was last seen under: of two walls facing away from each other the nearer one
    counts, so that a thin wall is not worn away from its back. Weights fall to nothing over `fade` mm
    behind the surface.
    """
    height, width = surface.shape[0], surface.shape[1]
    R = T_camera_object.astype(np.float32)
    vox = np.float32(voxel)
    fx, fy = np.float32(cam[0]), np.float32(cam[1])
    cx0, cy0 = np.float32(cam[2]), np.float32(cam[3])
    half = voxel * 3.5
    reach = voxel * 6.1 + trunc
    far = np.float32(3.0 * trunc)
    tr = np.float32(trunc)
    bh = np.float32(behind)
    for n_block in prange(len(chosen)):
        b = chosen[n_block]
        x0 = origin[0] + coords[b, 0] * 8 * voxel
        y0 = origin[1] + coords[b, 1] * 8 * voxel
        z0 = origin[2] + coords[b, 2] * 8 * voxel
        mx, my, mz = x0 + half, y0 + half, z0 + half
        T = T_camera_object
        cx = T[0, 0] * mx + T[0, 1] * my + T[0, 2] * mz + T[0, 3]
        cy = T[1, 0] * mx + T[1, 1] * my + T[1, 2] * mz + T[1, 3]
        cz = T[2, 0] * mx + T[2, 1] * my + T[2, 2] * mz + T[2, 3]
        if cz < reach:
            continue
        u, v = project(cam, cx, cy, cz)
        margin = reach * cam[0] / cz
        if u < -margin or v < -margin or u > width + margin or v > height + margin:
            continue
        if _hidden(tiles, tile, u, v, voxel * 6.1 * cam[0] / (cz - voxel * 6.1) + 1.0, cz - voxel * 6.1, 3.0 * behind):
            continue
        for i in range(8):
            for j in range(8):
                wx = np.float32(x0 + i * voxel)
                wy = np.float32(y0 + j * voxel)
                wz = np.float32(z0)
                px = R[0, 0] * wx + R[0, 1] * wy + R[0, 2] * wz + R[0, 3] - R[0, 2] * vox
                py = R[1, 0] * wx + R[1, 1] * wy + R[1, 2] * wz + R[1, 3] - R[1, 2] * vox
                pz = R[2, 0] * wx + R[2, 1] * wy + R[2, 2] * wz + R[2, 3] - R[2, 2] * vox
                for k in range(8):
                    px += R[0, 2] * vox
                    py += R[1, 2] * vox
                    pz += R[2, 2] * vox
                    inv = np.float32(1.0) / pz
                    if plain:
                        fu = px * inv * fx + cx0
                        fv = py * inv * fy + cy0
                    else:
                        du, dv = project(cam, px, py, pz)
                        fu = np.float32(du)
                        fv = np.float32(dv)
                    if fu < 0 or fv < 0 or fu > width - 1 or fv > height - 1:
                        continue
                    uu = int(fu + np.float32(0.5))
                    vv = int(fv + np.float32(0.5))
                    c = surface[vv, uu, 4]
                    if c <= 0.0:
                        continue
                    z = surface[vv, uu, 0]
                    along = z - pz
                    if along < np.float32(-3.0) * bh:
                        continue
                    nx = surface[vv, uu, 1]
                    ny = surface[vv, uu, 2]
                    nz = surface[vv, uu, 3]
                    qx = (px * inv + (uu - fu) / fx) * z
                    qy = (py * inv + (vv - fv) / fy) * z
                    sdf = nx * (px - qx) + ny * (py - qy) - nz * along
                    if sdf < -bh or sdf > far:
                        continue
                    if sdf > tr:
                        if along < tr:
                            continue
                        sdf = tr
                    w = c * quality
                    if sdf < -vox:
                        w *= max((bh + sdf) / np.float32(fade), np.float32(0.02))
                    n = (i * 8 + j) * 8 + k
                    total = weight[b, n] + w
                    if abs(sdf) < bh:
                        ox = R[0, 0] * nx + R[1, 0] * ny + R[2, 0] * nz
                        oy = R[0, 1] * nx + R[1, 1] * ny + R[2, 1] * nz
                        oz = R[0, 2] * nx + R[1, 2] * ny + R[2, 2] * nz
                        opposed = ox * facing[b, n, 0] + oy * facing[b, n, 1] + oz * facing[b, n, 2] < np.float32(-25.0)
                        if opposed:
                            if abs(sdf) >= abs(distance[b, n]) * tr:
                                continue
                            total = w
                        facing[b, n, 0] = np.int8(ox * np.float32(127.0))
                        facing[b, n, 1] = np.int8(oy * np.float32(127.0))
                        facing[b, n, 2] = np.int8(oz * np.float32(127.0))
                    distance[b, n] += (sdf / tr - distance[b, n]) * (w / total)
                    weight[b, n] = total
                    if has_image and abs(sdf) < np.float32(2.0) * vox:
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
