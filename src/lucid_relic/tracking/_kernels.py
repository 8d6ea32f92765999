"""Compiled loops of live tracking: blocks found by place, the model seen from a place, a frame laid onto it."""

import numpy as np
from numba import njit, prange

from lucid_relic.alignment._kernels import NO_LIGHT, pair_terms
from lucid_relic.geometry._kernels import project

SOLVED = 3e-3  # spacings that a step moves the surface by: shorter ones end a round
LEAST_STEP = 0.7  # voxels that a ray goes on at the least
NEARLY = 1.8  # voxels from the surface within which the distance is taken between voxels
CLOSER = 0.7  # of the distance to the surface that a ray goes on at once
TILE = 8  # rays a side of the squares of a view for which it is known where blocks lie
STEEPER = 1e9  # than the tangent of any ray
BALL_VOXELS = 4.0 * np.sqrt(3.0)  # radius of the ball round a block


@njit(cache=True)
def slots_of(keys, grid, low, half, slots):
    """Numbers in `grid` (x, y, z) int32 of block keys, -1 where a block is new; False when one lies outside of it."""
    for k in range(len(keys)):
        x, y, z = (keys[k] >> 42) - half - low[0], (keys[k] >> 21 & 0x1FFFFF) - half - low[1], (keys[k] & 0x1FFFFF)
        z = z - half - low[2]
        if x < 0 or y < 0 or z < 0 or x >= grid.shape[0] or y >= grid.shape[1] or z >= grid.shape[2]:
            return False
        slots[k] = grid[x, y, z]
    return True


@njit(cache=True, fastmath=True, inline="always")
def _at(grid, low, ix, iy, iz):
    """Block and number within it of a voxel; block -1 where there is none."""
    bx, by, bz = (ix >> 3) - low[0], (iy >> 3) - low[1], (iz >> 3) - low[2]
    if bx < 0 or by < 0 or bz < 0 or bx >= grid.shape[0] or by >= grid.shape[1] or bz >= grid.shape[2]:
        return -1, 0
    return grid[bx, by, bz], ((ix & 7) << 6) | ((iy & 7) << 3) | (iz & 7)


@njit(cache=True, fastmath=True)
def _between(grid, low, distance, weight, x, y, z):
    """Distance at a place (in voxels) between its eight voxels, and whether all of them are known."""
    ix, iy, iz = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
    fx, fy, fz = x - ix, y - iy, z - iz
    within = (ix & 7) < 7 and (iy & 7) < 7 and (iz & 7) < 7  # most places have all eight in one block
    block, first = _at(grid, low, ix, iy, iz)
    if block < 0:
        return 0.0, False
    total = 0.0
    for c in range(8):
        dx, dy, dz = c >> 2, c >> 1 & 1, c & 1
        if within:
            b, n = block, first + (dx << 6 | dy << 3 | dz)
        else:
            b, n = _at(grid, low, ix + dx, iy + dy, iz + dz)
        if b < 0 or weight[b, n] <= 0.0:
            return 0.0, False
        share = (fx if dx else 1.0 - fx) * (fy if dy else 1.0 - fy) * (fz if dz else 1.0 - fz)
        total += share * distance[b, n]
    return total, True


@njit(cache=True, fastmath=True)
def _tile_ends(rays, axis, ends):
    """The least and the greatest tangent of the rays of each column (axis 0) or row (axis 1) of tiles, into ends (n, 2)."""
    ends[:, 0], ends[:, 1] = STEEPER, -STEEPER
    for v in range(rays.shape[0]):
        for u in range(rays.shape[1]):
            k = (u if axis == 0 else v) // TILE
            ends[k, 0] = min(ends[k, 0], rays[v, u, axis])
            ends[k, 1] = max(ends[k, 1], rays[v, u, axis])


