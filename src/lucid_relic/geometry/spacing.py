"""How finely a pass was sampled."""

import numpy as np

from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.depth_map import frame_map
from lucid_relic.memo import remembered
from lucid_relic.types import PassState


def pixel_spacing(scan: PassState) -> float:
    """Distance in mm between neighbouring pixels on the surface, in the middle used frame, or between points that came in.

    Raises `StepNotPossible` for a pass without frames or without any surface.
    """
    if scan.cloud is not None:
        return scan.cloud.spacing_mm
    return remembered(scan, "pixel_spacing", lambda: _pixel_spacing(scan))


def depth_noise(scan: PassState) -> float:
    """Scatter in mm of single depths about their surface: as it was found, else that of the middle used frame."""
    if scan.noise_mm > 0:
        return scan.noise_mm
    frames = scan.frames_used()
    if not len(frames):
        return 0.0
    return remembered(scan, "depth_noise", lambda: frame_map(scan, int(frames[len(frames) // 2])).noise_mm)


def _pixel_spacing(scan: PassState) -> float:
    frames = scan.frames_used()
    if not len(frames):
        raise StepNotPossible(f"“{scan.title}” has no frames in.")
    surface = frame_map(scan, int(frames[len(frames) // 2]))
    mask = surface.confidence > 0
    if not mask.any():
        raise StepNotPossible(f"“{scan.title}” has no usable surface: look at the working range and the exposure.")
    return float(np.median(surface.depth[mask])) / scan.camera.fx
