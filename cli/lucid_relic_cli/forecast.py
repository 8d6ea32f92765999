"""`lucid-relic forecast`: what will be held, what drops out and what a pass costs, from a first frame or a mesh."""

import argparse
import json
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.capture.instruments import INSTRUMENTS, instrument
from lucid_relic.desk.forecast import Forecast, forecast, forecast_of_mesh, shape_forecast
from lucid_relic.io.formats import format_of
from lucid_relic.planning.paths import RINGS, preset_path, turn_path
from lucid_relic.planning.ways import Pose, Way
from lucid_relic.types import Instrument, PassState, Shutter, Stop
from lucid_relic_cli.inputs import add_said, open_mesh, open_passes, said


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("forecast", help="grip, drop-out and cost of a pass, from its first frame or a mesh")
    p.add_argument("input", metavar="CAPTURE|MESH")
    p.add_argument("--device", choices=sorted(INSTRUMENTS), default="desk")
    p.add_argument("--stops", type=int, default=12, help="stops of the turn that is planned (default 12)")
    p.add_argument("--path", choices=tuple(RINGS), help="a preset of a two-axis table instead of a turn")
    p.add_argument("--spacing", type=float, default=0.0, metavar="MM", help="of the points; default that of the pixels")
    p.add_argument(
        "--exposure", type=float, metavar="MS", help="with which the frame was taken; default the nominal one"
    )
    p.add_argument("--infrared", action="store_true")
    p.add_argument("--json", action="store_true", help="print JSON")
    add_said(p)
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Print the forecast; what a path sees is told from the first three frames of a turntable capture."""
    sheet = instrument(options.device)
    shutter = Shutter(exposure_ms=(options.exposure,) if options.exposure else (), infrared=options.infrared).check(
        sheet
    )
    stops = preset_path(options.path) if options.path else turn_path(options.stops)
    kind = format_of(options.input)
    if kind is not None and kind.read_mesh is not None and "shape" in kind.carries:
        told = forecast_of_mesh(open_mesh(options.input, options.unit), sheet, shutter, stops, options.spacing)
        figures = _figures(told)
    else:
        with tempfile.TemporaryDirectory() as scratch:
            scan = open_passes([options.input], Path(scratch), said(options))[0]
            told = forecast(scan, sheet, shutter, len(stops), options.spacing)
            figures = {**_figures(told), **_seen(scan, sheet, shutter, stops)}
    if options.json:
        print(json.dumps(figures, indent=1))
        return
    for name, value in figures.items():
        print(f"{name:10} {value}")
    for words in told.drop.advice() if told.drop is not None else ():
        print(f"{'advice':10} {words}")


def _figures(told: Forecast) -> dict[str, Any]:
    shares = told.drop.shares if told.drop is not None else {"hidden": 1 - told.seen}
    return {
        "grip": {
            "slide": np.round(told.grip.slide, 4).tolist(), "turn": np.round(told.grip.turn, 4).tolist(),
            "axes": np.round(told.grip.axes, 6).tolist(), "weak": told.grip.words(told.up),
        },
        "drop_out": {reason: round(share, 4) for reason, share in shares.items()},
        "points": told.cost.points,
        "memory_mb": round(told.cost.memory_mb, 1),
        "minutes": round(told.cost.minutes, 2),
    }  # fmt: skip


def _seen(scan: PassState, sheet: Instrument, shutter: Shutter, stops: tuple[Stop, ...]) -> dict[str, Any]:
    if scan.turntable is None or scan.frame_count < 3:
        return {}
    way = Way("this path", (Pose(0.0, stops),))
    shape = shape_forecast(scan, sheet, shutter, way, range(3))
    return {"seen": round(shape.seen, 3), "best": {"words": shape.best.words, "seen": round(shape.best_seen, 3)}}