@njit(cache=True, fastmath=True)
def _tiles_of(centre, z, reach, ends):
    """First and last tile, along one axis, that a ball at a depth may be seen in."""
    least, most = centre - reach, centre + reach
    least = least / (z - reach if least < 0.0 else z + reach)
    most = most / (z - reach if most > 0.0 else z + reach)
    first, last = 0, len(ends) - 1
    while first <= last and ends[first, 1] < least:
        first += 1
    while last >= first and ends[last, 0] > most:
        last -= 1
    return first, last


@njit(cache=True, fastmath=True)
def tile_spans(pose, rays, coords, blocks, voxel, near, far, spans):
    """Between which depths (mm) the first `blocks` blocks lie in each tile of a view, into spans (rows, columns, 2).

    Tiles are TILE rays wide and high, as in `look_at_model`; one without a block keeps an empty span (cf. the bounds of
    ray casting in Prisacariu et al. 2017, arXiv:1708.00783).
    """
    columns, rows = np.empty((spans.shape[1], 2)), np.empty((spans.shape[0], 2))
    _tile_ends(rays, 0, columns)
    _tile_ends(rays, 1, rows)
    spans[:, :, 0], spans[:, :, 1] = far, near
    reach = BALL_VOXELS * voxel
    for b in range(blocks):
        x = (8 * coords[b, 0] + 3.5) * voxel - pose[0, 3]
        y = (8 * coords[b, 1] + 3.5) * voxel - pose[1, 3]
        z = (8 * coords[b, 2] + 3.5) * voxel - pose[2, 3]
        cz = pose[0, 2] * x + pose[1, 2] * y + pose[2, 2] * z
        if cz + reach <= near or cz - reach >= far:
            continue
        left, right, top, bottom = 0, spans.shape[1] - 1, 0, spans.shape[0] - 1
        if cz > 1.5 * reach:
            left, right = _tiles_of(pose[0, 0] * x + pose[1, 0] * y + pose[2, 0] * z, cz, reach, columns)
            top, bottom = _tiles_of(pose[0, 1] * x + pose[1, 1] * y + pose[2, 1] * z, cz, reach, rows)
        for v in range(top, bottom + 1):
            for u in range(left, right + 1):
                spans[v, u, 0] = min(spans[v, u, 0], max(cz - reach, near))
                spans[v, u, 1] = max(spans[v, u, 1], min(cz + reach, far))


@njit(cache=True, fastmath=True)
def _hit(px, py, pz, dx, dy, dz, near, far, trunc, grid, low, distance, weight):
    """Depth (mm) at which a ray enters the surface, or 0; see `look_at_model`."""
    per_voxel = 1.0 / np.sqrt(dx * dx + dy * dy + dz * dz)
    t, before, t_before = near + 1e-3 * per_voxel, 0.0, 0.0
    while t < far:
        x, y, z = px + t * dx, py + t * dy, pz + t * dz
        ix, iy, iz = int(np.floor(x + 0.5)), int(np.floor(y + 0.5)), int(np.floor(z + 0.5))
        b, n = _at(grid, low, ix, iy, iz)
        if b < 0:
            # Nothing is known of this block: on to where the ray leaves it.
            step = 1e30
            for a in range(3):
                p, d, i = (x, dx, ix) if a == 0 else (y, dy, iy) if a == 1 else (z, dz, iz)
                edge = 8.0 * ((i >> 3) + (1 if d > 0 else 0)) - 0.5
                if abs(d) > 1e-12:
                    step = min(step, (edge - p) / d)
            t += max(step, 0.0) + 1e-3 * per_voxel
            before = 0.0
            continue
        if weight[b, n] <= 0.0:
            t += per_voxel
            before = 0.0
            continue
        value = distance[b, n]
        if value * trunc < NEARLY:
            value, known = _between(grid, low, distance, weight, x, y, z)
            if not known:
                t += LEAST_STEP * per_voxel
                before = 0.0
                continue
        if value < 0.0:
            if before <= 0.0:
                return 0.0
            at = t_before + (t - t_before) * before / (before - value)
            inner, known = _between(grid, low, distance, weight, px + at * dx, py + at * dy, pz + at * dz)
            if known and inner < 0.0:
                return t_before + (at - t_before) * before / (before - inner)
            return at + (t - at) * inner / (inner - value) if known else at
        before, t_before = value, t
        t += max(LEAST_STEP, CLOSER * value * trunc) * per_voxel
    return 0.0


