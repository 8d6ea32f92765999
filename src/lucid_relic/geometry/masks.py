"""Packed masks of a pass: a bit for each pixel of each frame, or for each point that came in."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.geometry.rigid import transform_points
from lucid_relic.progress import Progress
from lucid_relic.types import PassState

Asks = Callable[[np.ndarray, np.ndarray], np.ndarray]


@dataclass(frozen=True)
class PixelMask:
    """Packed bits (n, bytes) of chosen pixels, how many were chosen, and of how many that were usable."""

    bits: np.ndarray
    chosen: int
    usable: int


def pixels_where(scan: PassState, asks: Asks, message: str, progress: Progress, cleaned: bool = True) -> PixelMask:
    """The usable pixels of every frame of a pass, or its points, where `asks` is true of their places and normals (n, 3).

    Both are in the object's frame. With cleaned only those that are kept are asked.
    """
    if scan.cloud is not None:
        kept = scan.kept_points() if cleaned else None
        asked = np.ones(len(scan.cloud), np.bool_) if kept is None else kept
        own = scan.cloud.cloud
        places = transform_points(scan.T_object_pass, own.points[asked].astype(np.float64))
        chosen = np.zeros(len(scan.cloud), np.bool_)
        chosen[asked] = asks(places, own.normals[asked] @ scan.T_object_pass[:3, :3].T)
        return PixelMask(np.packbits(chosen)[None], int(chosen.sum()), int(asked.sum()))
    masks, count, usable = [], 0, 0
    for index in range(scan.frame_count):
        progress(index / scan.frame_count, f"{message} “{scan.title}”")
        surface = frame_map(scan, index, cleaned)
        mask = surface.confidence > 0
        usable += int(mask.sum())
        pose = scan.T_object_camera(index)
        places = transform_points(pose, surface.points(mask, surface.unshrunk()).astype(np.float64))
        mask[mask] = asks(places, surface.normals[mask] @ pose[:3, :3].T)
        count += int(mask.sum())
        masks.append(np.packbits(mask.ravel()))
    return PixelMask(np.stack(masks), count, usable)


def all_kept(scan: PassState) -> np.ndarray:
    """Packed bits (n, bytes) that keep everything of a pass."""
    if scan.cloud is not None:
        return np.full((1, -(-len(scan.cloud) // 8)), 255, np.uint8)
    return np.full((scan.frame_count, -(-scan.camera.width * scan.camera.height // 8)), 255, np.uint8)


def without(scan: PassState, bits: np.ndarray) -> np.ndarray:
    """Packed bits (n, bytes) of what is kept of a pass when some of it goes."""
    return (all_kept(scan) if scan.keep is None else scan.keep) & ~bits
