"""`lucid-relic sweep`: pictures of line sweeps before a corner become a capture folder."""

import argparse
import json
import shutil
from pathlib import Path

from lucid_relic.desk.sweeps import capture_of_sweeps
from lucid_relic.errors import InputError
from lucid_relic.io.sweep_folder import open_sweeps
from lucid_relic_cli.progress_line import progress_line


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("sweep", help="pictures of a laser line swept before a corner → capture folder")
    p.add_argument("folder", metavar="DIR", help="pictures with sweep.json")
    p.add_argument("--out", required=True, metavar="CAPTURE", help="capture folder to write")
    p.add_argument("--json", action="store_true", help="print JSON")
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Write the capture; nothing is left behind when it fails."""
    target = Path(options.out)
    if target.exists() and any(target.iterdir()):
        raise InputError(f"{target}: this folder is not empty; choose a new one")
    folder = open_sweeps(options.folder)
    progress = progress_line()
    try:
        told = capture_of_sweeps(folder, target, progress)
    except BaseException:
        shutil.rmtree(target, ignore_errors=True)
        raise
    progress(1.0, f"Wrote {target}")
    figures = {
        "frames": len(told.figures), "fx": told.corner.camera.fx, "walls": told.corner.walls.tolist(),
        "sweeps": [{"pictures": f.pictures, "read": f.read, "off_mm": round(f.off_mm, 4)} for f in told.figures],
    }  # fmt: skip
    if options.json:
        print(json.dumps(figures, indent=1))
        return
    for k, one in enumerate(told.figures):
        print(f"sweep {k + 1}: line read in {one.read} of {one.pictures} pictures, walls off by {one.off_mm:.3f} mm")
