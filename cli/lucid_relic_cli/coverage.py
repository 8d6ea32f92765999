"""`lucid-relic coverage`: is it enough, what is thin, what was never seen, and what to capture next."""

import argparse
import json
import tempfile
from pathlib import Path

from lucid_relic.capture.instruments import INSTRUMENTS, instrument
from lucid_relic.desk.coverage import judge, placed_coarsely
from lucid_relic.planning.coverage import ENOUGH, enough_for
from lucid_relic.progress import part_of
from lucid_relic.types import ScanState
from lucid_relic_cli.inputs import INPUTS, add_said, open_passes, said
from lucid_relic_cli.progress_line import progress_line


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("coverage", help="is it seen enough, and what to capture next")
    p.add_argument("inputs", nargs="+", metavar="CAPTURE", help=INPUTS)
    p.add_argument("--for", dest="use", choices=sorted(ENOUGH), default="print", help="what the result is for")
    p.add_argument(
        "--device", choices=sorted(INSTRUMENTS), default="desk", help="that the next pass would be taken with"
    )
    p.add_argument("--json", action="store_true", help="print JSON")
    add_said(p)
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Place the passes coarsely and print what is known of the surface."""
    progress = progress_line()
    with tempfile.TemporaryDirectory() as scratch:
        passes = open_passes(options.inputs, Path(scratch), said(options))
        first, *rest = passes
        state = placed_coarsely(ScanState((first, *rest)), part_of(progress, 0.0, 0.6))
        judged = judge(state, enough_for(options.use), instrument(options.device), part_of(progress, 0.6, 1.0))
    progress(1.0, "Judged")
    figures = judged.figures()
    if options.json:
        print(json.dumps(figures, indent=1))
        return
    print(f"seen enough  {figures['seen_enough']:.0%} for a {options.use}")
    print(f"thin         {figures['thin_cm2']:.1f} cm²")
    print(f"never seen   {figures['never_cm2']:.1f} cm²")
    for one in figures["next"]:
        print(f"next         {one['words']}: adds {one['gain']:.0%}, {one['common']:.0%} of it in common")
