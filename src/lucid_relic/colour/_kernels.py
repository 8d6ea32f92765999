"""Compiled loops of the atlas: growing charts, laying flat, folds, packing."""

import numpy as np
from numba import njit, prange


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


@njit(cache=True, nogil=True)
def turned_sides(places, at, sides, weight, wanted):
    """The right side (n, 2) of the places that suit all triangles, each turned as it lies now best.

    places (n, 2) mm, at (m, 3) the place of each corner, sides (m, 3, 2) and cotangents (m, 3) across from each corner.
    """
    wanted[:] = 0.0
    for f in range(len(at)):
        a, b = 0.0, 0.0
        for k in range(3):
            i, j = at[f, (k + 1) % 3], at[f, (k + 2) % 3]
            x, y = places[j, 0] - places[i, 0], places[j, 1] - places[i, 1]
            a += weight[f, k] * (sides[f, k, 0] * x + sides[f, k, 1] * y)
            b += weight[f, k] * (sides[f, k, 0] * y - sides[f, k, 1] * x)
        length = max(np.sqrt(a * a + b * b), 1e-20)
        c, s = a / length, b / length
        for k in range(3):
            i, j = at[f, (k + 1) % 3], at[f, (k + 2) % 3]
            x = weight[f, k] * (c * sides[f, k, 0] - s * sides[f, k, 1])
            y = weight[f, k] * (s * sides[f, k, 0] + c * sides[f, k, 1])
            wanted[j, 0] += x
            wanted[j, 1] += y
            wanted[i, 0] -= x
            wanted[i, 1] -= y


@njit(cache=True)
def _apart(uv, f, g):
    """Whether a side of face f, turned left, has all of face g on its right, or only touches it."""
    for k in range(3):
        ax, ay = uv[f, k, 0], uv[f, k, 1]
        dx, dy = uv[f, (k + 1) % 3, 0] - ax, uv[f, (k + 1) % 3, 1] - ay
        slack = 1e-6 * np.sqrt(dx * dx + dy * dy)
        right = True
        for c in range(3):
            if dx * (uv[g, c, 1] - ay) - dy * (uv[g, c, 0] - ax) > slack:
                right = False
                break
        if right:
            return True
    return False


@njit(parallel=True, cache=True)
def find_overlaps(uv, chart_start, faces_sorted, size_u, size_v, conflict):
    """Mark faces that are turned over or overlap an earlier unmarked face of their chart.

    uv (m, 3, 2) from each chart's corner, in cells about as large as a face; charts are `size_u` × `size_v` cells (c,).
    """
    for c in prange(len(chart_start) - 1):
        w, h = size_u[c], size_v[c]
        last = np.full((h, w), -1, np.int64)
        faces = faces_sorted[chart_start[c] : chart_start[c + 1]]
        room = 0
        for f in faces:
            x0, y0, x1, y1 = _cells(uv, f)
            room += (x1 - x0 + 1) * (y1 - y0 + 1)
        held, before = np.empty(room, np.int64), np.empty(room, np.int64)
        used = 0
        for f in faces:
            ax, ay = uv[f, 0]
            area = (uv[f, 1, 0] - ax) * (uv[f, 2, 1] - ay) - (uv[f, 2, 0] - ax) * (uv[f, 1, 1] - ay)
            conflict[f] = area < 0.0
            x0, y0, x1, y1 = _cells(uv, f)
            for y in range(y0, y1 + 1):
                for x in range(x0, x1 + 1):
                    at = last[y, x]
                    while at >= 0 and not conflict[f]:
                        conflict[f] = not _apart(uv, f, held[at]) and not _apart(uv, held[at], f)
                        at = before[at]
            if conflict[f]:
                continue
            for y in range(y0, y1 + 1):
                for x in range(x0, x1 + 1):
                    held[used], before[used] = f, last[y, x]
                    last[y, x] = used
                    used += 1


