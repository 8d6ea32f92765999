"""`lucid-relic track`: the live pipeline over a hand-held capture, and where it was held, lost and found."""

import argparse
import json
import tempfile
from pathlib import Path

import numpy as np

from lucid_relic.desk.live_run import LiveRun, follow
from lucid_relic.errors import ParameterError
from lucid_relic_cli.inputs import INPUTS, add_said, open_passes, said
from lucid_relic_cli.progress_line import progress_line

FASTEST = 1000.0  # frames a second that may be asked for


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("track", help="follow a hand-held capture live: held, lost, found, slips, poses")
    p.add_argument("input", metavar="CAPTURE", help=INPUTS)
    p.add_argument(
        "--rate", type=float, metavar="FPS", help="let the frames come at this rate; else as fast as it goes"
    )
    p.add_argument("--json", action="store_true", help="print JSON")
    add_said(p)
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Follow the first pass of a capture and print what became of its frames."""
    rate = options.rate
    if rate is not None and not (np.isfinite(rate) and 0 < rate <= FASTEST):
        raise ParameterError(f"--rate must lie between 0 and {FASTEST:g} frames a second, not {rate:g}")
    progress = progress_line()
    with tempfile.TemporaryDirectory() as scratch:
        scan, *_ = open_passes([options.input], Path(scratch), said(options))
        live = follow(scan, progress, rate)
    progress(1.0, "Followed")
    print(json.dumps(live.figures(), indent=1) if options.json else _words(live))


def _words(live: LiveRun) -> str:
    lines = [
        f"frames    {len(live.followed)}",
        f"held      {len(live.poses)}",
        f"found     {sum(f.found for f in live.followed)} times after a loss",
        f"speed     {live.frames_per_s:.1f} frames/s, {live.late} placed later",
        f"drift     {live.drift_mm:.2f} mm where the way met itself",
    ]
    lines += [f"lost      {first} to {last}: {reason}" for first, last, reason in live.lost()]
    lines += [f"slipped   {first} to {last}" for first, last in live.slips]
    return "\n".join(lines)
