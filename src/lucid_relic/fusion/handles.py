"""Spurious handles: tunnels and bridges of a voxel or two that nothing asserts are closed or cut in the field.

Noise near edges and closings leaves pin-holes through a wall and threads across a gap; each is a handle, which no
smoothing takes away. Candidates come from growing the outside anew from where it is surely outside, highest values
first, taking up a voxel only when it is simple (Bertrand & Malandain 1994, doi:10.1016/0167-8655(94)90046-9, here on
the 14 neighbours of Kuhn's subdivision, so that the triangles have the same topology): what a thin tunnel leaves over is
its plug. In the same way the inside, grown from what was measured, leaves over threads of nothing but made-up
voxels. A candidate is taken when it removes a handle, which its Euler characteristic tells, and separates nothing.
"""

import numpy as np
from scipy.ndimage import binary_erosion, label
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from lucid_relic.fusion import _growth_kernels

SURE_VOXELS = 1.2  # from the surface, a little under a closing's height: thinner tunnels and threads are in doubt
WIDEST = 48  # voxels across a plug or a thread: wider ones are pockets, no handles of noise
DEEP_VOXELS = 4  # side of the cubes that, with all around them on one side, are surely on it
PLUG_VOXELS = 0.3  # how deep a plug or a cut lies on its new side
_STEPS = [np.array(s) for s in np.ndindex(2, 2, 2) if any(s)]
_AROUND = np.zeros((3, 3, 3), bool)
for _step in [*_STEPS, np.zeros(3, int)]:
    _AROUND[tuple(1 + _step)] = _AROUND[tuple(1 - _step)] = True


def without_thin_handles(field: np.ndarray, known: np.ndarray, free: np.ndarray, voxel: float) -> tuple[int, int]:
    """Change the signs of a closed field (nx, ny, nz) in place; how many tunnels were filled and threads cut.

    known is what frames measured, free what they looked through; voxel is the height of one voxel in the field.
    """
    thin = SURE_VOXELS * voxel
    border = np.ones(field.shape, bool)
    border[1:-1, 1:-1, 1:-1] = False
    filled = _changed(field, 1, (field > thin) | free | border, voxel)
    cut = _changed(field, -1, (field < -thin) | known, voxel)
    return filled, cut


def _changed(field: np.ndarray, sign: int, sure: np.ndarray, voxel: float) -> int:
    """Grow the side of a sign anew from where it is sure; what it leaves over, and should, goes to the other side."""
    side = field > 0 if sign > 0 else field < 0
    grown = ((sure & side) | _deep_in(side)).astype(np.uint8)
    height = field if sign > 0 else -field
    _growth_kernels.grow_simply(grown, height, height.view(np.int32), np.float32(0.0), _growth_kernels.simple_voxels())
    taken = _taken(side, side & (grown == 0))
    for place in taken:
        field[place] = -sign * PLUG_VOXELS * voxel
    return len(taken)


def _deep_in(side: np.ndarray) -> np.ndarray:
    """Voxels (nx, ny, nz) bool of a side that lie farther from the other one than any thread or tunnel is wide."""
    cubes = side
    for axis in range(3):
        whole = cubes.shape[axis] // DEEP_VOXELS * DEEP_VOXELS
        parts = [cubes.take(range(n, whole, DEEP_VOXELS), axis) for n in range(DEEP_VOXELS)]
        cubes = np.logical_and.reduce(parts)
    deep = binary_erosion(cubes, np.ones((3, 3, 3)))
    for axis in range(3):
        deep = np.repeat(deep, DEEP_VOXELS, axis)
    return np.pad(deep, [(0, n - m) for n, m in zip(side.shape, deep.shape, strict=True)])


def _taken(side: np.ndarray, left: np.ndarray) -> list[tuple[np.ndarray, ...]]:
    """Groups of the voxels `left` over of a side whose change to the other side takes a handle away, as indices."""
    asked = []
    for places in _groups(left):
        low, high = places.min(axis=0), places.max(axis=0) + 1
        if (high - low).max() > WIDEST:
            continue
        wide = tuple(slice(max(a - 2, 0), b + 2) for a, b in zip(low, high, strict=True))
        group = np.zeros_like(side[wide])
        group[tuple((places - [s.start for s in wide]).T)] = True
        if euler(side[wide] & ~group) > euler(side[wide]):
            asked.append((wide, group, places))
    if not asked:
        return []
    whole, _ = label(side & ~left, _AROUND)
    taken = []
    for wide, group, places in asked:
        beside = whole[wide][_grown(group)]
        if len(np.unique(beside[beside > 0])) <= 1:
            taken.append(tuple(places.T))
    return taken


def _groups(mask: np.ndarray) -> list[np.ndarray]:
    """The groups (k, 3) of neighbouring voxels of a mask that has few of them, by their first voxel."""
    at = np.flatnonzero(mask)  # off the border of the field, where nothing is ever left over: no row meets the next one
    if not len(at):
        return []
    strides = np.array(mask.strides) // mask.itemsize
    first, second = [], []
    for step in _STEPS:
        beside = np.minimum(np.searchsorted(at, at + step @ strides), len(at) - 1)
        joined = np.flatnonzero(at[beside] == at + step @ strides)
        first.append(joined)
        second.append(beside[joined])
    rows, columns = np.concatenate(first), np.concatenate(second)
    graph = coo_matrix((np.ones(len(rows), np.int8), (rows, columns)), shape=(len(at), len(at)))
    count, group = connected_components(graph, directed=False)
    order = np.argsort(group, kind="stable")
    places = np.stack(np.unravel_index(at[order], mask.shape), axis=1)
    return np.split(places, np.searchsorted(group[order], np.arange(1, count)))


def _grown(group: np.ndarray) -> np.ndarray:
    """A group (bool) with its neighbours."""
    out = group.copy()
    for step in _STEPS:
        for way in (1, -1):
            out |= np.roll(group, way * step, axis=(0, 1, 2))
    return out


def euler(inside: np.ndarray) -> int:
    """Euler characteristic of the voxels that are inside, as a complex of Kuhn's tetrahedra."""
    whole = np.pad(inside, 1).astype(np.uint8)
    corners = np.zeros(np.array(whole.shape) - 1, np.uint8)
    for n, (x, y, z) in enumerate(np.ndindex(2, 2, 2)):
        corners |= whole[x : x + corners.shape[0], y : y + corners.shape[1], z : z + corners.shape[2]] << n
    return int(_TOLD[corners].sum())


def _told_by_corners() -> np.ndarray:
    """(256,) what a cell adds to the Euler characteristic: its simplices that start at corner 0, by corners inside."""
    told = np.zeros(256, np.int64)
    for inside in range(1, 256, 2):
        chains: list[tuple[int, ...]] = [(0,)]
        while chains:
            chain = chains.pop()
            told[inside] += (-1) ** (len(chain) - 1)
            last = chain[-1]
            chains += [(*chain, c) for c in range(last + 1, 8) if c & last == last and inside >> c & 1]
    return told


_TOLD = _told_by_corners()
