"""Compiled loops of the first motions: which matches agree with each other, and the motions they lead to."""

import numpy as np
from numba import njit, prange

TILE = 64  # matches: two tiles' words and their counts lie in the nearest memory together


@njit(cache=True, fastmath=True, error_model="numpy")
def _row_of_agreement(i, one, two, slack, least, min_cos, row):
    """Whether match i and every match keep their distance (and are not too close) and their normals' angle."""
    ax, ay, az, au, av, aw = one[0], one[1], one[2], one[3], one[4], one[5]
    bx, by, bz, bu, bv, bw = two[0], two[1], two[2], two[3], two[4], two[5]
    unit, none = np.float32(1.0), np.float32(0.0)
    for j in range(len(row)):
        x, y, z = ax[j] - ax[i], ay[j] - ay[i], az[j] - az[i]
        p, q, r = bx[j] - bx[i], by[j] - by[i], bz[j] - bz[i]
        length, other = np.sqrt(x * x + y * y + z * z), np.sqrt(p * p + q * q + r * r)
        c = au[j] * au[i] + av[j] * av[i] + aw[j] * aw[i]
        d = bu[j] * bu[i] + bv[j] * bv[i] + bw[j] * bw[i]
        # The cosine of the difference of the two angles.
        turn = c * d + np.sqrt(max(unit - c * c, none) * max(unit - d * d, none))
        row[j] = np.uint8((length > least) & (abs(length - other) < slack) & (turn > min_cos))


@njit(parallel=True, cache=True, fastmath=True, error_model="numpy")
def agreeing_pairs(one, two, slack, least, min_cos, agree):
    """agree (k, k) uint8: which matches agree with each other; one and two (6, k) float32 are places and normals of both sides."""
    for i in prange(len(agree)):
        _row_of_agreement(i, one, two, slack, least, min_cos, agree[i])


