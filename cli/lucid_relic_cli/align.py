"""`lucid-relic align`: place one point set or capture on another, with a verdict."""

import argparse
import json
import tempfile
from dataclasses import replace
from pathlib import Path

from lucid_relic.alignment.fit_result import Fit
from lucid_relic.alignment.place_passes import place_passes
from lucid_relic.errors import NotAccepted, ParameterError
from lucid_relic.geometry.pass_points import pass_points
from lucid_relic.geometry.spacing import pixel_spacing
from lucid_relic.io.arrivals import Said
from lucid_relic.io.results import finite, write_json
from lucid_relic.operations.align.find_fit import POINT_SPACINGS
from lucid_relic.operations.capture.place_frames import PlaceFramesParameters, place_frames
from lucid_relic.operations.clean.stand_cut import StandCutParameters, stand_cut
from lucid_relic.progress import silent
from lucid_relic.types import PassState, ScanState
from lucid_relic_cli.inputs import INPUTS, add_said, open_passes, said
from lucid_relic_cli.progress_line import progress_line


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("align", help="find how MOVING lies on FIXED")
    p.add_argument("fixed", metavar="FIXED", help=INPUTS)
    p.add_argument("moving", metavar="MOVING")
    p.add_argument("--out", metavar="T.json")
    add_said(p)
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Print (and write) T_fixed_moving with the verdict."""
    asked = replace(said(options), least_points=1)  # too few are no bad input here: they do not fit, with the reason
    with tempfile.TemporaryDirectory(prefix="lucid-relic-") as scratch:
        both = [_pass(p, Path(scratch) / str(k), asked) for k, p in enumerate((options.fixed, options.moving))]
        passes = (replace(both[0], placed=True), replace(both[1], placed=False))
        clouds = [pass_points(p, POINT_SPACINGS * pixel_spacing(p)) for p in passes]
        _, tried = place_passes(passes, clouds, progress_line())
    fit = tried[0][2]
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


def _pass(path: str, scratch: Path, said_of_it: Said) -> PassState:
    """The one pass of a file or folder; frames are placed and their stand cut away first."""
    passes = open_passes([path], scratch, said_of_it)
    if len(passes) > 1:
        raise ParameterError(f"{path}: {len(passes)} scans inside; align takes files of one")
    if passes[0].cloud is not None:
        return passes[0]
    state, _ = place_frames(ScanState(tuple(passes)), PlaceFramesParameters(), silent)
    state, _ = stand_cut(state, StandCutParameters(), silent)
    return state.passes[0]
