"""Closing every hole of a fused field before it is polygonised, so that measured and made-up join.

Voxels that no frame measured get their signed distance by solving Laplace's equation with the measured
voxels as boundary (after Davis et al. 2002, doi:10.1109/TDPVT.2002.1024098), and with +1 wherever
at least two frames looked through: space that was seen to be free is never filled.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion import _kernels
from lucid_relic.fusion.feet import mark_feet
from lucid_relic.fusion.handles import without_thin_handles
from lucid_relic.geometry.looks import all_looks, look
from lucid_relic.geometry.memory import available_bytes
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState, Volume

CELL_BYTES = 13  # of field, masks and scratch
MEMORY_SHARE = 0.6  # of what is free may be taken
MOST_CELLS = 2**32  # that are numbered
MARGIN_BLOCKS = 1  # around what was fused, so that closings need not touch the border
FREE_VOTES = 2  # frames that must have looked through a cell: one may be torn there
# Behind a surface what fusion wrote is let go (measured: the foot of the dragon bulged by 1.8 mm without), soon, since
# behind thin walls it lies in the air. With 1.75 voxels narrow places close 0.3-1 mm outside of them, and large closings
# are 8-16 % worse; with 1.1 the worst places are best of all, but large closings 10-30 % worse (measured when one
# crossing still put a patch back to its membrane).
RELEASE_VOXELS = 1.35
MEASURED_VOXELS = 1.75  # behind a surface that count as measured where they stay inside: the far corner of its cell
FRONT_VOXELS, FRONTED = 2, 12  # beside what is inside of a surface so many voxels at least were measured outside of it
FREE_CELLS = 4_000_000  # asked at once: 100 MB
SWEEPS_COARSEST = 400  # on the coarsest level, where they cost nothing
SWEEPS = (16, 30, 60)  # at the finest level, the next, and all coarser ones
OVER_RELAXATION = 1.6  # of the sweeps: near the best for fields of this size


@dataclass(frozen=True)
class ClosedField:
    """A dense signed field (nx, ny, nz) float32 whose voxel (0,0,0) is block `low`'s first voxel.

    known (nx, ny, nz) bool is true where frames measured the field; feet is how many bases, which nothing saw, it
    closes at their plates.
    """

    field: np.ndarray
    known: np.ndarray
    low: np.ndarray
    feet: int = 0


def close_field(state: ScanState, volume: Volume, progress: Progress) -> ClosedField:
    """Fill everything that was not measured; raises `StepNotPossible` when it would not fit memory."""
    low = volume.coords.min(axis=0) - MARGIN_BLOCKS
    shape = tuple((volume.coords.max(axis=0) + MARGIN_BLOCKS + 1 - low) * 8)
    cells = int(np.prod(shape, dtype=np.int64))
    most = min(MEMORY_SHARE * available_bytes() / CELL_BYTES, MOST_CELLS)
    if cells > most:
        fitting = 1.05 * volume.voxel_mm * (cells / most) ** (1 / 3)
        raise StepNotPossible(
            f"Closing at {volume.voxel_mm:g} mm needs {cells * CELL_BYTES / 1e9:.1f} GB, more than can be had. "
            f"Fuse with a voxel size of {fitting:.2g} mm or more."
        )
    field = np.zeros(shape, np.float32)
    known = np.zeros(shape, np.bool_)
    _kernels.scatter_blocks(volume.coords, low, volume.distance, volume.weight, field, known)
    voxel = volume.voxel_mm / volume.truncation_mm
    level = RELEASE_VOXELS * voxel
    behind = known & (field > -MEASURED_VOXELS * voxel) & (field <= -level)
    _keep_near_surface(field, known, level)
    fixed = known.copy()
    free = _mark_free(state, volume, low, field, fixed, level, progress)
    _drop_flakes(field, known, fixed, free)
    _mark_below_plates(state, volume, low, field, known, fixed, level)
    feet = mark_feet(state, volume, low, field, known, fixed)
    _fix_border(field, fixed, level)
    progress(0.6, "Closing holes")
    _solve(field, fixed, 0, progress)
    progress(0.95, "Closing pin-holes and cutting threads")
    without_thin_handles(field, known, free, voxel)
    known |= behind & (field < 0)
    return ClosedField(field, known, low, feet)


def _keep_near_surface(field: np.ndarray, known: np.ndarray, reach: float) -> None:
    """Release what lies deeper than `reach` behind a surface, and level the outside to match.

    Fusion writes negative distances a little way behind every measured surface, whether or not the
    object is that thick there; they must not push the made-up surface out on the other side. Both
    signs then hold the same height, so that a made-up membrane leans neither in nor out.
    """
    known &= field > -reach
    np.clip(field, -reach, reach, out=field)
    field[~known] = 0.0


def _fix_border(field: np.ndarray, fixed: np.ndarray, level: float) -> None:
    for axis in range(3):
        for end in (0, -1):
            face: list[slice | int] = [slice(None)] * 3
            face[axis] = end
            field[tuple(face)] = level
            fixed[tuple(face)] = True


def _mark_free(
    state: ScanState,
    volume: Volume,
    low: np.ndarray,
    field: np.ndarray,
    fixed: np.ndarray,
    level: float,
    progress: Progress,
) -> np.ndarray:
    """Make unmeasured voxels outside where at least `FREE_VOTES` frames looked through; returns where that is."""
    factor = 1
    while field.size / factor**3 > FREE_CELLS:
        factor *= 2
    cell = volume.voxel_mm * factor
    coarse = np.zeros([-(-n // factor) for n in field.shape], np.uint8)
    origin = volume.origin + low * 8 * volume.voxel_mm + (factor - 1) / 2 * volume.voxel_mm
    margin = volume.truncation_mm + cell
    seen = all_looks(state.used_passes())
    for done, (scan, number) in enumerate(seen):
        progress(0.6 * done / len(seen), "Finding the space that was seen to be free")
        one = look(scan, number)
        for _ in range(one.votes):
            _kernels.count_free(
                coarse, FREE_VOTES, origin, cell, one.T_camera_object(scan), one.camera.as_vector, one.depth, margin
            )
    free = coarse >= FREE_VOTES
    for axis in range(3):
        free = np.repeat(free, factor, axis=axis)
    free = free[: field.shape[0], : field.shape[1], : field.shape[2]]
    field[free & ~fixed] = level
    fixed |= free
    return free


def _drop_flakes(field: np.ndarray, known: np.ndarray, fixed: np.ndarray, free: np.ndarray) -> None:
    """Release what is inside of no surface and right beside free space: flakes that torn edges left.

    In front of a measured surface its outside was measured too. A thread of flakes between two parts would be a handle.
    """
    inside = np.argwhere(known & (field < 0))
    beside = inside[_count_around(free, inside, 1) > 0]
    outside = known & (field >= 0)
    flakes = tuple(beside[_count_around(outside, beside, FRONT_VOXELS) < FRONTED].T)
    known[flakes] = fixed[flakes] = False
    field[flakes] = 0.0


def _count_around(mask: np.ndarray, places: np.ndarray, reach: int) -> np.ndarray:
    """(n,) how many voxels of a mask lie in the cube of so many voxels each way around each place (n, 3), off the border."""
    strides = np.array(mask.strides) // mask.itemsize
    flat, at = mask.ravel(), places @ strides
    out = np.zeros(len(places), np.int64)
    for step in np.ndindex((2 * reach + 1,) * 3):
        out += flat[at + (np.array(step) - reach) @ strides]
    return out


def _mark_below_plates(
    state: ScanState, volume: Volume, low: np.ndarray, field: np.ndarray, known: np.ndarray,
    fixed: np.ndarray, level: float,
) -> None:  # fmt: skip
    """An object does not reach below the plate it stood on, whatever fusion wrote behind a surface."""
    axes = [volume.origin[k] + (low[k] * 8 + np.arange(field.shape[k])) * volume.voxel_mm for k in range(3)]
    for scan in state.used_passes():
        if scan.plate is None:
            continue
        normal = scan.T_object_pass[:3, :3] @ scan.plate[:3]
        offset = scan.plate[3] + normal @ scan.T_object_pass[:3, 3]
        height = (
            (normal[0] * axes[0])[:, None, None]
            + (normal[1] * axes[1])[None, :, None]
            + (normal[2] * axes[2])[None, None, :]
        ).astype(np.float32)
        below = height < offset - 0.5 * volume.voxel_mm
        known &= ~(below & (field < 0))
        outside = np.minimum((offset - height[below]) / volume.truncation_mm, level)
        field[below] = np.maximum(field[below], outside)
        fixed |= below


def _solve(field: np.ndarray, fixed: np.ndarray, level: int, progress: Progress) -> None:
    """Coarse to fine: solve at half the resolution first, then smooth the interpolated answer."""
    if min(field.shape) > 12:
        half = tuple(-(-n // 2) for n in field.shape)
        coarse = np.empty(half, np.float32)
        coarse_fixed = np.empty(half, np.bool_)
        _kernels.coarsen(field, fixed, coarse, coarse_fixed)
        _solve(coarse, coarse_fixed, level + 1, progress)
        _kernels.refine(coarse, field, fixed)
        sweeps = SWEEPS[min(level, len(SWEEPS) - 1)]
    else:
        sweeps = SWEEPS_COARSEST
    for sweep in range(sweeps):
        if level == 0:
            progress(0.7 + 0.25 * sweep / sweeps, "Closing holes")
        _kernels.relax(field, fixed, 0, OVER_RELAXATION)
        _kernels.relax(field, fixed, 1, OVER_RELAXATION)
