"""Sparse-block truncated signed distance field.

Curless & Levoy (1996), doi:10.1145/237170.237269, in blocks of 8³ voxels as in Nießner et al.
(2013), doi:10.1145/2508363.2508374. Departures: the distance is taken to the local plane of a pixel,
not along the viewing ray, which removes the bias at a slant; the weight behind the surface falls off
early; and of two walls that face away from each other the nearer one counts, so that thin walls survive.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.executor import in_order, worker_count
from lucid_relic.fusion import _kernels
from lucid_relic.fusion.cloud_field import add_points, block_keys, points_to_fuse
from lucid_relic.fusion.field import Field, Plan, Shot, shot_of
from lucid_relic.geometry.depth_map import KeptDepth, KeptDepths, kept_part, typical_depth
from lucid_relic.geometry.memory import available_bytes
from lucid_relic.progress import Progress, part_of, silent
from lucid_relic.types import PassState, ScanState, Volume

TRUNCATION_VOXELS = 4.0  # half the width of the band: less leaves gaps at slants, more blunts edges
BEHIND_VOXELS = 3.0  # within which what nothing else tells of counts as inside: with less an open surface has pin-holes
SHALLOW_VOXELS = 1.1  # told behind a surface however slant it was seen: more makes fins past rims
NOISE_WIDTHS = 3.0  # that the band must hold on either side
TOLD_WIDTHS = 4.0  # of the noise, told behind a surface at the least: cut off earlier it draws the surface outwards
VOXEL_BYTES = 27  # distance, weight, normal, colour and its weight while fusing
MESH_BYTES = 30  # per voxel of the blocks: padded copies and triangles while polygonising
MEMORY_SHARE = 0.7  # of what is free may be taken
FIRST_TABLE = 1 << 15  # slots for the blocks of a frame; grows when it fills
# Shifts and masks that put two zeros between the bits of a number under 2²¹.
SPREAD = (
    (32, 0x1F00000000FFFF), (16, 0x1F0000FF0000FF), (8, 0x100F00F00F00F00F), (4, 0x10C30C30C30C30C3), (2, 0x1249249249249249),
)  # fmt: skip
MERGE_EVERY = 16  # frames, so that keys of all frames never lie side by side
BATCH = 12  # frames that go into the blocks together: a block is fetched once for all of them
BATCH_BYTES = 64 * 2**20  # that a batch may take: it should stay in the cache
LEAST_QUALITY = 0.05  # that the noisiest pass counts: it may be the only one there
PARTS_PER_WORKER = 2  # on a cluster, so that none waits long for the last


@dataclass(frozen=True)
class Character:
    """How a fusion averages: plane fits that keep edges or not, and the reach behind a surface in voxels."""

    edge_keeping: bool
    behind_voxels: float
    every: int = 1


CHARACTERS = {
    "draft": Character(False, 3.0, every=2),
    "even": Character(False, 2.25),
    "crisp": Character(True, 2.0),
}
Frames = list[tuple[PassState, int]]
NO_KEYS = np.empty(0, np.int64)


def fuse_volume(
    state: ScanState, voxel_mm: float, progress: Progress, character: str = "even", shift_voxels: float = 0.0
) -> Volume:
    """Fuse all frames that are in, and all points, of all placed passes into a `Volume`.

    character is one of `CHARACTERS`; shift_voxels moves the grid along all axes. Frames are read one at a time. Raises `StepNotPossible` when
    nothing is left to fuse or when the blocks would not fit the memory that is free.
    """
    manner = CHARACTERS[character]
    frames = frames_to_fuse(state, manner.every)
    noises = [p.noise_mm for p in state.used_passes()]
    noise, best = max(noises), min(noises)
    truncation = max(TRUNCATION_VOXELS * voxel_mm, NOISE_WIDTHS * noise)
    origin = np.full(3, shift_voxels * voxel_mm)
    points = points_to_fuse(state.used_passes(), voxel_mm, best, LEAST_QUALITY)
    keys = block_keys(points, origin, voxel_mm, truncation)
    kept = KeptDepths()
    coords, touched = allocate(frames, origin, voxel_mm, truncation, part_of(progress, 0, 0.2), keys, kept)
    along, shallow = (max(n * voxel_mm, TOLD_WIDTHS * noise) for n in (manner.behind_voxels, SHALLOW_VOXELS))
    plan = Plan(
        origin, voxel_mm, truncation, max(BEHIND_VOXELS * voxel_mm, along), along, shallow, best, manner.edge_keeping,
    )  # fmt: skip
    fusing = part_of(progress, 0.2, 0.6 if len(points) else 1.0)
    workers = worker_count()
    if workers == 1:
        fields = [_fused_blocks(frames, touched, coords, plan, fusing, kept)]
    else:
        parts = np.array_split(np.arange(len(coords)), PARTS_PER_WORKER * workers)
        calls = ((frames, [_within(t, part) for t in touched], coords[part], plan) for part in parts)
        fields = list(in_order(_fused_blocks, calls, len(parts), fusing, "Fusing on the cluster"))
    distance, weight, colour = fields[0] if len(fields) == 1 else map(np.concatenate, zip(*fields, strict=True))
    if len(points):
        add_points(
            points, coords, (distance, weight, colour), origin, voxel_mm, truncation, plan.behind_mm,
            manner.edge_keeping, part_of(progress, 0.6 if frames else 0.2, 1.0),
        )  # fmt: skip
        told = weight.any(axis=1)
        coords, distance, weight, colour = coords[told], distance[told], weight[told], colour[told]
    progress(1.0, "Fused")
    return Volume(origin, voxel_mm, truncation, coords, distance, weight, colour)


def _within(touched: np.ndarray, part: np.ndarray) -> np.ndarray:
    """Those of some ordered block numbers that lie in a run of them, counted from its start."""
    low, high = np.searchsorted(touched, [part[0], part[-1] + 1]) if len(part) else (0, 0)
    return touched[low:high] - np.int32(part[0]) if high > low else touched[:0]


def _fused_blocks(
    frames: Frames,
    touched: list[np.ndarray],
    coords: np.ndarray,
    plan: Plan,
    progress: Progress = silent,
    kept: KeptDepths | None = None,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Distance, weight and colour of some blocks after all frames; blocks do not depend on each other.

    touched holds, per frame, the numbers of the blocks that it touches; kept some of their depths.
    """
    kept = kept or KeptDepths()
    field = Field.empty(coords)
    waiting: list[Shot] = []
    for done, ((scan, index), near) in enumerate(zip(frames, touched, strict=True)):
        # A frame is half done when it is read; the other half comes when its batch goes into the blocks.
        progress((done - 0.5 * len(waiting)) / len(frames), f"Fusing frame {done + 1} of {len(frames)}")
        waiting.append(_shot(scan, index, near, plan, kept.of(scan, index)))
        if len(waiting) == BATCH or sum(s.packed.nbytes for s in waiting) > BATCH_BYTES or done + 1 == len(frames):
            field.add(
                waiting, plan, part_of(progress, (done + 1 - len(waiting)) / len(frames), (done + 1) / len(frames))
            )
            waiting = []
    return field.distance, field.weight, field.colour_bytes()