@njit(cache=True, inline="always")
def _ones(word):
    """The number of bits set in a uint64."""
    word = word - ((word >> np.uint64(1)) & np.uint64(0x5555555555555555))
    word = (word & np.uint64(0x3333333333333333)) + ((word >> np.uint64(2)) & np.uint64(0x3333333333333333))
    word = (word + (word >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return (word * np.uint64(0x0101010101010101)) >> np.uint64(56)


@njit(parallel=True, cache=True, error_model="numpy")
def common_friends(agree, words, second, total):
    """second (k, k) uint16: for agreeing matches, with how many others both agree; total (k,) is a row's sum.

    words (k, w) uint64 pack `agree`. Tile by tile, so that writing across rows stays near.
    """
    k, width = len(agree), np.uint64(words.shape[1])
    tiles = (k + TILE - 1) // TILE
    for half in prange((tiles + 1) // 2):
        for end in range(2):
            a = np.int64(half) if end == 0 else tiles - 1 - np.int64(half)
            if end == 1 and a == half:
                continue
            for b in range(a, tiles):
                for i in range(a * TILE, min(a * TILE + TILE, k)):
                    for j in range(max(b * TILE, i + 1), min(b * TILE + TILE, k)):
                        if agree[i, j]:
                            shared = np.uint64(0)
                            for w in range(width):
                                shared += _ones(words[i, w] & words[j, w])
                            second[i, j] = shared
                            second[j, i] = shared
    for i in prange(k):
        whole = np.int64(0)
        for j in range(np.uint64(k)):
            whole += np.int64(second[i, j])
        total[i] = whole


@njit(cache=True, inline="always")
def _best_of(row, most, members, values):
    """Where a row is largest into `members`, the largest first and the earlier first of equal ones; returns how many."""
    count, least = 0, 0
    for j in range(len(row)):
        value = np.int64(row[j])
        if value > least:
            slot = min(count, most - 1)
            count = min(count + 1, most)
            while slot > 0 and value > values[slot - 1]:
                values[slot], members[slot] = values[slot - 1], members[slot - 1]
                slot -= 1
            values[slot], members[slot] = value, j
            if count == most:
                least = values[most - 1]
    return count


@njit(cache=True)
def _sums_of_members(one, two, seed, members, count, sums):
    """As `_sums_of_fulfilled`, of the first `count` members."""
    sums[:] = 0.0
    for m in range(count):
        i = members[m]
        sums[0] += 1.0
        for c in range(3):
            to = one[c, i] - one[c, seed]
            sums[1 + c] += two[c, i] - two[c, seed]
            sums[4 + c] += to
            for d in range(3):
                sums[7 + 3 * c + d] += to * (two[d, i] - two[d, seed])


@njit(cache=True, fastmath=True, error_model="numpy")
def _sums_of_fulfilled(motion, one, two, seed, near_sq, min_cos, sums):
    """Of the matches that a motion (3, 4) float32 fulfils: how many, the sums of the places of `two` and `one` from the seed's, and of their products."""
    ax, ay, az, au, av, aw = one[0], one[1], one[2], one[3], one[4], one[5]
    bx, by, bz, bu, bv, bw = two[0], two[1], two[2], two[3], two[4], two[5]
    M, none = motion, np.float32(0.0)
    n = p_sum = q_sum = r_sum = s_sum = t_sum = u_sum = none
    sp = sq = sr = tp = tq = tr = up = uq = ur = none
    for i in range(np.uint64(one.shape[1])):
        x = M[0, 0] * bx[i] + M[0, 1] * by[i] + M[0, 2] * bz[i] + M[0, 3] - ax[i]
        y = M[1, 0] * bx[i] + M[1, 1] * by[i] + M[1, 2] * bz[i] + M[1, 3] - ay[i]
        z = M[2, 0] * bx[i] + M[2, 1] * by[i] + M[2, 2] * bz[i] + M[2, 3] - az[i]
        cos = au[i] * (M[0, 0] * bu[i] + M[0, 1] * bv[i] + M[0, 2] * bw[i])
        cos += av[i] * (M[1, 0] * bu[i] + M[1, 1] * bv[i] + M[1, 2] * bw[i])
        cos += aw[i] * (M[2, 0] * bu[i] + M[2, 1] * bv[i] + M[2, 2] * bw[i])
        w = np.float32((x * x + y * y + z * z < near_sq) & (cos > min_cos))
        p, q, r = w * (bx[i] - bx[seed]), w * (by[i] - by[seed]), w * (bz[i] - bz[seed])
        s, t, u = ax[i] - ax[seed], ay[i] - ay[seed], az[i] - az[seed]
        n, p_sum, q_sum, r_sum = n + w, p_sum + p, q_sum + q, r_sum + r
        s_sum, t_sum, u_sum = s_sum + w * s, t_sum + w * t, u_sum + w * u
        sp, sq, sr = sp + s * p, sq + s * q, sr + s * r
        tp, tq, tr = tp + t * p, tq + t * q, tr + t * r
        up, uq, ur = up + u * p, uq + u * q, ur + u * r
    sums[0], sums[1], sums[2], sums[3], sums[4], sums[5], sums[6] = n, p_sum, q_sum, r_sum, s_sum, t_sum, u_sum
    sums[7], sums[8], sums[9], sums[10], sums[11], sums[12] = sp, sq, sr, tp, tq, tr
    sums[13], sums[14], sums[15] = up, uq, ur


@njit(cache=True)
def _motion_of_sums(sums, one, two, seed, motion):
    """The least-squares motion (3, 4) of matches from their sums (Umeyama 1991, without scale)."""
    n = sums[0]
    covariance = np.empty((3, 3))
    for c in range(3):
        for d in range(3):
            covariance[c, d] = sums[7 + 3 * c + d] - sums[4 + c] * sums[1 + d] / n
    u, _, vt = np.linalg.svd(covariance)
    if np.linalg.det(u) * np.linalg.det(vt) < 0:
        u[:, 2] *= -1.0
    turn = u @ vt
    for c in range(3):
        motion[c, 3] = sums[4 + c] / n + one[c, seed]
        for d in range(3):
            motion[c, d] = turn[c, d]
            motion[c, 3] -= turn[c, d] * (sums[1 + d] / n + two[d, seed])


@njit(parallel=True, cache=True)
def seed_motions(seeds, second, most, rounds, one, two, near_sq, min_cos, motions, support):
    """A motion (s, 3, 4) from each seed's best friends, refined on all matches it fulfils, and how many those are.

    one and two (6, k) float32 are places and normals of both sides, as for `agreeing_pairs`.
    """
    for n in prange(len(seeds)):
        seed = seeds[n]
        members, values = np.empty(most, np.int64), np.empty(most, np.int64)
        count = _best_of(second[seed], most, members, values)
        if count < 3:
            continue
        sums = np.empty(16)
        _sums_of_members(one, two, seed, members, count, sums)
        _motion_of_sums(sums, one, two, seed, motions[n])
        for _ in range(rounds):
            _sums_of_fulfilled(motions[n].astype(np.float32), one, two, seed, near_sq, min_cos, sums)
            if sums[0] >= 3:
                _motion_of_sums(sums, one, two, seed, motions[n])
        _sums_of_fulfilled(motions[n].astype(np.float32), one, two, seed, near_sq, min_cos, sums)
        support[n] = np.int64(sums[0])
