"""What settle and find fit need of a frame: a thinned surface map and a sample of its points."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.types import PassState

SAMPLES = 1500
STRIDE = 2


@dataclass(frozen=True)
class FrameView:
    """One frame's surface in its camera's frame, thinned to every second pixel.

    fitted (h/2, w/2) float32 mm; normals, rays and confidence alike; points (n, 3), point_normals
    and weights a seeded sample; noise_mm its scatter; spacing_mm the distance between pixels.
    """

    cam: np.ndarray
    rays: np.ndarray
    fitted: np.ndarray
    normals: np.ndarray
    confidence: np.ndarray
    points: np.ndarray
    point_normals: np.ndarray
    weights: np.ndarray
    noise_mm: float
    spacing_mm: float


def frame_view(scan: PassState, index: int, cleaned: bool = True) -> FrameView:
    """Read a frame and thin it; the sample is drawn with the frame's index as seed."""
    surface = frame_map(scan, index, cleaned)
    mask = surface.confidence > 0.05
    count = int(mask.sum())
    points = surface.points(mask, smoothed=True)
    rng = np.random.default_rng([index, 5])
    chosen = np.sort(rng.choice(count, min(SAMPLES, count), replace=False))
    half = (slice(None, None, STRIDE), slice(None, None, STRIDE))
    depth = float(np.median(points[:, 2])) if count else 0.0
    return FrameView(
        cam=scan.camera.as_vector,
        rays=np.ascontiguousarray(scan.camera.rays[half]),
        fitted=np.ascontiguousarray(surface.fitted[half]),
        normals=np.ascontiguousarray(surface.normals[half]),
        confidence=np.ascontiguousarray(surface.confidence[half]),
        points=points[chosen],
        point_normals=surface.normals[mask][chosen],
        weights=surface.confidence[mask][chosen],
        noise_mm=surface.noise_mm,
        spacing_mm=depth / scan.camera.fx,
    )