def frames_to_fuse(state: ScanState, every: int = 1) -> Frames:
    """All (pass, frame) that are in and placed, every n-th of each pass; raises when there are neither frames nor points."""
    frames = [(p, int(i)) for p in state.used_passes() for i in p.frames_used()[::every]]
    if not frames and all(p.cloud is None for p in state.used_passes()):
        raise StepNotPossible("There is no placed pass with frames or points in it, so nothing to fuse.")
    return frames


def forecast_bytes(blocks: int) -> int:
    """Memory that fusing and polygonising so many blocks will take at its peak."""
    return blocks * 512 * (VOXEL_BYTES + MESH_BYTES)


def _shot(scan: PassState, index: int, touched: np.ndarray, plan: Plan, kept: KeptDepth | None = None) -> Shot:
    """A frame made ready; a noisier pass counts for less."""
    quality = 1.0
    if scan.noise_mm > 0:
        quality = max((plan.best_noise_mm / scan.noise_mm) ** 2, LEAST_QUALITY)
    surface, rows, columns = kept_part(scan, index, plan.edge_keeping, kept)
    image = scan.colour_in_depth_view(index, (rows, columns))
    return shot_of(surface, image, scan.T_object_camera(index), touched, quality)


def allocate(
    frames: Frames,
    origin: np.ndarray,
    voxel_mm: float,
    truncation: float,
    progress: Progress,
    more: np.ndarray = NO_KEYS,
    kept: KeptDepths | None = None,
) -> tuple[np.ndarray, list[np.ndarray]]:
    """(b, 3) int32 coordinates of all blocks near any measured point, and per frame the numbers of its own.

    more holds the keys of blocks that others than frames need; kept comes to hold the frames' depths. Blocks that lie near each other stand near each other.
    """
    kept = kept or KeptDepths()
    limit = int(MEMORY_SHARE * available_bytes()) // forecast_bytes(1)
    found, own = more, []
    if len(found) > limit:
        _refuse(len(found), len(frames), len(frames), limit, voxel_mm)
    for done, (scan, index) in enumerate(frames):
        progress(done / len(frames), "Finding where the surface is")
        own.append(_touched(kept.of(scan, index), scan.T_object_camera(index), origin, voxel_mm, truncation))
        if (done + 1) % MERGE_EVERY and done + 1 < len(frames):
            continue
        found = np.unique(np.concatenate([found, *own[done // MERGE_EVERY * MERGE_EVERY :]]))
        if len(found) > limit:
            _refuse(len(found), done + 1, len(frames), limit, voxel_mm)
    coords = np.stack([found >> 42, (found >> 21) & 0x1FFFFF, found & 0x1FFFFF], axis=1)
    order = np.argsort(_along_a_curve(coords), kind="stable")
    place = np.empty(len(order), np.int32)
    place[order] = np.arange(len(order))
    return (coords[order] - _kernels.HALF_SPAN).astype(np.int32), [
        np.sort(place[np.searchsorted(found, keys)]) for keys in own
    ]


def _along_a_curve(coords: np.ndarray) -> np.ndarray:
    """(b,) int64 places of blocks (b, 3), each under 2²¹, along a curve that stays near (Morton 1966): bits interleaved.

    Blocks that follow each other then ask for the same pixels, which are still at hand.
    """
    bits = coords.astype(np.int64)
    for shift, mask in SPREAD:
        bits = (bits | bits << shift) & mask
    return bits[:, 0] << 2 | bits[:, 1] << 1 | bits[:, 2]


def _touched(
    kept: KeptDepth, T_object_camera: np.ndarray, origin: np.ndarray, voxel_mm: float, truncation: float
) -> np.ndarray:
    """Keys, in order, of the blocks near the kept points of one frame."""
    stride = int(np.clip(4 * voxel_mm * kept.camera.fx / typical_depth(kept.depth), 1, 3))
    table = np.zeros(FIRST_TABLE, np.int64)
    place = (kept.camera.rays, stride, T_object_camera, origin, 8 * voxel_mm, truncation)
    while _kernels.touched_blocks(kept.depth, kept.wanted, *place, table, 0) < 0:
        table = np.zeros(4 * len(table), np.int64)
    return np.sort(table[table != 0])


def _refuse(used: int, done: int, total: int, limit: int, voxel_mm: float) -> None:
    fitting = voxel_mm * (max(used / limit, 1.0) ** 0.5) * 1.15
    raise StepNotPossible(
        f"At a voxel size of {voxel_mm:g} mm {f'{done} of {total} frames' if total else 'the points'} already need "
        f"{forecast_bytes(used) / 1e9:.1f} GB, more than is free. Choose {fitting:.2g} mm or more."
    )