@njit(cache=True)
def _cells(uv, f):
    """The cells that the rectangle around a face touches: first and last column and row."""
    x0, x1 = min(uv[f, 0, 0], uv[f, 1, 0], uv[f, 2, 0]), max(uv[f, 0, 0], uv[f, 1, 0], uv[f, 2, 0])
    y0, y1 = min(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1]), max(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
    return int(x0), int(y0), int(x1), int(y1)


@njit(cache=True)
def _mark_triangle(mask, uv, f, spread):
    """Mark every texel (half a texel each way) that a triangle touches, and `spread` more to the right and below."""
    rows, columns = mask.shape
    low = min(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
    high = max(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
    for y in range(max(int(np.floor(low)), 0), min(int(np.ceil(high)) + spread, rows - 1) + 1):
        bottom, top = y - spread - 0.5, y + 0.5
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
            for x in range(max(int(np.ceil(x0 - 0.5)), 0), min(int(np.floor(x1 + 0.5)) + spread, columns - 1) + 1):
                mask[y, x] = True


@njit(cache=True)
def _around(mask):
    """The texels (bool) of a picture that a path along free ones joins to its first."""
    rows, columns = mask.shape
    reached = np.zeros((rows, columns), np.bool_)
    stack = np.empty(rows * columns, np.int64)
    stack[0] = 0
    reached[0, 0] = True
    size = 1
    while size > 0:
        size -= 1
        y, x = stack[size] // columns, stack[size] % columns
        for k in range(4):
            yy, xx = y + (k == 0) - (k == 1), x + (k == 2) - (k == 3)
            if yy < 0 or xx < 0 or yy >= rows or xx >= columns or mask[yy, xx] or reached[yy, xx]:
                continue
            reached[yy, xx] = True
            stack[size] = yy * columns + xx
            size += 1
    return reached


@njit(cache=True, nogil=True)
def chart_spans(uv, chart_start, faces_sorted, extent, spread, row, left, right):
    """The texels of every chart as horizontal spans; returns where each chart's begin, or none if too many.

    uv (m, 3, 2) is in texels from each chart's corner: the faces along its border are enough, what they enclose is its
    inside. `row`, `left`, `right` receive the spans.
    """
    count = len(chart_start) - 1
    begin = np.zeros(count + 1, np.int64)
    used = 0
    for c in range(count):
        columns = int(np.ceil(extent[c, 0])) + spread + 1
        rows = int(np.ceil(extent[c, 1])) + spread + 1
        wide = np.zeros((rows + 2, columns + 2), np.bool_)
        mask = wide[1 : rows + 1, 1 : columns + 1]
        for i in range(chart_start[c], chart_start[c + 1]):
            _mark_triangle(mask, uv, faces_sorted[i], spread)
        outside = _around(wide)[1 : rows + 1, 1 : columns + 1]
        for y in range(rows):
            x = 0
            while x < columns:
                if outside[y, x]:
                    x += 1
                    continue
                start = x
                while x < columns and not outside[y, x]:
                    x += 1
                if used == len(row):
                    return begin[:0]
                row[used], left[used], right[used] = y, start, x - 1
                used += 1
        begin[c + 1] = used
    return begin


@njit(cache=True)
def _first_place(run, widest, row, left, right, side, limit):
    """Lowest, then leftmost place (y, x) of a chart given by its spans, below `limit`, else -1, -1."""
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
    """Put charts into a square, each where its middle comes lowest; true when all fit.

    The spans of chart c in way w lie at begin[w, c]…begin[w, c + 1]. `place` (c, 2) receives x, y and
    `way` (c,) which way was taken.
    """
    run = np.empty((side, side + 1), np.int32)
    for y in range(side):
        for x in range(side + 1):
            run[y, x] = side - x
    widest = np.full(side, side, np.int64)
    for c in order:
        best_y, best_x, best_way, lowest = -1, -1, 0, np.inf
        for w in range(len(begin)):
            a, b = begin[w, c], begin[w, c + 1]
            rows = row[b - 1] + 1
            if rows > side or right[a:b].max() >= side:
                continue
            height = _middle(row[a:b], left[a:b], right[a:b])
            limit = int(min(np.ceil(lowest - height) + rows - 1, side))
            y, x = _first_place(run, widest, row[a:b], left[a:b], right[a:b], side, limit)
            if y >= 0:
                best_y, best_x, best_way, lowest = y, x, w, y + height
        if best_y < 0:
            return False
        place[c, 0], place[c, 1], way[c] = best_x, best_y, best_way
        for i in range(begin[best_way, c], begin[best_way, c + 1]):
            _take(run, widest, best_y + row[i], best_x + left[i], best_x + right[i], side)
    return True


@njit(cache=True)
def _middle(row, left, right):
    """Mean row of the texels of spans."""
    total, texels = 0.0, 0.0
    for i in range(len(row)):
        texels += right[i] - left[i] + 1
        total += (right[i] - left[i] + 1) * row[i]
    return total / texels
