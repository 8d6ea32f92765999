"""Trim fuzz: take away points that other frames looked through.

A point of one frame is projected into the other frames. Where a frame measured something well behind it,
that frame saw free space there. Points contradicted by more frames than agree with them are noise
standing off the surface: torn edges, reflections, dust, rests of the stand.
"""

import numpy as np

from lucid_relic.executor import in_order
from lucid_relic.geometry import _kernels
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState

WITNESSES = 16  # frames asked about each point: more found the same points
MIN_CONTRADICTIONS = 2  # a single frame may err itself


def trimmed_masks(
    passes: tuple[PassState, ...], margin_mm: float, progress: Progress
) -> tuple[list[np.ndarray], int, int]:
    """Packed keep masks of every pass without fuzz, and the points before and after.

    margin_mm says how far behind a point a frame must have seen to contradict it.
    """
    frames = [(n, int(i)) for n, p in enumerate(passes) for i in p.frames_used()]
    masks = [
        p.keep.copy() if p.keep is not None else np.full((p.frame_count, -(-p.camera.width * p.camera.height // 8)), 255, np.uint8)
        for p in passes
    ]  # fmt: skip
    before = after = 0
    calls = ((passes, frames, k, margin_mm) for k in range(len(frames)))
    for k, kept in enumerate(in_order(_trimmed_frame, calls, len(frames), progress, "Trimming fuzz")):
        mask, seen = kept
        n, i = frames[k]
        masks[n][i] = np.packbits(mask.ravel())
        before += seen
        after += int(mask.sum())
    return masks, before, after


def _trimmed_frame(
    passes: tuple[PassState, ...], frames: list[tuple[int, int]], k: int, margin_mm: float
) -> tuple[np.ndarray, int]:
    """Which pixels (h, w) of one frame stay, and how many there were."""
    n, i = frames[k]
    surface = frame_map(passes[n], i)
    seen = surface.confidence > 0
    points = transform_points(passes[n].T_object_camera(i), surface.points(seen).astype(np.float64))
    agree, contradict = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
    for j in _witnesses(k, len(frames)):
        scan, index = passes[frames[j][0]], frames[j][1]
        pose = inverse(scan.T_object_camera(index))
        depth = scan.source.depth(index)
        _kernels.see_through(points, pose, scan.camera.as_vector, depth, margin_mm, agree, contradict)
    keep = seen.copy()
    keep[seen] = ~((contradict >= MIN_CONTRADICTIONS) & (contradict > agree))
    return keep, int(seen.sum())


def _witnesses(k: int, count: int) -> np.ndarray:
    """Other frames to ask, spread evenly over all."""
    others = np.delete(np.arange(count), k)
    if len(others) <= WITNESSES:
        return others
    return others[np.linspace(k % 3, len(others) - 1, WITNESSES).astype(int)]
