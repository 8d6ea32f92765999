"""What commands take as input: captures, RGB-D folders, points and meshes, with what is said of them by options."""

import argparse
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

from lucid_relic.errors import ParameterError
from lucid_relic.geometry.measured import guessed_unit, size_of
from lucid_relic.io.arrivals import Said, arrive, open_pass_folder
from lucid_relic.io.formats import format_of
from lucid_relic.io.meshes import read_mesh
from lucid_relic.io.tum import Lens
from lucid_relic.operations.chosen import own_title
from lucid_relic.types import UNITS_MM, PassState, TriangleMesh
from lucid_relic_cli.progress_line import progress_line

INPUTS = "captures, RGB-D folders, .zip of either, points or meshes"


def add_unit(p: argparse.ArgumentParser) -> None:
    """The option for files that do not say their unit."""
    p.add_argument(
        "--unit", choices=tuple(UNITS_MM), help="of points and meshes that do not say it; else it is guessed"
    )


def add_said(p: argparse.ArgumentParser) -> None:
    """All options that say what files do not."""
    add_unit(p)
    p.add_argument("--camera", metavar="FX,FY,CX,CY[,W,H]", help="of RGB-D folders, in pixels")
    p.add_argument(
        "--depth-unit", type=float, default=0.0, metavar="MM", help="of one count of depth there (default 0.2)"
    )


def said(options: argparse.Namespace) -> Said:
    """What the options say; raises `ParameterError` for what cannot be."""
    if not np.isfinite(options.depth_unit) or options.depth_unit < 0:
        raise ParameterError(f"--depth-unit must be greater than 0, not {options.depth_unit}")
    return Said(options.unit or "", _lens(options.camera), options.depth_unit)


def _lens(text: str | None) -> Lens | None:
    if text is None:
        return None
    try:
        numbers = [float(t) for t in text.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) not in (4, 6):
        raise ParameterError(f"--camera takes fx,fy,cx,cy and perhaps width,height, not “{text}”")
    fx, fy, cx, cy = numbers[:4]
    width, height = numbers[4:] or (0.0, 0.0)
    return Lens(fx, fy, cx, cy, int(width), int(height))


def open_passes(paths: list[str], scratch: Path, options: Said) -> list[PassState]:
    """The passes of all files and folders, in their order, no two with the same title."""
    passes: list[PassState] = []
    for n, path in enumerate(paths):
        for folder in arrive(Path(path), scratch / str(n), options, progress_line()):
            scan = open_pass_folder(folder)
            _tell_guess(scan)
            passes.append(replace(scan, title=own_title(scan.title, [p.title for p in passes])))
    return passes


def _tell_guess(scan: PassState) -> None:
    if scan.cloud is not None and scan.cloud.unit_from == "size":
        size = size_of(scan.cloud.cloud.points) / UNITS_MM[scan.cloud.unit]
        _tell(scan.title, size, scan.cloud.unit)


def _tell(name: str, size: float, unit: str) -> None:
    print(
        f"lucid-relic: {name}: no unit said; {size:.4g} across, taken for {unit} (--unit says otherwise)",
        file=sys.stderr,
    )


def open_mesh(path: str, unit: str | None) -> TriangleMesh:
    """A mesh in millimetres."""
    mesh = read_mesh(path)
    if not unit and format_of(path).unit:
        return mesh
    size = size_of(mesh.vertices)
    chosen = unit or guessed_unit(size)
    if not unit:
        _tell(Path(path).name, size, chosen)
    return mesh if chosen == "mm" else mesh.transformed(np.diag([UNITS_MM[chosen]] * 3 + [1.0]))