@njit(cache=True, fastmath=True)
def _across(grid, low, distance, weight, ix, iy, iz, dx, dy, dz):
    """By how much the distance grows over a voxel along an axis, and whether that is known."""
    a, m = _at(grid, low, ix + dx, iy + dy, iz + dz)
    b, n = _at(grid, low, ix - dx, iy - dy, iz - dz)
    if a < 0 or b < 0 or weight[a, m] <= 0.0 or weight[b, n] <= 0.0:
        return 0.0, False
    return distance[a, m] - distance[b, n], True


@njit(cache=True, fastmath=True)
def _light_at(grid, low, colour, ix, iy, iz, log_light):
    """Mean log light of the colours of a voxel, or NO_LIGHT."""
    b, n = _at(grid, low, ix, iy, iz)
    if b < 0 or colour[b, 3 * 512 + n] <= 0.0:
        return NO_LIGHT
    per = 1.0 / colour[b, 3 * 512 + n]
    total = 0.0
    for a in range(3):
        total += log_light[int(colour[b, a * 512 + n] * per + 0.5)]
    return total / 3.0


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def look_at_model(
    pose, rays, spans, grid, low, distance, weight, colour, voxel, trunc, log_light, fitted, normals, confidence, light
):  # fmt: skip
    """See the model from pose (4, 4) camera → model, whose origin is voxel 0, along rays (h, w, 2).

    spans are those of `tile_spans`, trunc is in voxels, log_light (256,) that of every byte. fitted, normals, confidence
    come as zeros, light as NO_LIGHT, and stay so where nothing is met.
    """
    px, py, pz = pose[0, 3] / voxel, pose[1, 3] / voxel, pose[2, 3] / voxel
    for v in prange(rays.shape[0]):
        for u in range(rays.shape[1]):
            first, last = spans[v // TILE, u // TILE, 0], spans[v // TILE, u // TILE, 1]
            if first >= last:
                continue
            a, b = rays[v, u, 0], rays[v, u, 1]
            dx = (pose[0, 0] * a + pose[0, 1] * b + pose[0, 2]) / voxel
            dy = (pose[1, 0] * a + pose[1, 1] * b + pose[1, 2]) / voxel
            dz = (pose[2, 0] * a + pose[2, 1] * b + pose[2, 2]) / voxel
            t = _hit(px, py, pz, dx, dy, dz, first, last, trunc, grid, low, distance, weight)
            if t <= 0.0:
                continue
            x, y, z = px + t * dx, py + t * dy, pz + t * dz
            ix, iy, iz = int(np.floor(x + 0.5)), int(np.floor(y + 0.5)), int(np.floor(z + 0.5))
            n0, first_known = _across(grid, low, distance, weight, ix, iy, iz, 1, 0, 0)
            n1, second_known = _across(grid, low, distance, weight, ix, iy, iz, 0, 1, 0)
            n2, third_known = _across(grid, low, distance, weight, ix, iy, iz, 0, 0, 1)
            known = first_known and second_known and third_known
            size = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
            if not known or size < 1e-6:
                continue
            n0, n1, n2 = n0 / size, n1 / size, n2 / size
            cx = pose[0, 0] * n0 + pose[1, 0] * n1 + pose[2, 0] * n2
            cy = pose[0, 1] * n0 + pose[1, 1] * n1 + pose[2, 1] * n2
            cz = pose[0, 2] * n0 + pose[1, 2] * n1 + pose[2, 2] * n2
            cos = -(cx * a + cy * b + cz) / np.sqrt(a * a + b * b + 1.0)
            if cos < 0.15:
                continue
            fitted[v, u] = t
            normals[v, u, 0], normals[v, u, 1], normals[v, u, 2] = cx, cy, cz
            confidence[v, u] = cos * cos
            light[v, u] = _light_at(grid, low, colour, ix, iy, iz, log_light)


@njit(cache=True, fastmath=True, nogil=True)
def _moved(step, centre, pose, out):
    """A pose moved by a perturbation (6,) about a centre (rotation vector, translation), into out (4, 4)."""
    angle = np.sqrt(step[0] * step[0] + step[1] * step[1] + step[2] * step[2])
    per = 1.0 / max(angle, 1e-12)
    a, b, c = step[0] * per, step[1] * per, step[2] * per
    s, k = np.sin(angle), 1.0 - np.cos(angle)
    r00, r01, r02 = 1 - k * (b * b + c * c), k * a * b - s * c, k * a * c + s * b
    r10, r11, r12 = k * a * b + s * c, 1 - k * (a * a + c * c), k * b * c - s * a
    r20, r21, r22 = k * a * c - s * b, k * b * c + s * a, 1 - k * (a * a + b * b)
    for n in range(4):
        x, y, z = pose[0, n], pose[1, n], pose[2, n]
        if n == 3:
            x, y, z = x - centre[0], y - centre[1], z - centre[2]
        out[0, n] = r00 * x + r01 * y + r02 * z
        out[1, n] = r10 * x + r11 * y + r12 * z
        out[2, n] = r20 * x + r21 * y + r22 * z
    for m in range(3):
        out[m, 3] += centre[m] + step[3 + m]


@njit(cache=True, fastmath=True, nogil=True)
def _place_sample(points, normals, pose, moved, turned, centre):
    """A sample's points and normals as a pose puts them, and the middle of the points."""
    centre[:] = 0.0
    for i in range(len(points)):
        for a in range(3):
            p, n = pose[a, 3], 0.0
            for b in range(3):
                p += pose[a, b] * points[i, b]
                n += pose[a, b] * normals[i, b]
            moved[i, a], turned[i, a] = p, n
            centre[a] += p / len(points)


@njit(cache=True, fastmath=True, nogil=True)
def _step_of(H, g, held, gone, full, step):
    """Solve the normal equations for a step, what nothing holds staying near the start; returns the arm of its turns."""
    turns, slides = (H[0, 0] + H[1, 1] + H[2, 2]) / 3.0, (H[3, 3] + H[4, 4] + H[5, 5]) / 3.0
    for m in range(6):
        firm = held * (turns if m < 3 else slides)
        for n in range(6):
            full[m, n] = H[m, n] if m <= n else H[n, m]
        full[m, m] += firm
        step[m] = -(g[m] + firm * gone[m])
    # Gauss with the largest pivot left in the diagonal: the matrix is positive.
    for m in range(6):
        for n in range(m + 1, 6):
            share = full[n, m] / full[m, m]
            for k in range(m, 6):
                full[n, k] -= share * full[m, k]
            step[n] -= share * step[m]
    for m in range(5, -1, -1):
        for k in range(m + 1, 6):
            step[m] -= full[m, k] * step[k]
        step[m] /= full[m, m]
    return np.sqrt(turns / max(slides, 1e-12))


@njit(cache=True, fastmath=True, nogil=True)
def lay_onto(
    points, normals, weights, light, start, T_camera_model, cam, rays, fitted, map_normals, confidence, map_light,
    stride, spacing, distances, rounds, min_cos, light_weight, held, least, hessian,
):  # fmt: skip
    """Lay a frame's sample onto a map, from far to near; see `pair_terms` for both.

    distances are in spacings, held is the share of a firm motion's weight with which the start counts, least the share
    of the sample that must find a partner. Returns the pose, that share, and the weighted rms distance (mm); the
    normal equations' matrix of the last round is left in hessian (6, 6).
    """
    count = len(points)
    pose, other = start.copy(), np.eye(4)
    moved, turned, centre = np.empty((count, 3)), np.empty((count, 3)), np.zeros(3)
    g, full, step, gone = np.zeros(6), np.empty((6, 6)), np.zeros(6), np.zeros(6)
    found, total, squares = 0, 0.0, 0.0
    for level in range(len(distances)):
        reach = distances[level] * spacing
        for n in range(rounds + 1):
            _place_sample(points, normals, pose, moved, turned, centre)
            hessian[:] = 0.0
            g[:] = 0.0
            found, total, squares = pair_terms(
                moved, turned, weights, light, T_camera_model, cam, rays, fitted, map_normals, confidence, map_light,
                stride, reach, reach / 3.0, min_cos, centre, light_weight, hessian, g,
            )  # fmt: skip
            if found < least * count:
                return pose, found / max(count, 1), 1e9
            if n == rounds:
                break
            arm = _step_of(hessian, g, held, gone, full, step)
            gone += step
            _moved(step, centre, pose, other)
            pose, other = other, pose
            if np.abs(step[:3]).max() * arm + np.abs(step[3:]).max() < SOLVED * spacing and level + 1 < len(distances):
                break
    return pose, found / count, np.sqrt(squares / max(total, 1e-12))


@njit(cache=True, fastmath=True, nogil=True)
def light_moments(points, light, T_camera_points, cam, fitted, map_light, stride, within, sums):
    """Sums (6,) over a sample's points (in their frame) that meet a map: 1, own and map's light, their squares, product."""
    height, width = fitted.shape
    T = T_camera_points
    for i in range(len(points)):
        if light[i] <= NO_LIGHT:
            continue
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        pz = T[2, 0] * x + T[2, 1] * y + T[2, 2] * z + T[2, 3]
        if pz <= 1.0:
            continue
        px = T[0, 0] * x + T[0, 1] * y + T[0, 2] * z + T[0, 3]
        py = T[1, 0] * x + T[1, 1] * y + T[1, 2] * z + T[1, 3]
        u, v = project(cam, px, py, pz)
        uu, vv = int(u / stride + 0.5), int(v / stride + 0.5)
        if u < 0 or v < 0 or uu >= width or vv >= height or fitted[vv, uu] <= 0.0:
            continue
        if abs(fitted[vv, uu] - pz) > within or map_light[vv, uu, 0] <= NO_LIGHT:
            continue
        a, b = light[i], map_light[vv, uu, 0]
        sums[0] += 1.0
        sums[1] += a
        sums[2] += b
        sums[3] += a * a
        sums[4] += b * b
        sums[5] += a * b


@njit(cache=True, nogil=True)
def net_corners(coords, blocks, grid, low, distance, weight, step, cells, places):
    """Vertices of a net over the surface (naive surface nets, Gibson 1998), one for each cell that it crosses.

    Cells are step voxels wide, 8 / step along a block. cells (blocks, (8/step)³) int32, -1 at the start, takes the
    number of each cell's vertex, places (n, 3) where it is, in voxels. Returns how many there are; no more than places holds.
    """
    side = 8 // step
    value = np.empty(8)
    count = 0
    for b in range(blocks):
        for n in range(side * side * side):
            x = 8 * coords[b, 0] + step * (n // (side * side))
            y = 8 * coords[b, 1] + step * (n // side % side)
            z = 8 * coords[b, 2] + step * (n % side)
            below, known = 0, 0
            for c in range(8):
                o, m = _at(grid, low, x + step * (c >> 2), y + step * (c >> 1 & 1), z + step * (c & 1))
                # A corner far behind the surface was never measured: the edges between the others tell where it runs.
                value[c] = distance[o, m] if o >= 0 and weight[o, m] > 0.0 else np.nan
                known += value[c] == value[c]
                below += value[c] < 0.0
            if below == 0 or below == known or count == len(places):
                continue
            sx, sy, sz, crossed = 0.0, 0.0, 0.0, 0
            for c in range(8):
                for bit in (1, 2, 4):
                    d = c | bit
                    if d == c or not (min(value[c], value[d]) < 0.0 <= max(value[c], value[d])):
                        continue
                    share = value[c] / (value[c] - value[d])
                    sx += (c >> 2) + (share if bit == 4 else 0.0)
                    sy += (c >> 1 & 1) + (share if bit == 2 else 0.0)
                    sz += (c & 1) + (share if bit == 1 else 0.0)
                    crossed += 1
            if crossed == 0:
                continue
            places[count, 0] = x + step * sx / crossed
            places[count, 1] = y + step * sy / crossed
            places[count, 2] = z + step * sz / crossed
            cells[b, n] = count
            count += 1
    return count


@njit(cache=True, nogil=True)
def _cell_vertex(coords, grid, low, cells, step, x, y, z):
    """The vertex of the cell whose first corner is voxel (x, y, z), -1 where there is none."""
    side = 8 // step
    b, _ = _at(grid, low, x, y, z)
    if b < 0:
        return -1
    return cells[b, ((x & 7) // step * side + (y & 7) // step) * side + (z & 7) // step]


@njit(cache=True, nogil=True)
def net_faces(coords, blocks, grid, low, distance, weight, step, cells, faces):
    """Triangles (n, 3) between the vertices of `net_corners`, two for each edge that the surface crosses; returns how many."""
    side = 8 // step
    count = 0
    corner = np.empty(4, np.int64)
    for b in range(blocks):
        for n in range(side * side * side):
            x = 8 * coords[b, 0] + step * (n // (side * side))
            y = 8 * coords[b, 1] + step * (n // side % side)
            z = 8 * coords[b, 2] + step * (n % side)
            o, m = _at(grid, low, x, y, z)
            if weight[o, m] <= 0.0:
                continue
            inside = distance[o, m] < 0.0
            for axis in range(3):
                ex, ey, ez = step if axis == 0 else 0, step if axis == 1 else 0, step if axis == 2 else 0
                p, q = _at(grid, low, x + ex, y + ey, z + ez)
                if p < 0 or weight[p, q] <= 0.0 or (distance[p, q] < 0.0) == inside:
                    continue
                ok = True
                for k in range(4):
                    # The four cells around the edge, in the order of a turn about it.
                    u, v = step if k in (0, 3) else 0, step if k in (0, 1) else 0
                    if axis == 0:
                        corner[k] = _cell_vertex(coords, grid, low, cells, step, x, y - u, z - v)
                    elif axis == 1:
                        corner[k] = _cell_vertex(coords, grid, low, cells, step, x - v, y, z - u)
                    else:
                        corner[k] = _cell_vertex(coords, grid, low, cells, step, x - u, y - v, z)
                    ok = ok and corner[k] >= 0
                if not ok or count + 2 > len(faces):
                    continue
                first, last = (corner[1], corner[3]) if inside else (corner[3], corner[1])
                faces[count, 0], faces[count, 1], faces[count, 2] = corner[0], first, corner[2]
                faces[count + 1, 0], faces[count + 1, 1], faces[count + 1, 2] = corner[0], corner[2], last
                count += 2
    return count


@njit(cache=True, nogil=True)
def net_colours(places, grid, low, colour, out):
    """Bytes (n, 3) of the mean colour of the nearest voxel of places (n, 3) in voxels, or of one beside it; grey elsewhere."""
    for i in range(len(places)):
        x, y, z = (
            int(np.floor(places[i, 0] + 0.5)),
            int(np.floor(places[i, 1] + 0.5)),
            int(np.floor(places[i, 2] + 0.5)),
        )
        out[i, 0], out[i, 1], out[i, 2] = 150, 150, 150
        for k in range(7):
            dx, dy, dz = (k == 1) - (k == 2), (k == 3) - (k == 4), (k == 5) - (k == 6)
            b, n = _at(grid, low, x + dx, y + dy, z + dz)
            if b >= 0 and colour[b, 3 * 512 + n] > 0.0:
                per = 1.0 / colour[b, 3 * 512 + n]
                for a in range(3):
                    out[i, a] = np.uint8(colour[b, a * 512 + n] * per + 0.5)
                break
