"""Sparse-block truncated signed distance field.

Curless & Levoy (1996), doi:10.1145/237170.237269, in blocks of 8³ voxels as in Nießner et al.
(2013), doi:10.1145/2508363.2508374. Two departures: the distance is taken to the local plane of a
pixel, not along the viewing ray, which removes the bias at a slant; and the weight behind the surface
falls off early, so that the back of a thin wall survives.
"""

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.fusion import _kernels
from lucid_relic.geometry.depth_map import DepthMap, frame_map
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import PassState, ScanState, Volume

TRUNCATION_VOXELS = 4.0
NOISE_WIDTHS = 3.0
BEHIND_VOXELS = 3.0
MAX_BLOCKS = 2_000_000


def fuse_volume(state: ScanState, voxel_mm: float, progress: Progress) -> Volume:
    """Fuse all frames that are in, of all placed passes, into a `Volume`.

    Raises `StepNotPossible` when nothing is left to fuse or when the blocks would not fit memory.
    """
    frames = [(p, int(i)) for p in state.used_passes() for i in p.frames_used()]
    if not frames:
        raise StepNotPossible("There is no placed pass with frames in it, so nothing to fuse.")
    noise = max(p.noise_mm for p in state.used_passes())
    truncation = max(TRUNCATION_VOXELS * voxel_mm, NOISE_WIDTHS * noise)
    origin = np.zeros(3)
    coords = _allocate(frames, origin, voxel_mm, truncation, part_of(progress, 0, 0.35))
    size = (len(coords), 512)
    distance = np.ones(size, np.float32)
    weight = np.zeros(size, np.float32)
    colour = np.zeros((*size, 3), np.float32)
    colour_weight = np.zeros(size, np.float32)
    behind = max(BEHIND_VOXELS * voxel_mm, NOISE_WIDTHS * noise)
    for done, (scan, index) in enumerate(frames):
        progress(0.35 + 0.6 * done / len(frames), f"Fusing frame {done + 1} of {len(frames)}")
        surface = frame_map(scan, index)
        image = _image_in_depth_view(scan, index)
        _kernels.integrate(
            coords, distance, weight, colour, colour_weight, origin, voxel_mm, truncation, behind,
            inverse(scan.T_object_camera(index)), scan.camera.as_vector, surface.depth,
            surface.normals, surface.confidence, image, len(image) > 1,
        )  # fmt: skip
    progress(1.0, "Fused")
    return Volume(origin, voxel_mm, truncation, coords, distance, weight, np.round(colour).astype(np.uint8))


def _image_in_depth_view(scan: PassState, index: int) -> np.ndarray:
    """The photograph when it shares the depth camera's view, else a 1×1 stand-in."""
    image = scan.source.colour(index) if scan.colour_camera is None else None
    return np.zeros((1, 1, 3), np.uint8) if image is None else image


def _allocate(
    frames: list[tuple[PassState, int]],
    origin: np.ndarray,
    voxel_mm: float,
    truncation: float,
    progress: Progress,
) -> np.ndarray:
    """(b, 3) int32 coordinates of all blocks near any measured point, in key order."""
    found = np.empty(0, np.int64)
    for done, (scan, index) in enumerate(frames):
        progress(done / len(frames), "Finding where the surface is")
        surface = frame_map(scan, index)
        found = np.union1d(found, _blocks_of(surface, scan.T_object_camera(index), origin, voxel_mm, truncation))
        if len(found) > MAX_BLOCKS:
            raise StepNotPossible(
                f"At a voxel size of {voxel_mm:g} mm the surface needs more than "
                f"{MAX_BLOCKS * 512 * 24 / 1e9:.0f} GB. Choose a larger voxel size."
            )
    coords = np.stack([found >> 42, (found >> 21) & 0x1FFFFF, found & 0x1FFFFF], axis=1)
    return (coords - (1 << 20)).astype(np.int32)


def _blocks_of(
    surface: DepthMap, T_object_camera: np.ndarray, origin: np.ndarray, voxel_mm: float, truncation: float
) -> np.ndarray:
    mask = surface.confidence > 0
    points = transform_points(T_object_camera, surface.points(mask))
    normals = surface.normals[mask] @ T_object_camera[:3, :3].T
    keys = np.empty(len(points) * 5, np.int64)
    used = _kernels.touched_blocks(
        points, normals.astype(np.float32), origin, 8 * voxel_mm, truncation + voxel_mm, keys
    )
    return np.unique(keys[:used])
