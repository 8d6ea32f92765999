"""`lucid-relic align`: place one point set or capture on another, with a verdict."""

import argparse
import json
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from lucid_relic.alignment.find_fit import find_fit
from lucid_relic.alignment.fit_result import Fit, Side
from lucid_relic.errors import NotAccepted
from lucid_relic.geometry.normals import with_normals
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.io.capture_archive import open_capture
from lucid_relic.io.formats import is_points_file
from lucid_relic.io.meshes import read_points
from lucid_relic.io.results import finite, write_json
from lucid_relic.operations.capture.place_frames import PlaceFramesParameters, place_frames
from lucid_relic.operations.clean.stand_cut import StandCutParameters, stand_cut
from lucid_relic.progress import silent
from lucid_relic.types import ScanState
from lucid_relic_cli.progress_line import progress_line


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("align", help="find how MOVING lies on FIXED")
    p.add_argument("fixed", metavar="FIXED", help="points (PLY, XYZ) or a capture")
    p.add_argument("moving", metavar="MOVING")
    p.add_argument("--out", metavar="T.json")
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Print (and write) T_fixed_moving with the verdict."""
    with tempfile.TemporaryDirectory(prefix="lucid-relic-") as scratch:
        fixed, moving = _side(options.fixed, f"{scratch}/0"), _side(options.moving, f"{scratch}/1")
        fit = find_fit(fixed, moving, progress_line())
    answer = finite(
        {
            "T_fixed_moving": fit.T_fixed_moving if isinstance(fit, Fit) else None,
            "accepted": fit.accepted,
            "reason": fit.reason,
            "overlap": fit.overlap,
            "rms_mm": fit.rms_mm,
            "free_space_violation": fit.free_space_violation,
            "rival": fit.rival,
        }
    )
    if options.out:
        write_json(options.out, answer)
    print(json.dumps(answer, indent=1))
    if not fit.accepted:
        raise NotAccepted(fit.reason)


def _side(path: str, scratch: str) -> Side:
    if is_points_file(path) and not Path(path).is_dir():
        cloud = read_points(path)
        return Side(with_normals(cloud, outward_from=cloud.points.mean(axis=0).astype(np.float64)))
    state = ScanState((open_capture(path, scratch).as_pass(),))
    state, _ = place_frames(state, PlaceFramesParameters(), silent)
    state, _ = stand_cut(state, StandCutParameters(), silent)
    scan = replace(state.passes[0], placed=True)
    return Side(pass_points(scan, 1.2 * pixel_spacing(scan)), scan)
