"""Compiled loops of fusion: integration, closing by diffusion."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import NEAREST, project

FREE = 1  # a cell that frames looked through
UNKNOWN = 0  # a cell that no frame tells of
HALF_SPAN = 1 << 20  # added to block numbers, which are positive then and fit 21 bits
TILE = 8  # pixels along the side of the squares whose greatest depth is known
FINE, COARSE = 1023, 511  # steps from 0 to 1 of a normal's components in 11 and in 10 bits
ROW = 528  # from row to row of a block's voxels: a power of two apart they crowd into the same lines of the cache
RUN = 512  # pixels of a row that are worked on side by side
MOST = np.float32(NEAREST**2)  # confidence of a pixel at most
HARDLY = np.float32(1e-9)  # times its confidence counts a pixel for voxels far behind it: nothing beside any other
TOLD = np.float32(1e-5)  # weight above which more than that tells of a voxel: 10,000 such pixels come to no more
OPPOSED = np.float32(-25.0 / 127.0)  # cosine below which two normals face away from each other


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
            half = reach_mm / (2.0 * length * block_mm)
            sx = (T[0, 0] * n[0] + T[0, 1] * n[1] + T[0, 2] * n[2]) * half
            sy = (T[1, 0] * n[0] + T[1, 1] * n[1] + T[1, 2] * n[2]) * half
            sz = (T[2, 0] * n[0] + T[2, 1] * n[1] + T[2, 2] * n[2]) * half
            px = (T[0, 0] * x + T[0, 1] * y + T[0, 2] * z + T[0, 3] - origin[0]) / block_mm + HALF_SPAN
            py = (T[1, 0] * x + T[1, 1] * y + T[1, 2] * z + T[1, 3] - origin[1]) / block_mm + HALF_SPAN
            pz = (T[2, 0] * x + T[2, 1] * y + T[2, 2] * z + T[2, 3] - origin[2]) / block_mm + HALF_SPAN
            for s in range(5):
                # Positive, so that cutting off rounds down.
                key = (int(px + (s - 2) * sx) << 42) | (int(py + (s - 2) * sy) << 21) | int(pz + (s - 2) * sz)
                if key != before[s]:
                    used = _insert(table, used, key)
                    before[s] = key
    return used


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _floats_of_run(depth, normals, confidence, rays, turn, first, n, t):
    """Floats of n pixels from pixel `first` on, into rows of t (7 · ROW,); all 0 where nothing is usable.

    Distance of the plane, normal (3) in steps, steps of confidence, nothing (for colour), depth. All arrays are flat:
    steps between neighbours that are known beforehand let the loop become vector code.
    """
    fine, coarse, per_step = np.float32(FINE), np.float32(COARSE), np.float32(255.0) / MOST
    nothing = np.float32(0.0)
    for k in range(n):
        u = first + k
        i, j = np.uint64(2) * u, np.uint64(3) * u
        share, z = confidence[u], depth[u]
        p, q = rays[i], rays[i + np.uint64(1)]
        nx, ny, nz = normals[j], normals[j + np.uint64(1)], normals[j + np.uint64(2)]
        a = np.rint((turn[0] * nx + turn[1] * ny + turn[2] * nz) * fine)
        b = np.rint((turn[3] * nx + turn[4] * ny + turn[5] * nz) * fine)
        c = np.rint((turn[6] * nx + turn[7] * ny + turn[8] * nz) * coarse)
        along = (turn[0] * p + turn[1] * q + turn[2]) * a / fine
        along += (turn[3] * p + turn[4] * q + turn[5]) * b / fine
        along += (turn[6] * p + turn[7] * q + turn[8]) * c / coarse
        there = share > nothing
        t[k] = z * along if there else nothing
        t[ROW + k] = a if there else nothing
        t[2 * ROW + k] = b if there else nothing
        t[3 * ROW + k] = c if there else nothing
        t[4 * ROW + k] = share * per_step if there else nothing
        t[5 * ROW + k] = nothing
        t[6 * ROW + k] = z if there else nothing


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _colours_of_run(image, first, n, limit, trust, t):
    """Colour of n pixels, from the flat image, as one number into the sixth row of t; confidence falls where it is over-exposed."""
    nothing, byte = np.float32(0.0), np.float32(256.0)
    for k in range(n):
        i = np.uint64(3) * (first + k)
        steps = t[4 * ROW + k]
        red, green, blue = (
            np.float32(image[i]),
            np.float32(image[i + np.uint64(1)]),
            np.float32(image[i + np.uint64(2)]),
        )
        t[4 * ROW + k] = steps * trust if (red >= limit) & (green >= limit) & (blue >= limit) else steps
        t[5 * ROW + k] = red + byte * (green + byte * blue) if steps > nothing else nothing


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _words_of_run(t, planes, first, n, out):
    """Three words each of n pixels from their floats t; planes is the same memory as int32. See `packed_surface`."""
    one, half, nothing, most = np.float32(1.0), np.float32(0.5), np.float32(0.0), np.float32(255.0)
    for k in range(n):
        i = np.uint64(3) * (first + k)
        a, b, c = np.int32(t[ROW + k]), np.int32(t[2 * ROW + k]), np.int32(t[3 * ROW + k])
        share = t[4 * ROW + k]
        steps = np.int32(min(max(share + half, one), most) if share > nothing else nothing)
        out[i] = planes[k]
        out[i + np.uint64(1)] = np.int32(a << 21) | np.int32((b & np.int32(0x7FF)) << 10) | (c & np.int32(0x3FF))
        out[i + np.uint64(2)] = np.int32(steps << 24) | np.int32(t[5 * ROW + k])


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _deeper(t, first, n, deepest):
    for k in range(n):
        deepest[first + k] = max(deepest[first + k], t[6 * ROW + k])


@njit(cache=True)
def packed_surface(depth, normals, confidence, rays, R, image, limit, trust, out, tiles):
    """What `integrate` asks of a pixel, side by side, and the greatest usable depth of every tile.

    out (3·(h·w + 1),) int32 holds three words a pixel: the distance of its plane from the camera as a float32; the
    plane's normal along the object's axes, by R (3, 3), in 11, 11 and 10 bits; its confidence (255 steps to MOST) and
    blue, green, red in 8 bits each. All are 0 where nothing is usable, and at the end, which stands for what lies
    outside. The distance is that of the plane with the rounded normal through the pixel's point.
    image (h, w, 3) uint8 may be empty; where all its channels reach `limit`, confidence counts `trust` times.
    """
    height, width = depth.shape
    turn = R.astype(np.float32).ravel()
    depth, normals, confidence = depth.ravel(), normals.ravel(), confidence.ravel()
    rays, image = rays.ravel(), image.ravel()
    t, deepest = np.empty(7 * ROW, np.float32), np.zeros(width, np.float32)
    planes = t.view(np.int32)
    limit, trust = np.float32(limit), np.float32(trust)
    out[3 * height * width :] = 0
    for v in range(height):
        for begin in range(0, width, RUN):
            first, n = np.uint64(v * width + begin), np.uint64(min(RUN, width - begin))
            _floats_of_run(depth, normals, confidence, rays, turn, first, n, t)
            if len(image):
                _colours_of_run(image, first, n, limit, trust, t)
            _words_of_run(t, planes, first, n, out)
            _deeper(t, np.uint64(begin), n, deepest)
        if v % TILE == TILE - 1 or v == height - 1:
            for tile in range(tiles.shape[1]):
                tiles[v // TILE, tile] = deepest[tile * TILE : (tile + 1) * TILE].max()
            deepest[:] = 0.0


@njit(cache=True)
def _hidden(tiles, first, rows, columns, u, v, margin, nearest, behind):
    """True when no tile near (u, v) holds a depth that a block starting at `nearest` could touch.

    The tiles of the shot are rows × columns numbers of `tiles` from `first` on.
    """
    a0 = max(int((v - margin) / TILE), 0)
    a1 = min(int((v + margin) / TILE), rows - 1)
    b0 = max(int((u - margin) / TILE), 0)
    b1 = min(int((u + margin) / TILE), columns - 1)
    for a in range(a0, a1 + 1):
        for b in range(b0, b1 + 1):
            deepest = tiles[first + a * columns + b]
            if deepest > 0.0 and nearest < deepest + behind:
                return False
    return True


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _pixels_of_voxels(offset, x, y, z, cam, plain, width, height, pixel):
    """The pixel (flat index, or h·w outside) that each of the 512 voxels of a block falls on."""
    outside = np.int32(width * height)
    if plain:
        fx, fy = np.float32(cam[0]), np.float32(cam[1])
        cx, cy = np.float32(cam[2] + 0.5), np.float32(cam[3] + 0.5)
        right, bottom = np.float32(width), np.float32(height)
        wide, nothing = np.int32(width), np.float32(0.0)
        for n in range(512):
            inv = np.float32(1.0) / (z + offset[2 * ROW + n])
            u = (x + offset[n]) * inv * fx + cx
            v = (y + offset[ROW + n]) * inv * fy + cy
            inside = (u >= nothing) & (v >= nothing) & (u < right) & (v < bottom)
            flat = np.int32(v) * wide + np.int32(u)
            pixel[n] = flat if inside else outside
    else:
        for n in range(512):
            u, v = project(cam, x + offset[n], y + offset[ROW + n], z + offset[2 * ROW + n])
            inside = u >= -0.5 and v >= -0.5 and u < width - 0.5 and v < height - 0.5
            pixel[n] = np.int32(v + 0.5) * np.int32(width) + np.int32(u + 0.5) if inside else outside


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _fuse_block(s, words, planes, grid, x, y, z, vox, tr, bh, along, shallow, fade, quality, showing):
    """Measurements into the 512 voxels of a block, without a branch, so that the loop becomes vector code.

    words (3 · ROW,) int32, and planes, the same memory as float32, hold in rows what `packed_surface` wrote for the
    voxels' pixels; grid (3 · ROW,) float32 where the voxels are from the block's first, which is at (x, y, z) from the
    camera, along the object's axes. What is told reaches `along` mm behind a surface along the view, so less where it
    is seen at a slant, but `shallow` mm at the least; beyond it, up to `bh` mm, it counts `HARDLY`. s (9 · ROW,)
    float32 holds the voxels' sums of weighted distances and of weights, facing (3), sums of weighted colours (3) and of
    those weights, which are renewed, the last four when the shot is `showing` (1 or 0) colour.
    """
    far, shown = np.float32(3.0) * tr, np.float32(2.0) * vox
    per_fade, per_trunc = np.float32(1.0) / fade, np.float32(1.0) / tr
    one, least, nothing = np.float32(1.0), np.float32(0.02), np.float32(0.0)
    per_fine, per_coarse = np.float32(1.0 / FINE), np.float32(1.0 / COARSE)
    per_share = quality * MOST / np.float32(255.0)
    # One distance for the whole block: it is small beside how far off it lies.
    half = np.float32(3.5) * vox
    cx, cy, cz = x + half, y + half, z + half
    per_away = along / np.sqrt(cx * cx + cy * cy + cz * cz)
    for n in range(512):
        word, last = words[ROW + n], words[2 * ROW + n]
        nx = np.float32(np.int32(word >> 21)) * per_fine
        ny = np.float32(np.int32(np.int32(word << 11) >> 21)) * per_fine
        nz = np.float32(np.int32(np.int32(word << 22) >> 22)) * per_coarse
        c = np.float32(np.int32(np.int32(last >> 24) & np.int32(255))) * per_share
        sdf = nx * (x + grid[n]) + ny * (y + grid[ROW + n]) + nz * (z + grid[2 * ROW + n]) - planes[n]
        # As far behind along the view, not across the surface: past a rim seen at a slant there is air.
        deep = min(max(abs(planes[n]) * per_away, shallow), along)
        near = abs(sdf) < deep
        value = min(sdf * per_trunc, one)
        opposed = near & (nx * s[2 * ROW + n] + ny * s[3 * ROW + n] + nz * s[4 * ROW + n] < OPPOSED)
        closer = abs(value) * s[ROW + n] < abs(s[n])
        ok = (c > nothing) & (sdf >= -bh) & (sdf <= far) & (closer | (not opposed))
        reached = min(max((deep + sdf) * per_fade, least), one) if sdf >= -deep else HARDLY
        share = c * reached if ok else nothing
        stays = nothing if opposed & ok else one
        s[n] = stays * s[n] + share * value
        s[ROW + n] = stays * s[ROW + n] + share
        seen = ok & near
        s[2 * ROW + n] = nx if seen else s[2 * ROW + n]
        s[3 * ROW + n] = ny if seen else s[3 * ROW + n]
        s[4 * ROW + n] = nz if seen else s[4 * ROW + n]
        part = c * c * showing if ok & (abs(sdf) < shown) else nothing
        s[5 * ROW + n] += part * np.float32(np.int32(last & np.int32(255)))
        s[6 * ROW + n] += part * np.float32(np.int32(np.int32(last >> 8) & np.int32(255)))
        s[7 * ROW + n] += part * np.float32(np.int32(np.int32(last >> 16) & np.int32(255)))
        s[8 * ROW + n] += part


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _gather(surface, first, pixel, words):
    """Lay the pixels of a block's voxels out in rows; see `_fuse_block`."""
    for n in range(512):
        i = np.uint64(3 * (first + pixel[n]))
        words[n] = surface[i]
        words[ROW + n] = surface[i + np.uint64(1)]
        words[2 * ROW + n] = surface[i + np.uint64(2)]


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _take_up(s, distance, weight, facing, colour, b):
    """Lay block b out in the rows of s; see `_fuse_block`."""
    for n in range(512):
        s[n] = distance[b, n] * weight[b, n]
        s[ROW + n] = weight[b, n]
    for a in range(3):
        for n in range(512):
            s[(2 + a) * ROW + n] = np.float32(facing[b, a * 512 + n]) * np.float32(1.0 / 127.0)
    for a in range(4):
        for n in range(512):
            s[(5 + a) * ROW + n] = colour[b, a * 512 + n]


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _put_back(s, distance, weight, facing, colour, b):
    """Renew block b from the rows of s."""
    for n in range(512):
        distance[b, n] = s[n] / s[ROW + n] if s[ROW + n] > np.float32(0.0) else np.float32(1.0)
        weight[b, n] = s[ROW + n]
    for a in range(3):
        for n in range(512):
            facing[b, a * 512 + n] = np.int8(np.int32(s[(2 + a) * ROW + n] * np.float32(127.0)))
    for a in range(4):
        for n in range(512):
            colour[b, a * 512 + n] = s[(5 + a) * ROW + n]


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _in_sight(T, cam, lay, tiles, x, y, z, voxel, trunc, behind):
    """True when a shot may say something of a block with its middle at (x, y, z); see `integrate`."""
    reach = voxel * 6.1 + trunc
    cx = T[0, 0] * x + T[0, 1] * y + T[0, 2] * z + T[0, 3]
    cy = T[1, 0] * x + T[1, 1] * y + T[1, 2] * z + T[1, 3]
    cz = T[2, 0] * x + T[2, 1] * y + T[2, 2] * z + T[2, 3]
    if cz < reach:
        return False
    u, v = project(cam, cx, cy, cz)
    margin = reach * cam[0] / cz
    if u < -margin or v < -margin or u > lay[0] + margin or v > lay[1] + margin:
        return False
    nearest = cz - voxel * 6.1
    return not _hidden(tiles, lay[3], lay[4], lay[5], u, v, voxel * 6.1 * cam[0] / nearest + 1.0, nearest, 3.0 * behind)


