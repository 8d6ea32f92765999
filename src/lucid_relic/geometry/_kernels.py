"""Compiled loops of the geometry package."""

import numpy as np
from numba import njit, prange

TORN_SLOPE = 5.67  # tan 80°: two neighbours steeper than this against the ray are not one surface
RADIUS = 2  # of the window whose plane describes a pixel
NEAREST = 1.15  # times nearer than the median, beyond which confidence does not rise
MEDIAN_OF_NORMAL = 0.6745  # of the size of a normal variable, in its standard deviations
SMOOTHEST = 0.1  # quantile of the residuals that stands for places that neither bend nor are torn
LANES = 16  # pixels that are worked on side by side
CHUNK = 64  # pixels of a row whose windows are laid out together
ROW = CHUNK + 16  # from row to row of that layout
# The rows of the layout; `_lay_out`, `_whole_windows` and `_surface_of_chunk` say what they hold.
NEARNESS, DEPTH, RAY_X, RAY_Y, COLUMNS, PLANES, RESULTS, ROWS = 0, 5, 10, 13, 16, 22, 28, 34
FIT_SLOPE = 3.73  # tan 75°: pixels steeper than this do not take part in a window's plane


@njit(cache=True, inline="always")
def project(cam, x, y, z):
    """Pixel (u, v) of a camera-frame point; `cam` is `Camera.as_vector`."""
    return _distorted(
        x / z, y / z, cam[0], cam[1], cam[2], cam[3], cam[4], cam[5], cam[6], cam[7], cam[8]
    )  # fmt: skip


@njit(cache=True)
def project_by(table, k, first, x, y, z):
    """`project` by the camera that begins at column `first` of row k; a view of the row would be counted."""
    return _distorted(
        x / z, y / z, table[k, first], table[k, first + 1], table[k, first + 2], table[k, first + 3],
        table[k, first + 4], table[k, first + 5], table[k, first + 6], table[k, first + 7], table[k, first + 8],
    )  # fmt: skip


@njit(cache=True, inline="always")
def _distorted(a, b, fx, fy, cx, cy, k1, k2, p1, p2, k3):
    r2 = a * a + b * b
    radial = 1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))
    ad = a * radial + 2 * p1 * a * b + p2 * (r2 + 2 * a * a)
    bd = b * radial + p1 * (r2 + 2 * b * b) + 2 * p2 * a * b
    return ad * fx + cx, bd * fy + cy


