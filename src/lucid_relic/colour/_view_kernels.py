"""Compiled loops of looking: which photographs show a place, and what colour they agree on.

Every loop takes the arrays of `colour.photographs.Photographs` as they stand there, so that a place can ask any
photograph. Scalars only inside: an array made there would be made for every texel of every photograph.
"""

import numpy as np
from numba import njit, prange

from lucid_relic.geometry._kernels import project_by

BEST = 4  # the weakest of them only measures how far the others stand out
CANDIDATES = 3 * BEST  # photographs looked at for each place before the best are taken
GRAZING = 0.2  # cosine: flatter looks smear a texel over many pixels
DEPTH_CAMERA, TO_COLOUR, COLOUR_CAMERA, SHAPE, START = 12, 23, 35, 46, 50  # columns of `Photographs.table`
SHADE_LIMIT = 1.1  # in natural logarithms: a correction never exceeds threefold
# Times the middle of the candidates, and linear light on top: brighter ones are glare.
GLARE_OVER, GLARE_SLACK = 1.25, 0.03
FACES_AT_ONCE = 256  # painted by one thread at a time


@njit(cache=True)
def _look(k, x, y, z, nx, ny, nz, table, depth, trust, tolerance):
    """How photograph k shows a place: weight (0 when it does not), pixel a, b, and direction x, y."""
    weight, a, b = 0.0, 0.0, 0.0
    px = table[k, 0] * x + table[k, 1] * y + table[k, 2] * z + table[k, 3]
    py = table[k, 4] * x + table[k, 5] * y + table[k, 6] * z + table[k, 7]
    pz = table[k, 8] * x + table[k, 9] * y + table[k, 10] * z + table[k, 11]
    sx = table[k, 0] * nx + table[k, 1] * ny + table[k, 2] * nz
    sy = table[k, 4] * nx + table[k, 5] * ny + table[k, 6] * nz
    sz = table[k, 8] * nx + table[k, 9] * ny + table[k, 10] * nz
    toward = -(sx * px + sy * py + sz * pz)
    squared = px * px + py * py + pz * pz
    if pz > 1.0 and toward > 0.0 and toward * toward > GRAZING * GRAZING * squared:
        u, v = project_by(table, k, DEPTH_CAMERA, px, py, pz)
        height, width = int(table[k, SHAPE]), int(table[k, SHAPE + 1])
        if u >= 1 and v >= 1 and u <= width - 2 and v <= height - 2:
            start = int(table[k, START])
            nearest = start + int(v + 0.5) * width + int(u + 0.5)
            if trust[nearest] > 0 and abs(depth[nearest] - pz) <= tolerance:
                iu, iv = int(u), int(v)
                fu, fv = u - iu, v - iv
                q = start + iv * width + iu
                c = (
                    trust[q] * (1 - fu) * (1 - fv) + trust[q + 1] * fu * (1 - fv)
                    + trust[q + width] * (1 - fu) * fv + trust[q + width + 1] * fu * fv
                )  # fmt: skip
                qx = (
                    table[k, TO_COLOUR] * px
                    + table[k, TO_COLOUR + 1] * py
                    + table[k, TO_COLOUR + 2] * pz
                    + table[k, TO_COLOUR + 3]
                )
                qy = (
                    table[k, TO_COLOUR + 4] * px
                    + table[k, TO_COLOUR + 5] * py
                    + table[k, TO_COLOUR + 6] * pz
                    + table[k, TO_COLOUR + 7]
                )
                qz = (
                    table[k, TO_COLOUR + 8] * px
                    + table[k, TO_COLOUR + 9] * py
                    + table[k, TO_COLOUR + 10] * pz
                    + table[k, TO_COLOUR + 11]
                )
                if qz > 0.0:
                    a, b = project_by(table, k, COLOUR_CAMERA, qx, qy, qz)
                    if a >= 0 and b >= 0 and a <= table[k, SHAPE + 3] - 1.001 and b <= table[k, SHAPE + 2] - 1.001:
                        weight = toward * toward / (squared * squared) * c
    return weight, a, b, sx, sy


