"""From a depth image to surface: points, normals and a confidence per pixel.

A plane is linear in inverse depth: 1/z = m·(x, y, 1) with m = n/d. A least-squares fit of m over a
small window that does not reach across depth jumps gives the normal and a smoothed depth at once.
A pixel is left out when a neighbour is torn off it (the step is steeper than 80° to the ray), when
too few neighbours belong to it, or when the surface is seen at a grazing angle.
"""

from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry import _kernels
from lucid_relic.types import Camera, PassState

MAX_SLANT_DEG = 75.0


@dataclass(frozen=True)
class DepthMap:
    """Surface seen in one frame, in the camera's frame.

    depth (h, w) float32 mm as measured; fitted (h, w) float32 mm smoothed by the local plane, 0
    where not usable; normals (h, w, 3) float32 towards the camera; confidence (h, w) float32 0-1;
    noise_mm the median local scatter.
    """

    camera: Camera
    depth: np.ndarray
    fitted: np.ndarray
    normals: np.ndarray
    confidence: np.ndarray
    noise_mm: float

    def points(self, mask: np.ndarray, smoothed: bool = False) -> np.ndarray:
        """(n, 3) float32 camera-frame points of the pixels in `mask` (h, w), in row order."""
        z = (self.fitted if smoothed else self.depth)[mask]
        rays = self.camera.rays[mask]
        return np.stack([rays[:, 0] * z, rays[:, 1] * z, z], axis=1)


def depth_map(depth: np.ndarray, camera: Camera, radius: int = 2) -> DepthMap:
    """Compute the `DepthMap` of a depth image (h, w) float32 mm; window (2·radius + 1)²."""
    shape = depth.shape
    fitted = np.empty(shape, np.float32)
    normals = np.zeros((*shape, 3), np.float32)
    confidence = np.empty(shape, np.float32)
    residual = np.zeros(shape, np.float32)
    _kernels.depth_surface(
        np.ascontiguousarray(depth, dtype=np.float32),
        camera.rays,
        1.0 / camera.fx,
        radius,
        float(np.cos(np.radians(MAX_SLANT_DEG))),
        fitted,
        normals,
        confidence,
        residual,
    )
    clear = residual[confidence > 0.3]
    noise = float(np.median(clear)) if len(clear) else 0.0
    return DepthMap(camera, depth, fitted, normals, confidence, noise)


def frame_map(scan: PassState, index: int, cleaned: bool = True) -> DepthMap:
    """The `DepthMap` of one frame of a pass; `cleaned` zeroes the confidence of unkept pixels."""
    result = depth_map(scan.source.depth(index), scan.camera)
    keep = scan.keep_mask(index) if cleaned else None
    if keep is not None:
        result.confidence[~keep] = 0
    return result