@njit(cache=True, error_model="numpy", forceinline=True)
def _solve3(a, b, c, d, e, f, r0, r1, r2):
    """Solve the symmetric 3×3 system (a b c; b d e; c e f) = (r0 r1 r2); returns (x, y, z, ok)."""
    c00 = d * f - e * e
    c01 = c * e - b * f
    c02 = b * e - c * d
    det = a * c00 + b * c01 + c * c02
    if abs(det) < 1e-30:
        return 0.0, 0.0, 0.0, False
    over = 1.0 / det
    c11 = a * f - c * c
    c12 = b * c - a * e
    c22 = a * d - b * b
    x = (c00 * r0 + c01 * r1 + c02 * r2) * over
    y = (c01 * r0 + c11 * r1 + c12 * r2) * over
    z = (c02 * r0 + c12 * r1 + c22 * r2) * over
    return x, y, z, True


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _lay_out(wide, plane, stride, own, t):
    """Copy what the windows of CHUNK pixels from `own` of wide on hold into rows of t that lie a fixed step apart.

    Nearness and depth five rows high, from RADIUS columns before the pixels to as many after; the rays three rows high.
    What lies beyond comes along, since whole vectors are quicker to copy. Places are unsigned, since a sign would keep the loops from becoming vector code.
    """
    step = np.uint64(ROW)
    row = own - np.uint64(RADIUS) * stride - np.uint64(RADIUS)
    for r in range(np.uint64(2 * RADIUS + 1)):
        to = r * step
        for k in range(step):
            t[np.uint64(NEARNESS * ROW) + to + k] = wide[np.uint64(3) * plane + row + k]
        for k in range(step):
            t[np.uint64(DEPTH * ROW) + to + k] = wide[row + k]
        row += stride
    row = own - stride - np.uint64(RADIUS)
    for r in range(np.uint64(3)):
        to = r * step
        for k in range(step):
            t[np.uint64(RAY_X * ROW) + to + k] = wide[plane + row + k]
        for k in range(step):
            t[np.uint64(RAY_Y * ROW) + to + k] = wide[plane + plane + row + k]
        row += stride


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _whole_windows(t, pitch, aspect, middle):
    """Planes of the windows of a chunk as if all were whole, into the rows of t from PLANES on.

    They are m0, m1, m2 of the plane in inverse depth, edge (0), linked neighbours (8), and whether a window is
    broken (> 0): whole is one in which every depth is there and near the middle one. Sums and extremes are taken
    down the columns first, then along the row.
    """
    one, two, nothing = np.float32(1.0), np.float32(2.0), np.float32(0.0)
    for c in range(CHUNK + 2 * RADIUS):
        up, over, mid = t[NEARNESS * ROW + c], t[(NEARNESS + 1) * ROW + c], t[(NEARNESS + 2) * ROW + c]
        under, down = t[(NEARNESS + 3) * ROW + c], t[(NEARNESS + 4) * ROW + c]
        t[COLUMNS * ROW + c] = up + over + mid + under + down
        t[(COLUMNS + 1) * ROW + c] = two * (down - up) + under - over
        up, over, mid = t[DEPTH * ROW + c], t[(DEPTH + 1) * ROW + c], t[(DEPTH + 2) * ROW + c]
        under, down = t[(DEPTH + 3) * ROW + c], t[(DEPTH + 4) * ROW + c]
        least, most = min(min(over, under), mid), max(max(over, under), mid)
        t[(COLUMNS + 2) * ROW + c], t[(COLUMNS + 3) * ROW + c] = min(min(up, down), least), max(max(up, down), most)
        t[(COLUMNS + 4) * ROW + c], t[(COLUMNS + 5) * ROW + c] = least, most
    far = np.float32((FIT_SLOPE * RADIUS + 4.0) * pitch)
    near = np.float32((FIT_SLOPE + 4.0) * pitch)
    side = 2 * RADIUS + 1
    spread = side * RADIUS * (RADIUS + 1) * side / 3.0  # Σ du² over the window
    across, along = np.float32(1.0 / (middle * spread * pitch)), np.float32(1.0 / (middle * spread * pitch * aspect))
    evenly, per = np.float32(1.0 / (side * side)), np.float32(1.0 / middle)
    for u in range(CHUNK):
        z = t[(DEPTH + RADIUS) * ROW + RADIUS + u]
        a = COLUMNS * ROW + u
        m0 = two * (t[a + 4] - t[a]) + t[a + 3] - t[a + 1]
        m2 = t[a] + t[a + 1] + t[a + 2] + t[a + 3] + t[a + 4]
        a += ROW
        m1 = t[a] + t[a + 1] + t[a + 2] + t[a + 3] + t[a + 4]
        a += ROW
        least = min(min(min(t[a], t[a + 1]), min(t[a + 3], t[a + 4])), t[a + 2])
        a += ROW
        most = max(max(max(t[a], t[a + 1]), max(t[a + 3], t[a + 4])), t[a + 2])
        wider = max(z - least, most - z) - far * z
        a += ROW
        least = min(min(t[a + 1], t[a + 3]), t[a + 2])
        a += ROW
        most = max(max(t[a + 1], t[a + 3]), t[a + 2])
        tighter = max(z - least, most - z) - near * z
        t[PLANES * ROW + u], t[(PLANES + 1) * ROW + u] = z * across * m0, z * along * m1
        t[(PLANES + 2) * ROW + u] = z * per * (m2 * evenly + one) - one
        t[(PLANES + 3) * ROW + u], t[(PLANES + 4) * ROW + u] = nothing, np.float32(8.0)
        t[(PLANES + 5) * ROW + u] = max(wider, tighter)


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _sum_window_rows(wide, plane, own, row, dv, pitch, s):
    """One row, dv below the middle one, of the windows around LANES pixels side by side, into their sums.

    wide holds depth and the two coordinates of the rays, each (h, LANES + w + LANES) flat with zeros at both sides and
    `plane` long; own is where the pixels start in it, row where the first of their neighbours. s (12 · LANES,) holds
    in its rows 0-8 the sums of a least-squares plane, in 9-11 how many neighbours lie beyond a jump, are linked, are
    torn off. Places are unsigned, since a sign would keep the loop from becoming vector code.
    """
    one, nothing = np.float32(1.0), np.float32(0.0)
    tear = np.float32(TORN_SLOPE * pitch * 1.42)
    for k in range(np.uint64(LANES)):
        z0, x0, y0 = wide[own + k], wide[plane + own + k], wide[plane + plane + own + k]
        aa, ab, a1 = s[k], s[np.uint64(LANES) + k], s[np.uint64(2 * LANES) + k]
        bb, b1, count = s[np.uint64(3 * LANES) + k], s[np.uint64(4 * LANES) + k], s[np.uint64(5 * LANES) + k]
        aw, bw, w1 = s[np.uint64(6 * LANES) + k], s[np.uint64(7 * LANES) + k], s[np.uint64(8 * LANES) + k]
        beyond, linked, torn = s[np.uint64(9 * LANES) + k], s[np.uint64(10 * LANES) + k], s[np.uint64(11 * LANES) + k]
        for across in range(2 * RADIUS + 1):
            reach = max(abs(dv), abs(across - RADIUS))
            ring = one if reach == 1 else nothing
            at = row + k + np.uint64(across)
            z = wide[at]
            there = one if z > nothing else nothing
            off = z0 - z
            share = there if abs(off) <= np.float32((FIT_SLOPE * reach + 4.0) * pitch) * z0 else nothing
            beyond += there - share
            linked += ring * there
            torn += ring * there if abs(off) > tear * z0 else nothing
            w = share * off / (z if z > nothing else one)
            a, b = share * (wide[plane + at] - x0), share * (wide[plane + plane + at] - y0)
            aa += a * a
            ab += a * b
            a1 += a
            bb += b * b
            b1 += b
            count += share
            aw += a * w
            bw += b * w
            w1 += w
        s[k], s[np.uint64(LANES) + k], s[np.uint64(2 * LANES) + k] = aa, ab, a1
        s[np.uint64(3 * LANES) + k], s[np.uint64(4 * LANES) + k], s[np.uint64(5 * LANES) + k] = bb, b1, count
        s[np.uint64(6 * LANES) + k], s[np.uint64(7 * LANES) + k], s[np.uint64(8 * LANES) + k] = aw, bw, w1
        s[np.uint64(9 * LANES) + k], s[np.uint64(10 * LANES) + k], s[np.uint64(11 * LANES) + k] = beyond, linked, torn


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _broken_windows(wide, height, stride, v, first, columns, pitch, t):
    """Planes of windows with gaps or jumps, at some columns (k,) of the chunk from column `first` of row v on.

    wide as in `_sum_window_rows`, stride long a row; t as in `_whole_windows`, the fourth row of the planes now tells
    whether an edge is near, the fifth how many neighbours are linked (0: no plane).
    """
    s = np.empty(12 * LANES, np.float32)
    begin = -LANES
    for u in columns:
        if u >= begin + LANES:
            begin = u
            for k in range(12 * LANES):
                s[k] = 0.0
            own = np.uint64(v * stride + first + begin)
            for dv in range(max(-RADIUS, -v), min(RADIUS + 1, height - v)):
                row = np.uint64((v + dv) * stride + first + begin - RADIUS)
                _sum_window_rows(wide, np.uint64(height * stride), own, row, dv, pitch, s)
        k, a = u - begin, PLANES * ROW + u
        linked = s[10 * LANES + k]
        t[a + 3 * ROW], t[a + 4 * ROW] = s[9 * LANES + k], 0.0
        if s[11 * LANES + k] > 0.0 or linked < 5 or s[5 * LANES + k] < 8:
            continue
        aa, ab, a1 = float(s[k]), float(s[LANES + k]), float(s[2 * LANES + k])
        bb, b1, count = float(s[3 * LANES + k]), float(s[4 * LANES + k]), float(s[5 * LANES + k])
        aw, bw, w1 = float(s[6 * LANES + k]), float(s[7 * LANES + k]), float(s[8 * LANES + k])
        m0, m1, m2, ok = _solve3(aa, ab, a1, bb, b1, count, aw, bw, w1)
        if ok:
            t[a], t[a + ROW], t[a + 2 * ROW], t[a + 4 * ROW] = m0, m1, m2, linked


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _surface_of_chunk(t, least):
    """What the pixels of a chunk are worth by their planes, without a branch; least is the square of the least cosine.

    Into the rows of t from RESULTS on: fitted depth, normal (3), residual, confidence, all 0 where there is no surface.
    """
    one, nothing, half = np.float32(1.0), np.float32(0.0), np.float32(0.5)
    for u in range(CHUNK):
        z = t[(DEPTH + RADIUS) * ROW + RADIUS + u]
        x, y = t[(RAY_X + 1) * ROW + RADIUS + u], t[(RAY_Y + 1) * ROW + RADIUS + u]
        mx, my, rest = t[PLANES * ROW + u], t[(PLANES + 1) * ROW + u], t[(PLANES + 2) * ROW + u]
        edge, linked = t[(PLANES + 3) * ROW + u], t[(PLANES + 4) * ROW + u]
        inverse = one + rest
        mz = inverse - mx * x - my * y
        squares = mx * mx + my * my + mz * mz
        cos = inverse * inverse / (squares * (x * x + y * y + one))
        ok = (z > nothing) & (linked > nothing) & (inverse >= half) & (cos >= least)
        off = nothing
        for r in range(3):
            for c in range(RADIUS - 1, RADIUS + 2):
                there = t[(DEPTH + RADIUS - 1 + r) * ROW + c + u]
                # The depth less the plane's there, to first order in the slope over one pixel.
                slope = mx * (t[(RAY_X + r) * ROW + c + u] - x) + my * (t[(RAY_Y + r) * ROW + c + u] - y)
                by = there - z + there * (rest + slope)
                off += by * by if there > nothing else nothing
        per = one / (inverse if ok else one)
        down = -one / np.sqrt(squares if ok else one)
        t[RESULTS * ROW + u] = z * per if ok else nothing
        t[(RESULTS + 1) * ROW + u] = mx * down if ok else nothing
        t[(RESULTS + 2) * ROW + u] = my * down if ok else nothing
        t[(RESULTS + 3) * ROW + u] = mz * down if ok else nothing
        t[(RESULTS + 4) * ROW + u] = np.sqrt(off / (linked + one)) * per if ok else nothing
        t[(RESULTS + 5) * ROW + u] = cos * (np.float32(0.4) if edge > nothing else one) if ok else nothing


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _spread_out(depth, rays, regular, middle):
    """Depth, rays x and y, and, where rays are regular, nearness (middle / depth - 1), each h · (w + 2 · LANES) flat.

    Zeros lie at both sides of every row, and before and after all of it, so that windows and chunks may reach over
    them. Also returns where the first row's first pixel lies.
    """
    height, width = depth.shape
    stride = width + 2 * LANES
    before = RADIUS * stride + LANES
    plane = height * stride
    wide = np.empty(4 * plane + 2 * before + CHUNK, np.float32)
    wide[:before] = 0.0
    wide[4 * plane + before - 2 * LANES :] = 0.0
    flat, lines, columns = depth.ravel(), rays.ravel(), np.uint64(width)
    for v in range(height):
        for k in range(4):
            end = before + k * plane + v * stride + width
            wide[end : end + 2 * LANES] = 0.0
        a, b = np.uint64(before + v * stride), np.uint64(v * width)
        for u in range(columns):
            wide[a + u] = flat[b + u]
        x = a + np.uint64(plane)
        y = x + np.uint64(plane)
        for u in range(columns):
            i = np.uint64(2) * (b + u)
            wide[x + u], wide[y + u] = lines[i], lines[i + np.uint64(1)]
        y += np.uint64(plane)
        for u in range(columns):
            z = flat[b + u]
            there = z if z > np.float32(0.0) and regular else middle
            wide[y + u] = (middle - there) / there
    return wide, before


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _hand_on(t, row, wanted, first, n, to):
    """One row of results, of n pixels of a chunk, into a map from pixel `first` on; 0 where it is not wanted."""
    for k in range(n):
        to[first + k] = t[row * ROW + k] if wanted[first + k] else np.float32(0.0)


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _hand_on_normals(t, wanted, first, n, to):
    """As `_hand_on`, of the three rows that hold normals."""
    nothing = np.float32(0.0)
    for k in range(n):
        u = first + k
        here, i = wanted[u], np.uint64(3) * u
        to[i] = t[(RESULTS + 1) * ROW + k] if here else nothing
        to[i + np.uint64(1)] = t[(RESULTS + 2) * ROW + k] if here else nothing
        to[i + np.uint64(2)] = t[(RESULTS + 3) * ROW + k] if here else nothing


