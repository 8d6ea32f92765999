"""Compiled loops of colour: chart labels, packing, rasterising, gathering views."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project

BEST = 4  # the weakest of them only measures how far the others stand out
GRAZING = 0.2
SHADE_LIMIT = 1.1  # in natural logarithms: a correction never exceeds threefold


@njit(cache=True)
def grow_charts(centres, normals, neighbours, seeds, proxies, fold_cost, min_cos, chart, cost):
    """Shortest paths over the faces from all seeds at once (Dijkstra), dearer where a face turns away.

    Each face goes to the chart whose seed reaches it cheapest; faces that turn more than `min_cos` allows
    from a chart's normal are not taken by it and may stay at -1. Already assigned faces (chart >= 0 with
    cost -1) are left alone.
    """
    m = len(chart)
    heap = np.empty(4 * m + len(seeds) + 16)
    item = np.empty(4 * m + len(seeds) + 16, np.int64)
    size = 0
    for k in range(len(seeds)):
        if chart[seeds[k]] < 0:
            chart[seeds[k]] = k
            cost[seeds[k]] = 0.0
            size = _heap_push(heap, item, size, 0.0, seeds[k])
    while size > 0:
        c, f = heap[0], item[0]
        size = _heap_pop(heap, item, size)
        if c > cost[f]:
            continue
        k = chart[f]
        for s in range(3):
            g = neighbours[f, s]
            if g < 0 or cost[g] < 0.0:
                continue
            cos = normals[g, 0] * proxies[k, 0] + normals[g, 1] * proxies[k, 1] + normals[g, 2] * proxies[k, 2]
            if cos < min_cos:
                continue
            dx = centres[f, 0] - centres[g, 0]
            dy = centres[f, 1] - centres[g, 1]
            dz = centres[f, 2] - centres[g, 2]
            away = 1.0 - cos
            total = c + np.sqrt(dx * dx + dy * dy + dz * dz) * (1.0 + fold_cost * away * away)
            if total < cost[g]:
                cost[g] = total
                chart[g] = k
                size = _heap_push(heap, item, size, total, g)


@njit(cache=True)
def _heap_push(heap, item, size, key, value):
    i = size
    while i > 0:
        parent = (i - 1) // 2
        if heap[parent] <= key:
            break
        heap[i], item[i] = heap[parent], item[parent]
        i = parent
    heap[i], item[i] = key, value
    return size + 1


@njit(cache=True)
def _heap_pop(heap, item, size):
    size -= 1
    key, value = heap[size], item[size]
    i = 0
    while True:
        child = 2 * i + 1
        if child >= size:
            break
        if child + 1 < size and heap[child + 1] < heap[child]:
            child += 1
        if heap[child] >= key:
            break
        heap[i], item[i] = heap[child], item[child]
        i = child
    heap[i], item[i] = key, value
    return size


@njit(cache=True)
def straighten(normals, neighbours, proxies, min_cos, chart, rounds):
    """Give a face the chart that two of its neighbours share, where it faces alike: smooths borders."""
    for _ in range(rounds):
        changed = 0
        for f in range(len(chart)):
            a, b, c = neighbours[f, 0], neighbours[f, 1], neighbours[f, 2]
            la = chart[a] if a >= 0 else -1
            lb = chart[b] if b >= 0 else -2
            lc = chart[c] if c >= 0 else -3
            want = -1
            if la == lb or la == lc:
                want = la
            elif lb == lc:
                want = lb
            if want < 0 or want == chart[f]:
                continue
            cos = normals[f, 0] * proxies[want, 0] + normals[f, 1] * proxies[want, 1] + normals[f, 2] * proxies[want, 2]
            if cos >= min_cos:
                chart[f] = want
                changed += 1
        if changed == 0:
            break


@njit(cache=True)
def find_overlaps(uv, chart_start, faces_sorted, size_u, size_v, conflict):
    """Mark faces whose texels an earlier face of the same chart has taken; uv (m, 3, 2) in texels."""
    for c in range(len(chart_start) - 1):
        w, h = size_u[c], size_v[c]
        taken = np.full((h + 1, w + 1), -1, np.int32)
        for i in range(chart_start[c], chart_start[c + 1]):
            f = faces_sorted[i]
            ax, ay = uv[f, 0]
            bx, by = uv[f, 1]
            cx, cy = uv[f, 2]
            area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
            if area <= 1e-12:
                conflict[f] = True
                continue
            x0, x1 = int(np.floor(min(ax, bx, cx))), int(np.ceil(max(ax, bx, cx)))
            y0, y1 = int(np.floor(min(ay, by, cy))), int(np.ceil(max(ay, by, cy)))
            for y in range(max(y0, 0), min(y1, h) + 1):
                for x in range(max(x0, 0), min(x1, w) + 1):
                    px, py = float(x), float(y)
                    s = ((bx - px) * (cy - py) - (cx - px) * (by - py)) / area
                    t = ((cx - px) * (ay - py) - (ax - px) * (cy - py)) / area
                    if s < 0.02 or t < 0.02 or s + t > 0.98:
                        continue
                    if taken[y, x] >= 0:
                        conflict[f] = True
                    else:
                        taken[y, x] = f


@njit(cache=True)
def _mark_triangle(mask, uv, f, margin):
    """Mark every texel of a chart's mask within `margin` (a square) of a triangle."""
    rows, columns = mask.shape
    low = min(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
    high = max(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
    for y in range(max(int(np.floor(low)), 0), min(int(np.ceil(high)) + 2 * margin, rows - 1) + 1):
        bottom, top = y - 2 * margin - 0.5, y + 0.5
        x0, x1 = np.inf, -np.inf
        for k in range(3):
            ax, ay = uv[f, k, 0], uv[f, k, 1]
            bx, by = uv[f, (k + 1) % 3, 0], uv[f, (k + 1) % 3, 1]
            if ay > by:
                ax, ay, bx, by = bx, by, ax, ay
            if by < bottom or ay > top:
                continue
            p, q = ax, bx
            if by > ay:
                p = ax + (bx - ax) * (max(bottom, ay) - ay) / (by - ay)
                q = ax + (bx - ax) * (min(top, by) - ay) / (by - ay)
            x0, x1 = min(x0, p, q), max(x1, p, q)
        if x0 <= x1:
            for x in range(max(int(np.floor(x0)), 0), min(int(np.ceil(x1)) + 2 * margin, columns - 1) + 1):
                mask[y, x] = True


@njit(cache=True)
def chart_spans(uv, chart_start, faces_sorted, extent, margin, row, left, right):
    """The texels of every chart as horizontal spans; returns where each chart's begin, or none if too many.

    uv (m, 3, 2) is in texels from each chart's corner; `row`, `left`, `right` receive the spans.
    """
    count = len(chart_start) - 1
    begin = np.zeros(count + 1, np.int64)
    used = 0
    for c in range(count):
        columns = int(np.ceil(extent[c, 0])) + 2 * margin + 1
        mask = np.zeros((int(np.ceil(extent[c, 1])) + 2 * margin + 1, columns), np.bool_)
        for i in range(chart_start[c], chart_start[c + 1]):
            _mark_triangle(mask, uv, faces_sorted[i], margin)
        for y in range(mask.shape[0]):
            x = 0
            while x < columns:
                if not mask[y, x]:
                    x += 1
                    continue
                start = x
                while x < columns and mask[y, x]:
                    x += 1
                if used == len(row):
                    return begin[:0]
                row[used], left[used], right[used] = y, start, x - 1
                used += 1
        begin[c + 1] = used
    return begin


@njit(cache=True)
def _first_place(run, widest, row, left, right, side, limit):
    """Lowest, then leftmost place (y, x) of a chart given by its spans that stays below `limit`, else -1, -1."""
    n = len(row)
    longest, most, rows = 0, 0, 0
    for i in range(n):
        if right[i] - left[i] > right[longest] - left[longest]:
            longest = i
        most = max(most, right[i])
        rows = max(rows, row[i] + 1)
    need = right[longest] - left[longest] + 1
    hint = longest
    for y in range(min(limit, side) - rows + 1):
        if widest[y + row[longest]] < need:
            continue
        x = 0
        while x + most < side:
            moved = False
            for k in range(-1, n):
                i = hint if k < 0 else k
                p = x + left[i]
                line = y + row[i]
                free = run[line, p]
                if free < right[i] - left[i] + 1:
                    # Jump behind what is in the way: past the free run and the taken texels after it.
                    q = p + abs(free)
                    if free > 0 and q < side:
                        q -= run[line, q]
                    x += q - p
                    hint = i
                    moved = True
                    break
            if not moved:
                return y, x
    return -1, -1


@njit(cache=True)
def _take(run, widest, line, x0, x1, side):
    """Take texels x0…x1 of a line and renew its runs: free texels to the right, or minus the taken ones."""
    for x in range(x0, x1 + 1):
        run[line, x] = 0
    free, taken = 0, 0
    widest[line] = 0
    for x in range(side - 1, -1, -1):
        if run[line, x] <= 0:
            free = 0
            taken += 1
            run[line, x] = -taken
        else:
            taken = 0
            free += 1
            run[line, x] = free
            widest[line] = max(widest[line], free)


@njit(cache=True)
def pack(order, begin, row, left, right, side, place, way):
    """Put charts into a square, each at its lowest free place, holes included; true when all fit.

    The spans of chart c in way w lie at begin[w, c]…begin[w, c + 1]. `place` (c, 2) receives x, y and
    `way` (c,) which way was taken.
    """
    run = np.empty((side, side + 1), np.int32)
    for y in range(side):
        for x in range(side + 1):
            run[y, x] = side - x
    widest = np.full(side, side, np.int64)
    for c in order:
        best_y, best_x, best_way, best_top = -1, -1, 0, side + 1
        for w in range(len(begin)):
            a, b = begin[w, c], begin[w, c + 1]
            if row[b - 1] >= side:
                continue
            y, x = _first_place(run, widest, row[a:b], left[a:b], right[a:b], side, best_top - 1)
            if y >= 0:
                best_y, best_x, best_way, best_top = y, x, w, y + row[b - 1] + 1
        if best_y < 0:
            return False
        place[c, 0], place[c, 1], way[c] = best_x, best_y, best_way
        for i in range(begin[best_way, c], begin[best_way, c + 1]):
            _take(run, widest, best_y + row[i], best_x + left[i], best_x + right[i], side)
    return True


@njit(cache=True)
def rasterise(uv, owner, bary, slack):
    """For every texel centre covered by a triangle: its face (or -1) and the weights of corners 1, 2."""
    size = owner.shape[0]
    for f in range(len(uv)):
        ax, ay = uv[f, 0]
        bx, by = uv[f, 1]
        cx, cy = uv[f, 2]
        area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if abs(area) < 1e-12:
            continue
        x0, x1 = int(np.floor(min(ax, bx, cx))), int(np.ceil(max(ax, bx, cx)))
        y0, y1 = int(np.floor(min(ay, by, cy))), int(np.ceil(max(ay, by, cy)))
        for y in range(max(y0, 0), min(y1, size - 1) + 1):
            for x in range(max(x0, 0), min(x1, size - 1) + 1):
                s = ((cx - x) * (ay - y) - (ax - x) * (cy - y)) / area
                t = ((ax - x) * (by - y) - (bx - x) * (ay - y)) / area
                if s < -slack or t < -slack or s + t > 1 + slack:
                    continue
                inside = s >= 0 and t >= 0 and s + t <= 1
                if owner[y, x] < 0 or inside:
                    owner[y, x] = f
                    bary[y, x, 0] = s
                    bary[y, x, 1] = t


@njit(cache=True, inline="always")
def _shade(shade, c, nx, ny):
    """Logarithm of how much brighter a photograph shows a surface of that direction than a facing one."""
    value = shade[c, 0] * nx + shade[c, 1] * ny + shade[c, 2] * nx * nx + shade[c, 3] * nx * ny + shade[c, 4] * ny * ny
    return min(max(value, -SHADE_LIMIT), SHADE_LIMIT)


@njit(cache=True, inline="always")
def _sample(image, a, b, k):
    """Bilinear value of channel k at pixel (a, b)."""
    ia, ib = int(a), int(b)
    fa, fb = a - ia, b - ib
    return (
        image[ib, ia, k] * (1 - fa) * (1 - fb) + image[ib, ia + 1, k] * fa * (1 - fb)
        + image[ib + 1, ia, k] * (1 - fa) * fb + image[ib + 1, ia + 1, k] * fa * fb
    )  # fmt: skip


@njit(cache=True)
def _look(i, points, normals, R, cam, depth, confidence, C, colour_cam, image, tolerance):
    """How a photograph shows point i: weight (0 when it does not), pixel a, b, and direction x, y.

    Scalars only: an array made here would be made for every texel of every photograph.
    """
    height, width = depth.shape
    x, y, z = points[i, 0], points[i, 1], points[i, 2]
    px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
    py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
    pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
    if pz <= 1.0:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    u, v = project(cam, px, py, pz)
    if u < 1 or v < 1 or u > width - 2 or v > height - 2:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    iu, iv = int(u), int(v)
    fu, fv = u - iu, v - iv
    c = (
        confidence[iv, iu] * (1 - fu) * (1 - fv) + confidence[iv, iu + 1] * fu * (1 - fv)
        + confidence[iv + 1, iu] * (1 - fu) * fv + confidence[iv + 1, iu + 1] * fu * fv
    )  # fmt: skip
    uu, vv = int(u + 0.5), int(v + 0.5)
    if c <= 0.0 or confidence[vv, uu] <= 0.0 or abs(depth[vv, uu] - pz) > tolerance:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    nx = R[0, 0] * normals[i, 0] + R[0, 1] * normals[i, 1] + R[0, 2] * normals[i, 2]
    ny = R[1, 0] * normals[i, 0] + R[1, 1] * normals[i, 1] + R[1, 2] * normals[i, 2]
    nz = R[2, 0] * normals[i, 0] + R[2, 1] * normals[i, 1] + R[2, 2] * normals[i, 2]
    away = np.sqrt(px * px + py * py + pz * pz)
    cos = -(nx * px + ny * py + nz * pz) / away
    if cos < GRAZING:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    qx = C[0, 0] * px + C[0, 1] * py + C[0, 2] * pz + C[0, 3]
    qy = C[1, 0] * px + C[1, 1] * py + C[1, 2] * pz + C[1, 3]
    qz = C[2, 0] * px + C[2, 1] * py + C[2, 2] * pz + C[2, 3]
    a, b = project(colour_cam, qx, qy, qz)
    if qz <= 0.0 or a < 0 or b < 0 or a > image.shape[1] - 1.001 or b > image.shape[0] - 1.001:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    return cos * cos * c * (100.0 / away) * (100.0 / away), a, b, nx, ny


@njit(parallel=True, cache=True, fastmath=True)
def observe_view(
    points, normals, T_camera_object, cam, depth, confidence, T_colour_depth, colour_cam, image,
    tolerance, weights, colours, directions,
):  # fmt: skip
    """What one photograph shows of every point: weight (n,), linear colour (n, 3), direction (n, 2)."""
    for i in prange(len(points)):
        w, a, b, nx, ny = _look(
            i, points, normals, T_camera_object, cam, depth, confidence, T_colour_depth, colour_cam, image, tolerance
        )
        weights[i] = w
        if w > 0.0:
            directions[i, 0], directions[i, 1] = nx, ny
            for c in range(3):
                colours[i, c] = _sample(image, a, b, c)


@njit(parallel=True, cache=True, fastmath=True)
def gather_view(
    points, normals, T_camera_object, cam, depth, confidence, T_colour_depth, colour_cam, image,
    tolerance, gain, shade, weights, colours,
):  # fmt: skip
    """Offer one photograph to every point: it is taken when it is among the point's best.

    gain (3,) and shade (3, 5), logarithms, are taken off its colour; see `colour.even_light`.
    """
    for i in prange(len(points)):
        w, a, b, nx, ny = _look(
            i, points, normals, T_camera_object, cam, depth, confidence, T_colour_depth, colour_cam, image, tolerance
        )
        if w <= 0.0:
            continue
        slot = 0
        for k in range(1, BEST):
            if weights[i, k] < weights[i, slot]:
                slot = k
        if w <= weights[i, slot]:
            continue
        weights[i, slot] = w
        for c in range(3):
            colours[i, slot, c] = _sample(image, a, b, c) * np.exp(-gain[c] - _shade(shade, c, nx, ny))


@njit(parallel=True, cache=True, fastmath=True)
def blend_views(weights, colours, sharpness, out, seen):
    """Blend the best views in linear light, sharply in favour of the best, glare held down.

    Every weight is lowered by that of the weakest kept view, so that a view fades out before another
    takes its place and no seam shows where the choice changes.
    """
    for i in prange(len(weights)):
        top, least = 0.0, np.inf
        for k in range(BEST):
            top = max(top, weights[i, k])
            least = min(least, weights[i, k])
        if top <= 0.0:
            continue
        seen[i] = True
        dimmest = np.inf
        for k in range(BEST):
            if weights[i, k] > 0.25 * top:
                dimmest = min(dimmest, colours[i, k, 0] + colours[i, k, 1] + colours[i, k, 2])
        floor = (least / top) ** sharpness
        total = 0.0
        r, g, b = 0.0, 0.0, 0.0
        for k in range(BEST):
            if weights[i, k] <= 0.0:
                continue
            bright = colours[i, k, 0] + colours[i, k, 1] + colours[i, k, 2]
            over = max(bright - 1.25 * dimmest - 0.03, 0.0) / (0.25 * dimmest + 0.03)
            w = max((weights[i, k] / top) ** sharpness - floor, 1e-3) / (1.0 + 4.0 * over * over)
            r += w * colours[i, k, 0]
            g += w * colours[i, k, 1]
            b += w * colours[i, k, 2]
            total += w
        out[i, 0] = r / total
        out[i, 1] = g / total
        out[i, 2] = b / total


@njit(parallel=True, cache=True)
def widen(image, filled, out, out_filled):
    """One ring of dilation: an empty texel takes the mean of its filled neighbours."""
    size = image.shape[0]
    for y in prange(size):
        for x in range(size):
            if filled[y, x]:
                out[y, x] = image[y, x]
                out_filled[y, x] = True
                continue
            total = np.zeros(3)
            count = 0
            for dy in range(-1, 2):
                for dx in range(-1, 2):
                    yy, xx = y + dy, x + dx
                    if 0 <= yy < size and 0 <= xx < size and filled[yy, xx]:
                        for c in range(3):
                            total[c] += image[yy, xx, c]
                        count += 1
            if count:
                for c in range(3):
                    out[y, x, c] = total[c] / count
                out_filled[y, x] = True
