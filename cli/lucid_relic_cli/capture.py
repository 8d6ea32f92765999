"""`lucid-relic capture`: the virtual scanner writes a capture folder."""

import argparse
import shutil
from pathlib import Path

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import ScannerTraits, TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.errors import InputError
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.meshes import read_mesh
from lucid_relic_cli.progress_line import progress_line

DEVICES = {
    "standard": ScannerTraits(),
    "close": ScannerTraits(standoff_mm=200.0, noise_mm=0.02, band_mm=(90.0, 420.0), focal_px=864.0),
}


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("capture", help="capture a demo object or a mesh with the virtual scanner")
    p.add_argument("model", metavar="NAME|MESH", help=f"one of {', '.join(DEMO_OBJECTS)}, or a mesh file in mm")
    p.add_argument("--out", required=True, metavar="DIR", help="capture folder to write")
    p.add_argument("--device", choices=sorted(DEVICES), default="standard")
    p.add_argument("--stops", type=int, default=24, help="stops of a turn, or frames by hand (default 24)")
    p.add_argument("--tip", type=float, default=0.0, metavar="DEG", help="tip the object before the pass")
    p.add_argument("--hand", action="store_true", help="a path by hand instead of the turntable")
    p.add_argument("--seed", type=int, default=0, metavar="N")
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Capture into a new folder; nothing is left behind when it fails."""
    if not 3 <= options.stops <= 2000:
        raise InputError(f"--stops must lie between 3 and 2000, not {options.stops}")
    target = Path(options.out)
    if target.exists() and any(target.iterdir()):
        raise InputError(f"{target}: this folder is not empty; choose a new one")
    model = _model(options.model)
    traits = DEVICES[options.device]
    title = "upright" if options.tip == 0 else f"tipped {options.tip:g}°"
    device: PlannedDevice
    if options.hand:
        plan = HandPlan(frames=options.stops, tip_deg=options.tip, title=f"{title}, by hand")
        device = VirtualHandScanner(model, plan, traits, options.seed)
    else:
        table = TurntablePlan(stops=options.stops, tip_deg=options.tip, title=title)
        device = VirtualScanner(model, table, traits, options.seed)
    progress = progress_line()
    try:
        writer = CaptureWriter(target, device.manifest())
        for index in range(device.frame_count()):
            progress(index / device.frame_count(), f"Frame {index + 1} of {device.frame_count()}")
            shot = device.shoot(index)
            writer.add(shot.depth, shot.colour, **shot.fields)
        writer.finish()
    except BaseException:
        shutil.rmtree(target, ignore_errors=True)
        raise
    progress(1.0, f"Wrote {target}")


def _model(name: str) -> ScanModel:
    if name in DEMO_OBJECTS:
        return demo_model(name)
    if not Path(name).suffix:
        raise InputError(f"{name}: neither a demo object ({', '.join(DEMO_OBJECTS)}) nor a mesh file")
    return ScanModel.plain(read_mesh(name))