@njit(cache=True)
def _sample(k, a, b, c, table, image, linear):
    """Bilinear value in linear light of channel c at pixel (a, b) of photograph k."""
    ia, ib = int(a), int(b)
    fa, fb = a - ia, b - ib
    width = int(table[k, SHAPE + 3])
    q = int(table[k, START + 1]) + ib * width + ia
    return (
        linear[image[q, c]] * (1 - fa) * (1 - fb) + linear[image[q + 1, c]] * fa * (1 - fb)
        + linear[image[q + width, c]] * (1 - fa) * fb + linear[image[q + width + 1, c]] * fa * fb
    )  # fmt: skip


@njit(cache=True)
def _shade(shade, c, nx, ny):
    """Logarithm of how much brighter a photograph shows a surface of that direction than a facing one."""
    value = shade[c, 0] * nx + shade[c, 1] * ny + shade[c, 2] * nx * nx + shade[c, 3] * nx * ny + shade[c, 4] * ny * ny
    return min(max(value, -SHADE_LIMIT), SHADE_LIMIT)


@njit(parallel=True, cache=True)
def observe(
    points, normals, table, depth, trust, image, linear, tolerance, weights, colours, directions,
):  # fmt: skip
    """What every photograph shows of every point: weight (k, n), linear colour (k, n, 3), direction (k, n, 2)."""
    for k in prange(len(table)):
        for i in range(len(points)):
            w, a, b, nx, ny = _look(
                k, points[i, 0], points[i, 1], points[i, 2], normals[i, 0], normals[i, 1], normals[i, 2],
                table, depth, trust, tolerance,
            )  # fmt: skip
            weights[k, i] = w
            if w > 0.0:
                directions[k, i, 0], directions[k, i, 1] = nx, ny
                for c in range(3):
                    colours[k, i, c] = _sample(k, a, b, c, table, image, linear)


@njit(cache=True)
def _keep(best, which, places, weight, k, a, b, sx, sy):
    """Put a photograph into the list of the best, greatest weight first, when it belongs there."""
    if weight > best[BEST - 1]:
        slot = BEST - 1
        while slot > 0 and best[slot - 1] < weight:
            best[slot], which[slot] = best[slot - 1], which[slot - 1]
            for c in range(4):
                places[slot, c] = places[slot - 1, c]
            slot -= 1
        best[slot], which[slot] = weight, k
        places[slot, 0], places[slot, 1], places[slot, 2], places[slot, 3] = a, b, sx, sy


@njit(cache=True, inline="always")
def _power(share):
    """The sixth power: how much a photograph counts for its share of the best one's weight."""
    cube = share * share * share
    return cube * cube


@njit(cache=True)
def _blended(
    best, which, places, table, image, linear, gain, shade, sampled, out,
):  # fmt: skip
    """Colour (out) from the photographs of a list, sharply in favour of the best.

    Every weight is lowered by that of the weakest kept one, so that a photograph fades out before another takes
    its place and no seam shows where the choice changes. What shines out over the dimmest counts little.
    """
    kept = 0
    while kept < BEST and best[kept] > 0.0:
        k = which[kept]
        bright = 0.0
        for c in range(3):
            value = _sample(k, places[kept, 0], places[kept, 1], c, table, image, linear) * gain[k, c]
            value *= np.exp(-_shade(shade, c, places[kept, 2], places[kept, 3]))
            sampled[kept, c] = value
            bright += value
        sampled[kept, 3] = bright
        kept += 1
    _mixed(best, sampled, kept, out)