@njit(cache=True, fastmath=True, error_model="numpy")
def _fuse_shots_into(
    b, shots, coords, distance, weight, facing, colour, origin, voxel, trunc, behind, along, shallow, fade,
    poses, offsets, grid, cams, qualities, layout, surface, tiles,
):  # fmt: skip
    """Fuse some shots, in their order, into block b, which is taken up and put back once; see `integrate`."""
    x0 = origin[0] + coords[b, 0] * 8 * voxel
    y0 = origin[1] + coords[b, 1] * 8 * voxel
    z0 = origin[2] + coords[b, 2] * 8 * voxel
    half = voxel * 3.5
    s, words, pixel = np.empty(9 * ROW, np.float32), np.empty(3 * ROW, np.int32), np.empty(512, np.int32)
    planes = words.view(np.float32)
    held = False
    for f in shots:
        T, cam, lay = poses[f], cams[f], layout[f]
        if not _in_sight(T, cam, lay, tiles, x0 + half, y0 + half, z0 + half, voxel, trunc, behind):
            continue
        if not held:
            _take_up(s, distance, weight, facing, colour, b)
            held = True
        x = np.float32(T[0, 0] * x0 + T[0, 1] * y0 + T[0, 2] * z0 + T[0, 3])
        y = np.float32(T[1, 0] * x0 + T[1, 1] * y0 + T[1, 2] * z0 + T[1, 3])
        z = np.float32(T[2, 0] * x0 + T[2, 1] * y0 + T[2, 2] * z0 + T[2, 3])
        _pixels_of_voxels(offsets[f], x, y, z, cam, lay[7] > 0, lay[0], lay[1], pixel)
        _gather(surface, lay[2], pixel, words)
        _fuse_block(
            s, words, planes, grid, np.float32(T[0, 0] * x + T[1, 0] * y + T[2, 0] * z),
            np.float32(T[0, 1] * x + T[1, 1] * y + T[2, 1] * z), np.float32(T[0, 2] * x + T[1, 2] * y + T[2, 2] * z),
            np.float32(voxel), np.float32(trunc), np.float32(behind), np.float32(along), np.float32(shallow),
            np.float32(fade), np.float32(qualities[f]), np.float32(lay[6]),
        )  # fmt: skip
    if held:
        _put_back(s, distance, weight, facing, colour, b)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def integrate(
    blocks, begin, shots, coords, distance, weight, facing, colour, origin, voxel, trunc, behind, along, shallow, fade,
    poses, cams, qualities, layout, surface, tiles,
):  # fmt: skip
    """Fuse some shots into the blocks that they touch (Curless & Levoy 1996), by distance to local planes.

    Block blocks[k] is touched by shots[begin[k]:begin[k + 1]]. poses (f, 4, 4) lead from the object to the cameras,
    cams (f, 9) are `Camera.as_vector`, qualities (f,) what each shot's confidence is multiplied by. layout (f, 8)
    says of each shot its width and height, where its pixels start in surface (from `packed_surface`), where its tiles
    start and how many rows and columns they are, whether its pixels have colour, and whether its lens is plain.
    `facing` (b, 3·512) int8 holds the object normal (× 127; all x, then y, then z) that a voxel was last seen under:
    of two walls facing away from each other the nearer one counts, so that a thin wall is not worn away from its
    back. Weights fall to nothing over `fade` mm before they end, `along` mm behind the surface along the view, but
    `shallow` mm at the least; up to `behind` mm they are `HARDLY`, so that cells have a value at all corners. colour
    (b, 4·512) float32 holds the sums of weighted red, green, blue, and of the weights.
    """
    offsets = np.empty((len(poses), 3 * ROW), np.float32)
    grid = np.empty(3 * ROW, np.float32)
    for n in range(512):
        grid[n], grid[ROW + n], grid[2 * ROW + n] = voxel * (n // 64), voxel * (n // 8 % 8), voxel * (n % 8)
    for f in range(len(poses)):
        T = poses[f]
        for a in range(3):
            for n in range(512):
                offsets[f, a * ROW + n] = T[a, 0] * grid[n] + T[a, 1] * grid[ROW + n] + T[a, 2] * grid[2 * ROW + n]
    for k in prange(len(blocks)):
        _fuse_shots_into(
            blocks[k], shots[begin[k] : begin[k + 1]], coords, distance, weight, facing, colour, origin, voxel, trunc,
            behind, along, shallow, fade, poses, offsets, grid, cams, qualities, layout, surface, tiles,
        )  # fmt: skip


@njit(parallel=True, cache=True)
def mean_colours(colour, out):
    """Bytes (b, 512, 3) of the means whose sums `integrate` left in colour; 0 where there is none."""
    for b in prange(len(colour)):
        for n in range(512):
            per = np.float32(1.0) / max(colour[b, 3 * 512 + n], np.float32(1e-20))
            for a in range(3):
                out[b, n, a] = np.uint8(colour[b, a * 512 + n] * per + np.float32(0.5))


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def count_free(free, enough, origin, cell, T_camera_object, cam, depth, margin):
    """Add one to every cell (dense grid) below `enough` that this frame looked through by more than `margin`."""
    nx, ny, nz = free.shape
    height, width = depth.shape
    R = T_camera_object
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                if free[i, j, k] >= enough:
                    continue
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
                            break
                    if not seen:
                        break
                if seen:
                    free[i, j, k] += 1


@njit(cache=True)
def scatter_blocks(coords, low, distance, weight, field, known):
    """Write sparse blocks into a dense field; `known` marks voxels that something tells of."""
    for b in range(len(coords)):
        for i in range(8):
            x = (coords[b, 0] - low[0]) * 8 + i
            for j in range(8):
                y = (coords[b, 1] - low[1]) * 8 + j
                for k in range(8):
                    n = (i * 8 + j) * 8 + k
                    if weight[b, n] > TOLD:
                        z = (coords[b, 2] - low[2]) * 8 + k
                        field[x, y, z] = distance[b, n]
                        known[x, y, z] = True


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
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
