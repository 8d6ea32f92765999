"""Compiled loops of colour: chart labels, packing, rasterising, gathering views."""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project

BEST = 3
GRAZING = 0.2


@njit(cache=True)
def smooth_labels(normals, neighbours, directions, labels, strength, rounds, min_cos):
    """Iterated conditional modes: each face takes the direction that suits it and its neighbours."""
    changed = 0
    for _ in range(rounds):
        changed = 0
        for f in range(len(labels)):
            best = labels[f]
            best_cost = np.inf
            for d in range(len(directions)):
                cos = (
                    normals[f, 0] * directions[d, 0] + normals[f, 1] * directions[d, 1]
                    + normals[f, 2] * directions[d, 2]
                )  # fmt: skip
                if cos < min_cos:
                    continue
                cost = 1.0 - cos
                for k in range(3):
                    n = neighbours[f, k]
                    if n >= 0 and labels[n] != d:
                        cost += strength
                if cost < best_cost - 1e-9:
                    best_cost = cost
                    best = d
            if best != labels[f]:
                labels[f] = best
                changed += 1
        if changed == 0:
            break
    return changed


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
def profiles(uv, chart_start, faces_sorted, offsets, bottom, top, margin):
    """Lowest and highest texel of every column of every chart, widened by `margin`."""
    for c in range(len(chart_start) - 1):
        base, end = offsets[c], offsets[c + 1]
        for i in range(chart_start[c], chart_start[c + 1]):
            f = faces_sorted[i]
            low = min(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
            high = max(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1])
            x0 = int(np.floor(min(uv[f, 0, 0], uv[f, 1, 0], uv[f, 2, 0])))
            x1 = int(np.ceil(max(uv[f, 0, 0], uv[f, 1, 0], uv[f, 2, 0])))
            lo = int(np.floor(low))
            hi = int(np.ceil(high)) + 2 * margin + 1
            for x in range(x0, x1 + 2 * margin + 1):
                k = base + x
                if k < end:
                    bottom[k] = min(bottom[k], lo)
                    top[k] = max(top[k], hi)


@njit(cache=True)
def pack(order, offsets, bottom, top, size, place):
    """Drop charts one by one onto a rising horizon (Lévy et al. 2002); returns the height reached."""
    horizon = np.zeros(size, np.int64)
    reached = 0
    for c in order:
        base = offsets[c]
        width = offsets[c + 1] - base
        if width > size:
            return 1 << 40
        best_x = -1
        best_y = 1 << 40
        best_waste = 1 << 60
        for x in range(size - width + 1):
            y = 0
            for k in range(width):
                if bottom[base + k] <= top[base + k]:
                    y = max(y, horizon[x + k] - bottom[base + k])
                if y > best_y:
                    break
            if y > best_y:
                continue
            waste = 0
            for k in range(width):
                waste += y + bottom[base + k] - horizon[x + k]
            if y < best_y or waste < best_waste:
                best_x, best_y, best_waste = x, y, waste
        place[c, 0] = best_x
        place[c, 1] = best_y
        for k in range(width):
            if bottom[base + k] <= top[base + k]:
                horizon[best_x + k] = best_y + top[base + k]
                reached = max(reached, horizon[best_x + k])
    return reached


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


@njit(parallel=True, cache=True, fastmath=True)
def gather_view(
    points, normals, T_camera_object, cam, depth, confidence, T_colour_depth, colour_cam, image,
    tolerance, weights, colours,
):  # fmt: skip
    """Offer one photograph to every point: it is taken when it is among the point's best three."""
    height, width = depth.shape
    ih, iw = image.shape[0], image.shape[1]
    R = T_camera_object
    C = T_colour_depth
    for i in prange(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        px = R[0, 0] * x + R[0, 1] * y + R[0, 2] * z + R[0, 3]
        py = R[1, 0] * x + R[1, 1] * y + R[1, 2] * z + R[1, 3]
        pz = R[2, 0] * x + R[2, 1] * y + R[2, 2] * z + R[2, 3]
        if pz <= 1.0:
            continue
        u, v = project(cam, px, py, pz)
        if u < 1 or v < 1 or u > width - 2 or v > height - 2:
            continue
        uu = int(u + 0.5)
        vv = int(v + 0.5)
        if confidence[vv, uu] <= 0.0 or abs(depth[vv, uu] - pz) > tolerance:
            continue
        nx = R[0, 0] * normals[i, 0] + R[0, 1] * normals[i, 1] + R[0, 2] * normals[i, 2]
        ny = R[1, 0] * normals[i, 0] + R[1, 1] * normals[i, 1] + R[1, 2] * normals[i, 2]
        nz = R[2, 0] * normals[i, 0] + R[2, 1] * normals[i, 1] + R[2, 2] * normals[i, 2]
        away = np.sqrt(px * px + py * py + pz * pz)
        cos = -(nx * px + ny * py + nz * pz) / away
        if cos < GRAZING:
            continue
        w = cos * cos * confidence[vv, uu] * (100.0 / away)
        slot = 0
        for k in range(1, BEST):
            if weights[i, k] < weights[i, slot]:
                slot = k
        if w <= weights[i, slot]:
            continue
        qx = C[0, 0] * px + C[0, 1] * py + C[0, 2] * pz + C[0, 3]
        qy = C[1, 0] * px + C[1, 1] * py + C[1, 2] * pz + C[1, 3]
        qz = C[2, 0] * px + C[2, 1] * py + C[2, 2] * pz + C[2, 3]
        a, b = project(colour_cam, qx, qy, qz)
        if a < 0 or b < 0 or a > iw - 1.001 or b > ih - 1.001:
            continue
        ia, ib = int(a), int(b)
        fa, fb = a - ia, b - ib
        weights[i, slot] = w
        for c in range(3):
            colours[i, slot, c] = (
                image[ib, ia, c] * (1 - fa) * (1 - fb) + image[ib, ia + 1, c] * fa * (1 - fb)
                + image[ib + 1, ia, c] * (1 - fa) * fb + image[ib + 1, ia + 1, c] * fa * fb
            )  # fmt: skip


@njit(parallel=True, cache=True, fastmath=True)
def blend_views(weights, colours, sharpness, out, seen):
    """Blend the best views in linear light, sharply in favour of the best, glare held down."""
    for i in prange(len(weights)):
        top = max(weights[i, 0], weights[i, 1], weights[i, 2])
        if top <= 0.0:
            continue
        seen[i] = True
        dimmest = np.inf
        for k in range(BEST):
            if weights[i, k] > 0.25 * top:
                dimmest = min(dimmest, colours[i, k, 0] + colours[i, k, 1] + colours[i, k, 2])
        total = 0.0
        r, g, b = 0.0, 0.0, 0.0
        for k in range(BEST):
            if weights[i, k] <= 0.0:
                continue
            bright = colours[i, k, 0] + colours[i, k, 1] + colours[i, k, 2]
            over = max(bright - 1.35 * dimmest - 0.03, 0.0) / (0.25 * dimmest + 0.03)
            w = (weights[i, k] / top) ** sharpness / (1.0 + 4.0 * over * over)
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
