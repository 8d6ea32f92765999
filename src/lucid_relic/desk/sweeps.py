"""Line sweeps to a capture: the corner's planes, then a depth image for every sweep."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.calibration.board import Board
from lucid_relic.calibration.corner import LEFT, RIGHT, corner_of
from lucid_relic.errors import InputError
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.sweep_folder import OneSweep, SweepFolder
from lucid_relic.progress import Progress
from lucid_relic.triangulation.sweep import Corner, SweepFigures, depth_of_sweep

DEPTH_UNIT_MM = 0.02


@dataclass(frozen=True)
class SweepCapture:
    """What became of the sweeps: the corner, and figures of each."""

    corner: Corner
    figures: tuple[SweepFigures, ...]


def capture_of_sweeps(folder: SweepFolder, out: Path, progress: Progress) -> SweepCapture:
    """Write a capture folder of a folder of sweeps, a frame for each; raises `InputError` or `StepNotPossible` in words."""
    corner = _corner(folder)
    writer = CaptureWriter(out, manifest_of(folder.title, corner))
    figures = []
    for k, sweep in enumerate(folder.sweeps):
        progress(k / len(folder.sweeps), f"Sweep {k + 1} of {len(folder.sweeps)}")
        depth, told = depth_of_sweep(len(sweep.pictures), _reader(folder, sweep, corner), corner, f"sweep {k + 1}", k)
        photograph = None if sweep.photograph is None else folder.picture(sweep.photograph)
        writer.add(depth, photograph, time_s=float(k), pictures=told.read, off_mm=round(told.off_mm, 4))
        figures.append(told)
    writer.finish()
    return SweepCapture(corner, tuple(figures))


def manifest_of(title: str, corner: Corner) -> dict[str, Any]:
    """The manifest's head of a pass of sweeps: tracked by shape, since the object is turned by hand."""
    c = corner.camera
    camera = {
        "width": c.width,
        "height": c.height,
        "fx": c.fx,
        "fy": c.fy,
        "cx": c.cx,
        "cy": c.cy,
        "distortion": list(c.distortion),
    }
    return {
        "format": "lucid-relic/capture", "version": 1, "title": title, "depth_unit_mm": DEPTH_UNIT_MM, "camera": camera,
        "tracking": "shape", "device": {"name": "line laser"}, "walls": corner.walls.tolist(),
    }  # fmt: skip


def _corner(folder: SweepFolder) -> Corner:
    if folder.corner is None:
        return Corner(folder.camera, folder.walls)
    boards = (LEFT, RIGHT) if folder.boards is None else (Board(**folder.boards[0]), Board(**folder.boards[1]))
    camera, walls = corner_of(folder.picture(folder.corner), boards, folder.camera)
    return Corner(camera, walls if folder.walls is None else folder.walls)


def _reader(folder: SweepFolder, sweep: OneSweep, corner: Corner) -> Callable[[int], np.ndarray]:
    def picture(index: int) -> np.ndarray:
        name = sweep.pictures[index]
        image = folder.picture(name)
        if image.shape[:2] != (corner.camera.height, corner.camera.width):
            h, w = image.shape[:2]
            raise InputError(
                f"{name}: this picture is {w}×{h}, the camera {corner.camera.width}×{corner.camera.height}"
            )
        return image

    return picture