@njit(cache=True, fastmath=True, error_model="numpy", forceinline=True)
def _row_surface(
    wide, before, wanted, v, height, pitch, aspect, regular, middle, min_cos, fitted, normals, confidence, residual
):  # fmt: skip
    """`depth_surface` of row v, chunk by chunk from the first pixel wanted to the last.

    The maps are flat: steps between neighbours that are known beforehand let loops become vector code.
    """
    width = len(wanted) // height
    stride = width + 2 * LANES
    t, broken = np.empty(ROWS * ROW, np.float32), np.empty(CHUNK, np.int64)
    last = width - 1
    while last > 1 and not wanted[v * width + last - 1]:
        last -= 1
    u = 1
    while u < last:
        if not wanted[v * width + u]:
            u += 1
            continue
        n = min(CHUNK, last - u)
        _lay_out(wide, np.uint64(height * stride), np.uint64(stride), np.uint64(before + v * stride + u), t)
        _whole_windows(t, pitch, aspect, middle)
        whole = regular and v >= RADIUS and v < height - RADIUS
        count = 0
        for k in range(n):
            if wanted[v * width + u + k] and not (whole and t[(PLANES + 5) * ROW + k] <= 0.0):
                broken[count] = k
                count += 1
        _broken_windows(wide, height, stride, v, before + u, broken[:count], pitch, t)
        _surface_of_chunk(t, np.float32(min_cos * min_cos))
        first, count = np.uint64(v * width + u), np.uint64(n)
        _hand_on(t, RESULTS, wanted, first, count, fitted)
        _hand_on(t, RESULTS + 4, wanted, first, count, residual)
        _hand_on(t, RESULTS + 5, wanted, first, count, confidence)
        _hand_on_normals(t, wanted, first, count, normals)
        u += n


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def depth_surface(
    depth, wanted, rays, pitch, aspect, regular, middle, min_cos, fitted, normals, confidence, residual
):  # fmt: skip
    """Plane fit of inverse depth in a window at every pixel; see `geometry.depth_map`.

    pitch is the step of the rays from column to column, pitch × aspect from row to row; where they are
    `regular` (no distortion) the moments of a whole window are the same everywhere. middle (float32) is about
    the mean depth, against which steps are taken for precision. fitted, normals, confidence and residual come
    as zeros and stay so where there is no surface.
    """
    wide, before = _spread_out(depth, rays, regular, middle)
    wanted, fitted, normals = wanted.ravel(), fitted.ravel(), normals.ravel()
    confidence, residual, height = confidence.ravel(), residual.ravel(), len(depth)
    for v in prange(1, height - 1):
        _row_surface(
            wide, before, wanted, v, height, pitch, aspect, regular, middle, min_cos, fitted, normals, confidence,
            residual,
        )  # fmt: skip


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def keep_edges(depth, rays, fitted, normals, confidence, residual, scatter, most, reach, out_fitted, out_normals):
    """Give pixels with a bad fit the plane of a neighbour that passes through them and fits, both to `most` mm together."""
    height, width = depth.shape
    for v in prange(height):
        for u in range(width):
            if confidence[v, u] <= 0.0 or residual[v, u] < 1.3 * scatter:
                continue
            best = min(0.8 * residual[v, u] ** 2, most * most)
            z = depth[v, u]
            for dv in range(-reach, reach + 1):
                for du in range(-reach, reach + 1):
                    vv, uu = v + dv, u + du
                    if vv < 0 or uu < 0 or vv >= height or uu >= width or confidence[vv, uu] <= 0.0:
                        continue
                    a, b, c = normals[vv, uu, 0], normals[vv, uu, 1], normals[vv, uu, 2]
                    slope = a * rays[v, u, 0] + b * rays[v, u, 1] + c
                    if slope > -0.05:
                        continue
                    zq = fitted[vv, uu]
                    there = zq * (a * rays[vv, uu, 0] + b * rays[vv, uu, 1] + c) / slope
                    off = (there - z) * slope
                    score = residual[vv, uu] ** 2 + off * off
                    if score < best:
                        best = score
                        out_fitted[v, u] = there
                        out_normals[v, u, 0] = a
                        out_normals[v, u, 1] = b
                        out_normals[v, u, 2] = c