@njit(cache=True)
def _mixed(best, sampled, kept, out):
    """Colour (out) of some samples (r, g, b, sum) by the weights of their photographs, the greatest first."""
    dimmest = np.inf
    for s in range(kept):
        if best[s] > 0.25 * best[0]:
            dimmest = min(dimmest, sampled[s, 3])
    floor = _power(best[BEST - 1] / best[0])
    total, r, g, b = 0.0, 0.0, 0.0, 0.0
    for s in range(kept):
        over = max(sampled[s, 3] - GLARE_OVER * dimmest - GLARE_SLACK, 0.0) / (0.25 * dimmest + GLARE_SLACK)
        w = max(_power(best[s] / best[0]) - floor, 1e-3) / (1.0 + 4.0 * over * over)
        r += w * sampled[s, 0]
        g += w * sampled[s, 1]
        b += w * sampled[s, 2]
        total += w
    out[0], out[1], out[2] = r / total, g / total, b / total


@njit(parallel=True, cache=True)
def colour_points(
    points, normals, table, depth, trust, image, linear, tolerance, gain, shade, out, chosen,
):  # fmt: skip
    """Linear colour (n, 3) of every point, and its best photographs (n, BEST), -1 where none is left.

    gain (k, 3) are factors; shade (3, 5) logarithms, see `colour.even_light`.
    """
    n = len(points)
    for block in prange((n + 1023) // 1024):
        best = np.empty(BEST)
        which = np.empty(BEST, np.int64)
        places = np.empty((BEST, 4))
        sampled = np.empty((BEST, 4))
        for i in range(block * 1024, min(block * 1024 + 1024, n)):
            x, y, z = points[i, 0], points[i, 1], points[i, 2]
            nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
            best[:] = 0.0
            which[:] = -1
            for k in range(len(table)):
                w, a, b, sx, sy = _look(k, x, y, z, nx, ny, nz, table, depth, trust, tolerance)
                _keep(best, which, places, w, k, a, b, sx, sy)
            if best[0] > 0.0:
                _blended(best, which, places, table, image, linear, gain, shade, sampled, out[i])
            for s in range(BEST):
                chosen[i, s] = which[s]


@njit(cache=True)
def _corner(uv, f, x, y):
    """Weights of the corners of a face at texel (x, y)."""
    ax, ay, bx, by = uv[f, 0, 0], uv[f, 0, 1], uv[f, 1, 0], uv[f, 1, 1]
    cx, cy = uv[f, 2, 0], uv[f, 2, 1]
    area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
    s = ((cx - x) * (ay - y) - (ax - x) * (cy - y)) / area
    t = ((ax - x) * (by - y) - (bx - x) * (ay - y)) / area
    return 1.0 - s - t, s, t


@njit(cache=True)
def rasterise(uv, owner):
    """For every texel centre inside a triangle its face, else what `owner` (s, s) held."""
    size = owner.shape[0]
    for f in range(len(uv)):
        ax, ay, bx, by = uv[f, 0, 0], uv[f, 0, 1], uv[f, 1, 0], uv[f, 1, 1]
        cx, cy = uv[f, 2, 0], uv[f, 2, 1]
        if abs((bx - ax) * (cy - ay) - (cx - ax) * (by - ay)) < 1e-12:
            continue
        x0, x1 = int(np.floor(min(ax, bx, cx))), int(np.ceil(max(ax, bx, cx)))
        y0, y1 = int(np.floor(min(ay, by, cy))), int(np.ceil(max(ay, by, cy)))
        for y in range(max(y0, 0), min(y1, size - 1) + 1):
            for x in range(max(x0, 0), min(x1, size - 1) + 1):
                r, s, t = _corner(uv, f, x, y)
                if r >= 0.0 and s >= 0.0 and t >= 0.0:
                    owner[y, x] = f


@njit(cache=True)
def _candidates(chosen, faces, f, held):
    """The photographs that any corner of a face holds, into `held`; returns how many."""
    count = 0
    for c in range(3):
        for s in range(BEST):
            k = chosen[faces[f, c], s]
            if k < 0:
                break
            known = False
            for j in range(count):
                if held[j] == k:
                    known = True
            if not known:
                held[count] = k
                count += 1
    return count


@njit(cache=True)
def _look_of_face(f, held, count, faces, vertices, normals, table, depth, trust, tolerance, gain, shade, looks):
    """How some photographs show the corners of a face: per corner weight, pixel and factors of the channels (k, 3, 6).

    Photographs that do not see all three corners are left out of `held`; returns how many are left.
    """
    kept = 0
    for c in range(count):
        k = held[c]
        seen = True
        for v in range(3):
            i = faces[f, v]
            w, a, b, sx, sy = _look(
                k, vertices[i, 0], vertices[i, 1], vertices[i, 2], normals[i, 0], normals[i, 1], normals[i, 2],
                table, depth, trust, tolerance,
            )  # fmt: skip
            if w <= 0.0:
                seen = False
                break
            looks[kept, v, 0], looks[kept, v, 1], looks[kept, v, 2] = w, a, b
            for channel in range(3):
                looks[kept, v, 3 + channel] = gain[k, channel] * np.exp(-_shade(shade, channel, sx, sy))
        if seen:
            held[kept] = k
            kept += 1
    return kept


@njit(cache=True)
def _between(looks, held, kept, r, s, t, table, image, linear, best, which, sampled, out):
    """Colour (out) of a place in a face, with what photographs show of its corners shared out by r, s, t."""
    best[:] = 0.0
    for c in range(kept):
        weight = r * looks[c, 0, 0] + s * looks[c, 1, 0] + t * looks[c, 2, 0]
        if weight > best[BEST - 1]:
            slot = BEST - 1
            while slot > 0 and best[slot - 1] < weight:
                best[slot], which[slot] = best[slot - 1], which[slot - 1]
                slot -= 1
            best[slot], which[slot] = weight, c
    count = min(kept, BEST)
    for n in range(count):
        look = looks[which[n]]
        k = held[which[n]]
        a = r * look[0, 1] + s * look[1, 1] + t * look[2, 1]
        b = r * look[0, 2] + s * look[1, 2] + t * look[2, 2]
        bright = 0.0
        for c in range(3):
            factor = r * look[0, 3 + c] + s * look[1, 3 + c] + t * look[2, 3 + c]
            sampled[n, c] = factor * _sample(k, a, b, c, table, image, linear)
            bright += sampled[n, c]
        sampled[n, 3] = bright
    _mixed(best, sampled, count, out)


@njit(parallel=True, cache=True)
def paint(
    first, last, owner, uv, faces, vertices, normals, vertex_linear, chosen, wide, table, depth, trust, image, linear,
    tolerance, gain, shade, encode, texture, unseen,
):  # fmt: skip
    """Colour the texels of the faces first…last - 1 in a texture (s, s, 3) uint8; marks in `unseen` those nothing saw.

    A face asks the photographs that its corners chose, at its corners: between them weights and pixels change evenly.
    Each texel of a face marked `wide`, or that no photograph sees whole, asks by itself: those, then all there are.
    encode maps linear light × (len - 1) to sRGB bytes.
    """
    size = owner.shape[0]
    top = len(encode) - 1
    for block in prange((last - first + FACES_AT_ONCE - 1) // FACES_AT_ONCE):
        best = np.empty(BEST)
        which = np.empty(BEST, np.int64)
        places = np.empty((BEST, 4))
        sampled = np.empty((BEST, 4))
        held = np.empty(CANDIDATES, np.int64)
        looks = np.empty((CANDIDATES, 3, 6))
        out = np.empty(3)
        begin = first + block * FACES_AT_ONCE
        for f in range(begin, min(begin + FACES_AT_ONCE, last)):
            i, j, k = faces[f, 0], faces[f, 1], faces[f, 2]
            count, kept, asked = 0, 0, False
            x0 = max(int(np.floor(min(uv[f, 0, 0], uv[f, 1, 0], uv[f, 2, 0]))), 0)
            x1 = min(int(np.ceil(max(uv[f, 0, 0], uv[f, 1, 0], uv[f, 2, 0]))), size - 1)
            y0 = max(int(np.floor(min(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1]))), 0)
            y1 = min(int(np.ceil(max(uv[f, 0, 1], uv[f, 1, 1], uv[f, 2, 1]))), size - 1)
            for y in range(y0, y1 + 1):
                for x in range(x0, x1 + 1):
                    if owner[y, x] != f:
                        continue
                    if not asked:
                        asked = True
                        count = _candidates(chosen, faces, f, held)
                        if not wide[f]:
                            kept = _look_of_face(
                                f,
                                held,
                                count,
                                faces,
                                vertices,
                                normals,
                                table,
                                depth,
                                trust,
                                tolerance,
                                gain,
                                shade,
                                looks,
                            )
                    r, s, t = _corner(uv, f, x, y)
                    if kept > 0:
                        _between(looks, held, kept, r, s, t, table, image, linear, best, which, sampled, out)
                    else:
                        px = r * vertices[i, 0] + s * vertices[j, 0] + t * vertices[k, 0]
                        py = r * vertices[i, 1] + s * vertices[j, 1] + t * vertices[k, 1]
                        pz = r * vertices[i, 2] + s * vertices[j, 2] + t * vertices[k, 2]
                        nx = r * normals[i, 0] + s * normals[j, 0] + t * normals[k, 0]
                        ny = r * normals[i, 1] + s * normals[j, 1] + t * normals[k, 1]
                        nz = r * normals[i, 2] + s * normals[j, 2] + t * normals[k, 2]
                        best[:] = 0.0
                        which[:] = -1
                        for attempt in range(2):
                            everything = attempt == 1 or wide[f]
                            for c in range(len(table) if everything else count):
                                view = c if everything else held[c]
                                w, a, b, sx, sy = _look(view, px, py, pz, nx, ny, nz, table, depth, trust, tolerance)
                                _keep(best, which, places, w, view, a, b, sx, sy)
                            if best[0] > 0.0 or everything or count == 0:
                                break
                        if best[0] > 0.0:
                            _blended(best, which, places, table, image, linear, gain, shade, sampled, out)
                        else:
                            unseen[y, x] = True
                            for c in range(3):
                                out[c] = r * vertex_linear[i, c] + s * vertex_linear[j, c] + t * vertex_linear[k, c]
                    for c in range(3):
                        texture[y, x, c] = encode[int(min(max(out[c], 0.0), 1.0) * top + 0.5)]


@njit(parallel=True, cache=True)
def widen(ring, texture, filled, linear, encode):
    """The ring-th ring around the charts: an empty texel takes the mean of its neighbours of the rings before.

    filled (s, s) uint8 holds 0 for empty, 1 for painted, and the number of the ring that filled a texel + 1.
    """
    size = texture.shape[0]
    top = len(encode) - 1
    for y in prange(size):
        for x in range(size):
            if filled[y, x] != 0:
                continue
            r, g, b, count = 0.0, 0.0, 0.0, 0
            for yy in range(max(y - 1, 0), min(y + 2, size)):
                for xx in range(max(x - 1, 0), min(x + 2, size)):
                    if filled[yy, xx] != 0 and filled[yy, xx] <= ring:
                        r += linear[texture[yy, xx, 0]]
                        g += linear[texture[yy, xx, 1]]
                        b += linear[texture[yy, xx, 2]]
                        count += 1
            if count:
                texture[y, x, 0] = encode[int(r / count * top + 0.5)]
                texture[y, x, 1] = encode[int(g / count * top + 0.5)]
                texture[y, x, 2] = encode[int(b / count * top + 0.5)]
                filled[y, x] = ring + 1
