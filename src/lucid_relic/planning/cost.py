"""What a pass will cost: points, memory and minutes, from the instrument, the path and the object in view."""

from dataclasses import dataclass

import numpy as np

from lucid_relic.types import Camera, Instrument, Shutter

CONVEX = 4.0  # surface of a convex body over its mean shadow (Cauchy 1841)
RELIEF = 1.15  # more than that of bodies with hollows and relief
BYTES_PER_VOXEL, VOXELS_DEEP = 11, 9  # of a fused surface
BYTES_PER_PIXEL = 40  # of a frame that is being worked on: depth, normals, confidence, light
FRAMES_AT_ONCE = 30
BYTES_PER_TRIANGLE = 60
PROCESS_MB = 350  # of the program with its compiled loops


@dataclass(frozen=True)
class Cost:
    """points at the spacing; memory_mb of working them; minutes of the pass itself."""

    points: int
    memory_mb: float
    minutes: float


def shadow_mm2(depth: np.ndarray, outline: np.ndarray, camera: Camera) -> float:
    """Area (mm²) of an object's outline at its own distance; unmeasured pixels are as far as the measured ones."""
    on = outline & (depth > 0)
    if not on.any():
        return 0.0
    return float(outline.sum()) * float(np.mean(depth[on]) ** 2) / (camera.fx * camera.fy)


def surface_mm2(shadow: float) -> float:
    """Surface (mm²) of a body of which one shadow is known."""
    return CONVEX * RELIEF * shadow


def seconds_per_stop(sheet: Instrument, shutter: Shutter) -> float:
    """From one stop of the table to the next: turning, then one picture for each exposure."""
    exposures = shutter.exposure_ms or sheet.exposure_ms[1:2]
    return sheet.stop_s + sum(1 / sheet.frames_per_s + ms / 1000 for ms in exposures)


def cost(sheet: Instrument, shutter: Shutter, frames: int, surface: float, spacing_mm: float) -> Cost:
    """The cost of a pass of `frames` over a surface (mm²) at a point spacing (mm)."""
    cells = surface / spacing_mm**2
    fused = cells * (VOXELS_DEEP * BYTES_PER_VOXEL + 4 * BYTES_PER_TRIANGLE)
    held = min(frames, FRAMES_AT_ONCE) * sheet.camera.width * sheet.camera.height * BYTES_PER_PIXEL
    return Cost(int(cells), PROCESS_MB + (fused + held) / 1e6, frames * seconds_per_stop(sheet, shutter) / 60)
