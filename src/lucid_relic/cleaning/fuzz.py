"""Trim fuzz: take away points that other frames looked through.

A point of one frame is projected into the other frames. Where a frame measured something well behind it,
that frame saw free space there. Points contradicted by more frames than agree with them are noise
standing off the surface: torn edges, reflections, dust, rests of the stand.
"""

import numpy as np

from lucid_relic.geometry import _kernels
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import inverse, transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState

WITNESSES = 16
MIN_CONTRADICTIONS = 2


def trimmed_masks(
    passes: tuple[PassState, ...], margin_mm: float, progress: Progress
) -> tuple[list[np.ndarray], int, int]:
    """Packed keep masks of every pass without fuzz, and the points before and after.

    margin_mm says how far behind a point a frame must have seen to contradict it.
    """
    frames = [(n, int(i)) for n, p in enumerate(passes) for i in p.frames_used()]
    depths = [passes[n].source.depth(i) for n, i in frames]
    poses = [passes[n].T_object_camera(i) for n, i in frames]
    masks = [
        p.keep.copy() if p.keep is not None else np.full((p.frame_count, -(-p.camera.width * p.camera.height // 8)), 255, np.uint8)
        for p in passes
    ]  # fmt: skip
    before = after = 0
    for k, (n, i) in enumerate(frames):
        progress(k / len(frames), f"Trimming fuzz, frame {k + 1} of {len(frames)}")
        surface = frame_map(passes[n], i)
        seen = surface.confidence > 0
        points = transform_points(poses[k], surface.points(seen).astype(np.float64))
        agree, contradict = np.zeros(len(points), np.int64), np.zeros(len(points), np.int64)
        for j in _witnesses(k, len(frames)):
            scan = passes[frames[j][0]]
            _kernels.see_through(
                points, inverse(poses[j]), scan.camera.as_vector, depths[j], margin_mm, agree, contradict
            )
        keep = seen.copy()
        keep[seen] = ~((contradict >= MIN_CONTRADICTIONS) & (contradict > agree))
        masks[n][i] = np.packbits(keep.ravel())
        before += int(seen.sum())
        after += int(keep.sum())
    return masks, before, after


def _witnesses(k: int, count: int) -> np.ndarray:
    """Other frames to ask, spread evenly over all."""
    others = np.delete(np.arange(count), k)
    if len(others) <= WITNESSES:
        return others
    return others[np.linspace(k % 3, len(others) - 1, WITNESSES).astype(int)]
