"""Compiled loops that grow one side of a closed field without changing its topology."""

import numpy as np
from numba import njit

OPEN, QUEUED = 3, 2  # voxels that may be taken up, and those that wait for it
HIGHEST = 0x7F800000  # the bits of infinity: no float32 has higher ones
# The 14 neighbours of a voxel in Kuhn's subdivision, and which of them (bits) are neighbours of each other.
AROUND = np.array(
    [(s * x, s * y, s * z) for s in (1, -1) for x in (0, 1) for y in (0, 1) for z in (0, 1) if x + y + z], np.int64
)
LINK = np.array(
    [sum(1 << m for m, b in enumerate(AROUND) if tuple(b - a) in set(map(tuple, AROUND))) for a in AROUND], np.int64
)


@njit(cache=True)
def _groups(which):
    """How many groups joined by edges the neighbours in `which` (14 bits) form on the sphere around a voxel."""
    groups = 0
    while which:
        groups += 1
        front = which & -which
        which ^= front
        while front:
            bit = front & -front
            front ^= bit
            n = 0
            while (1 << n) != bit:
                n += 1
            joined = LINK[n] & which
            which ^= joined
            front |= joined
    return groups


@njit(cache=True)
def simple_voxels():
    """(16384,) bool: whether a voxel may be taken, by which of its 14 neighbours (bits) are taken already."""
    out = np.zeros(16384, np.bool_)
    for which in range(1, 16383):
        out[which] = _groups(which) == 1 and _groups(16383 ^ which) == 1
    return out


@njit(cache=True, inline="always")
def _sift_up(heap, size, key):
    """Put a key into the heap of `size` keys, the least first; there is room for it."""
    at = size
    while at > 0:
        above = (at - 1) >> 1
        if heap[above] <= key:
            break
        heap[at] = heap[above]
        at = above
    heap[at] = key


@njit(cache=True, inline="always")
def _sift_down(heap, size):
    """Take the least key out of a heap, which then holds one less than `size`."""
    least, key = heap[0], heap[size - 1]
    at, below = 0, 1
    while below < size - 1:
        if below + 1 < size - 1 and heap[below + 1] < heap[below]:
            below += 1
        if key <= heap[below]:
            break
        heap[at] = heap[below]
        at, below = below, 2 * below + 1
    heap[at] = key
    return least


@njit(cache=True)
def grow_simply(taken, height, bits, least, simple):
    """Take up voxels (nx, ny, nz) of more than `least` (0 or more) height, highest first, as long as nothing is joined or cut off.

    taken (uint8) is 1 where the growth starts, and is 1 in the end where it reached. A voxel is taken when those of its
    neighbours in Kuhn's subdivision that are taken form one group and the others form one (`simple_voxels`): then
    neither side changes its topology. bits are those of height, as int32.
    """
    nx, ny, nz = taken.shape
    steps = np.empty(14, np.int64)
    for n in range(14):
        steps[n] = (AROUND[n, 0] * ny + AROUND[n, 1]) * nz + AROUND[n, 2]
    state, high, bits = taken.reshape(-1), height.reshape(-1), bits.reshape(-1)
    waiting = 0
    for x in range(nx):
        for y in range(ny):
            for z in range(nz):
                at = (x * ny + y) * nz + z
                if state[at] == 0 and high[at] > least:
                    inner = 0 < x < nx - 1 and 0 < y < ny - 1 and 0 < z < nz - 1
                    state[at] = OPEN if inner else 0
                    waiting += inner
    heap, size = np.empty(waiting, np.int64), 0
    for at in range(len(state)):
        if state[at] == OPEN:
            for n in range(14):
                if state[at + steps[n]] == 1:
                    state[at] = QUEUED
                    # The bits of positive numbers are ordered as they are: the highest comes first, of equal ones the first.
                    _sift_up(heap, size, (np.int64(HIGHEST - bits[at]) << 32) | at)
                    size += 1
                    break
    while size > 0:
        at = _sift_down(heap, size) & 0xFFFFFFFF
        size -= 1
        which = 0
        for n in range(14):
            if state[at + steps[n]] == 1:
                which |= 1 << n
        if not simple[which]:
            state[at] = OPEN
            continue
        state[at] = 1
        for n in range(14):
            beside = at + steps[n]
            if state[beside] == OPEN:
                state[beside] = QUEUED
                _sift_up(heap, size, (np.int64(HIGHEST - bits[beside]) << 32) | beside)
                size += 1
    for at in range(len(state)):
        if state[at] == OPEN:
            state[at] = 0