@njit(cache=True)
def extent(mask):
    """First and last row and first and last column of (h, w) with anything in them; all 0 when there is nothing."""
    height, width = mask.shape
    top, bottom, left, right = height, 0, width, 0
    for v in range(height):
        some = False
        for u in range(width):
            some |= mask[v, u]
        if not some:
            continue
        first, last = 0, width - 1
        while first < left and not mask[v, first]:
            first += 1
        while last > right and not mask[v, last]:
            last -= 1
        top, bottom = min(top, v), v
        left, right = min(left, first), max(right, last)
    return (top, bottom, left, right) if top < height else (0, 0, 0, 0)


@njit(cache=True)
def noise_scatter_and_depth(depth, residual, confidence, every, least):
    """Noise of single pixels, median residual and depth of the pixels, every n-th each way, of more than the least confidence.

    The noise is that of neighbours against each other once all that is flat or bends evenly along rows and columns is
    taken out (Immerkær 1996, doi:10.1006/cviu.1996.0060), so that relief is not taken for it; but no less than the least
    tenth of the residuals, since what a device has smoothed errs over more than one pixel, and no more than their median.
    Where most of what is seen has less confidence, the better half of it speaks. Nothing seen: 0, 0, 1.
    """
    height, width = depth.shape
    values = np.empty((4, (height // every + 1) * (width // every + 1)), np.float32)
    count = 0
    for v in range(0, height, every):
        for u in range(0, width, every):
            if confidence[v, u] > 0.0:
                values[0, count], values[1, count], values[2, count] = residual[v, u], depth[v, u], confidence[v, u]
                values[3, count] = _off_neighbours(depth, v, u)
                count += 1
    if count == 0:
        return 0.0, 0.0, 1.0
    least = min(least, np.median(values[2, :count]))
    clear = values[2, :count] >= least
    residuals, offs = values[0, :count][clear], values[3, :count][clear]
    scatter, middle = np.median(residuals), np.median(values[1, :count][clear])
    offs = offs[offs >= 0.0]
    if len(offs) == 0:
        return float(scatter), float(scatter), float(middle)
    noise = max(np.median(offs) / MEDIAN_OF_NORMAL, np.quantile(residuals, SMOOTHEST))
    return float(min(noise, scatter)), float(scatter), float(middle)


@njit(cache=True, error_model="numpy")
def _off_neighbours(depth, v, u):
    """How far (mm, of one pixel's noise) a pixel lies off its eight neighbours; -1 where one of them is missing."""
    height, width = depth.shape
    if v < 1 or u < 1 or v >= height - 1 or u >= width - 1:
        return -1.0
    one = np.float32(1.0)
    a, b, c = depth[v - 1, u - 1], depth[v - 1, u], depth[v - 1, u + 1]
    d, e, f = depth[v, u - 1], depth[v, u], depth[v, u + 1]
    g, h, i = depth[v + 1, u - 1], depth[v + 1, u], depth[v + 1, u + 1]
    if min(min(min(a, b), min(c, d)), min(min(e, f), min(g, min(h, i)))) <= 0.0:
        return -1.0
    corners, sides = one / a + one / c + one / g + one / i, one / b + one / d + one / f + one / h
    total = corners - np.float32(2.0) * sides + np.float32(4.0) / e
    return abs(total) * depth[v, u] ** 2 / 6.0


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def temper(fitted, residual, scatter, middle, confidence):
    """Lower the confidence with distance and where the local plane fits far worse than usual."""
    height, width = fitted.shape
    for v in prange(height):
        for u in range(width):
            if confidence[v, u] > 0.0:
                near = min(middle / max(fitted[v, u], 1e-6), NEAREST)
                off = max(residual[v, u] / max(scatter, 1e-6) - 3.0, 0.0) / 6.0
                confidence[v, u] *= near * near / (1.0 + off * off)


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def twice_fitted(fitted, depth, inverse, most, out):
    """What the plane fits take off a curved surface put back: the depth (h, w) of twice the fit less the fit's own fit.

    inverse is 1 / fitted where there is surface. A pixel keeps its measured depth where its window is not whole, and
    where the correction is over `most` mm, since an edge lies in the window.
    """
    height, width = fitted.shape
    share = np.float32(1.0 / (2 * RADIUS + 1) ** 2)
    for v in prange(height):
        for u in range(width):
            if fitted[v, u] <= 0.0:
                continue
            out[v, u] = depth[v, u]
            if v < RADIUS or u < RADIUS or v >= height - RADIUS or u >= width - RADIUS:
                continue
            total = np.float32(0.0)
            whole = True
            for dv in range(-RADIUS, RADIUS + 1):
                for du in range(-RADIUS, RADIUS + 1):
                    w = inverse[v + dv, u + du]
                    whole &= w > 0.0
                    total += w
            again = np.float32(1.0) / (np.float32(2.0) * inverse[v, u] - share * total)
            if whole and abs(again - fitted[v, u]) < most:
                out[v, u] = again


@njit(parallel=True, cache=True)
def see_through(points, T_camera_object, cam, depth, margin, agree, contradict):
    """Per point: add one where the frame agrees, or where it looked through by more than `margin`."""
    height, width = depth.shape
    R = T_camera_object
    for i in prange(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
        if pz <= 1.0:
            continue
        px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
        py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
        u, v = project(cam, px, py, pz)
        if u < 2 or v < 2 or u > width - 3 or v > height - 3:
            continue
        uu = int(u + 0.5)
        vv = int(v + 0.5)
        if pz < depth[vv, uu] - margin:
            through = True
            for dv in range(-2, 3):
                for du in range(-2, 3):
                    if depth[vv + dv, uu + du] <= 0.0 or pz >= depth[vv + dv, uu + du] - margin:
                        through = False
                        break
                if not through:
                    break
            if through:
                contradict[i] += 1
        elif abs(depth[vv, uu] - pz) < margin:
            agree[i] += 1


@njit(cache=True, inline="always")
def _slot_of(key, slots):
    """Where the search for a cell begins in a table of a power of two of slots."""
    return ((key * -7046029254386353131) >> 24) & (slots - 1)


@njit(cache=True)
def fill_cells(keys, first, table, start, end):
    """Enter the runs of equal keys, which begin at `first`, into the open-addressing table (0 = empty)."""
    for c in range(len(first)):
        key = keys[first[c]] + 1
        slot = _slot_of(key, len(table))
        while table[slot] != 0:
            slot = (slot + 1) & (len(table) - 1)
        table[slot] = key
        start[slot] = first[c]
        end[slot] = first[c + 1] if c + 1 < len(first) else len(keys)


@njit(cache=True)
def find_cell(table, x, y, z):
    """Slot of the cell (x, y, z), or -1 when it is empty."""
    if x < 0 or y < 0 or z < 0:
        return -1
    key = ((x << 42) | (y << 21) | z) + 1
    slot = _slot_of(key, len(table))
    while table[slot] != 0:
        if table[slot] == key:
            return slot
        slot = (slot + 1) & (len(table) - 1)
    return -1


@njit(cache=True, fastmath=True, error_model="numpy")
def nearest_in_cells(x, y, z, max_dist, points, low, cell, table, start, end):
    """Nearest of a grid's points to a place, as its number in the grid's order, or -1 beyond `max_dist`."""
    best, found = np.float32(max_dist * max_dist), -1
    fx, fy, fz = np.float32(x), np.float32(y), np.float32(z)
    # The place's own cell first, then those beyond its nearer sides, unless a nearer point than those is known.
    a, b, c = (x - low[0]) / cell, (y - low[1]) / cell, (z - low[2]) / cell
    i, j, k = int(np.floor(a)), int(np.floor(b)), int(np.floor(c))
    a, b, c = a - i, b - j, c - k
    right, down, deep = a >= 0.5, b >= 0.5, c >= 0.5
    a, b, c = (1.0 - a if right else a) * cell, (1.0 - b if down else b) * cell, (1.0 - c if deep else c) * cell
    a, b, c = np.float32(a * a), np.float32(b * b), np.float32(c * c)
    right, down, deep = 2 * right - 1, 2 * down - 1, 2 * deep - 1
    for corner in range(8):
        p, q, r = corner >> 2, corner >> 1 & 1, corner & 1
        if p * a + q * b + r * c >= best:
            continue
        slot = find_cell(table, i + p * right, j + q * down, k + r * deep)
        if slot < 0:
            continue
        for n in range(start[slot], end[slot]):
            dx, dy, dz = points[n, 0] - fx, points[n, 1] - fy, points[n, 2] - fz
            away = dx * dx + dy * dy + dz * dz
            if away < best:
                best, found = away, n
    return found


@njit(cache=True)
def add_by_group(group, weights, values, sums):
    """Add values (n, c), weighted, to the sums (g, c) of the groups they belong to."""
    for n in range(len(group)):
        for c in range(values.shape[1]):
            sums[group[n], c] += weights[n] * values[n, c]


@njit(cache=True, fastmath=True, error_model="numpy")
def enter_nearest(points, low, cell, around, least, nearest):
    """Enter every point into a table (a, b, c) where it is nearest, `around` cells on either side; least holds the distances."""
    for n in range(len(points)):
        x, y, z = (points[n, 0] - low[0]) / cell, (points[n, 1] - low[1]) / cell, (points[n, 2] - low[2]) / cell
        p, q, r = int(x), int(y), int(z)
        for i in range(p - around, p + around + 1):
            for j in range(q - around, q + around + 1):
                for k in range(r - around, r + around + 1):
                    a, b, c = i + 0.5 - x, j + 0.5 - y, k + 0.5 - z
                    away = np.float32(a * a + b * b + c * c)
                    if away < least[i, j, k]:
                        least[i, j, k] = away
                        nearest[i, j, k] = n


@njit(parallel=True, cache=True, error_model="numpy")
def count_around(places, points, low, cell, table, start, end, radius, count):
    """How many points of a grid with cells of `radius` lie within it of every place."""
    within = np.float32(radius * radius)
    for p in prange(len(places)):
        x, y, z = places[p, 0], places[p, 1], places[p, 2]
        i, j, k = int((x - low[0]) / cell), int((y - low[1]) / cell), int((z - low[2]) / cell)
        held = 0
        for near in range(27):
            slot = find_cell(table, i + near // 9 - 1, j + near // 3 % 3 - 1, k + near % 3 - 1)
            if slot >= 0:
                inside = np.int32(0)
                for n in range(np.uint64(start[slot]), np.uint64(end[slot])):
                    dx, dy, dz = points[n, 0] - x, points[n, 1] - y, points[n, 2] - z
                    inside += np.int32(dx * dx + dy * dy + dz * dz <= within)
                held += inside
        count[p] = held


@njit(parallel=True, cache=True, error_model="numpy")
def neighbours_around(places, points, low, cell, table, start, end, order, radius, begin, index, distance):
    """The points that `count_around` counted, those of place p from begin[p] on, and how far away they are.

    Both are compiled without fast arithmetic, so that they round alike at the border.
    """
    within = np.float32(radius * radius)
    for p in prange(len(places)):
        x, y, z = places[p, 0], places[p, 1], places[p, 2]
        i, j, k = int((x - low[0]) / cell), int((y - low[1]) / cell), int((z - low[2]) / cell)
        at, last = np.uint64(begin[p]), np.uint64(begin[p + 1])
        for near in range(27):
            slot = find_cell(table, i + near // 9 - 1, j + near // 3 % 3 - 1, k + near % 3 - 1)
            if slot < 0:
                continue
            for n in range(np.uint64(start[slot]), np.uint64(end[slot])):
                if at == last:
                    break
                dx, dy, dz = points[n, 0] - x, points[n, 1] - y, points[n, 2] - z
                away = dx * dx + dy * dy + dz * dz
                # Written in any case and kept if near enough: cheaper than a branch that nobody can foresee.
                index[at] = order[n]
                distance[at] = np.sqrt(away)
                at += np.uint64(away <= within)
