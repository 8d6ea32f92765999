"""`lucid-relic capture`: a stand-in instrument writes a capture folder."""

import argparse
import shutil
import tempfile
from pathlib import Path

from lucid_relic.calibration.corner import LEFT, RIGHT
from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.instruments import INSTRUMENTS, hand_device, table_device
from lucid_relic.capture.line_laser import BOARD_PX_PER_MM, LineLaser, SweepPlan
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner, tracked_by
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.desk.sweeps import capture_of_sweeps
from lucid_relic.errors import InputError
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.meshes import read_mesh
from lucid_relic.io.sweep_folder import open_sweeps
from lucid_relic.io.sweep_writer import SweepWriter
from lucid_relic.planning.paths import RINGS, preset_path
from lucid_relic.progress import part_of
from lucid_relic.types import Instrument, Shutter
from lucid_relic_cli.progress_line import progress_line

PLAIN = {
    "standard": ScannerTraits(),
    "close": ScannerTraits(standoff_mm=200.0, noise_mm=0.02, band_mm=(90.0, 420.0), focal_px=864.0),
}
DEFAULT_STOPS = 24
MARKERS = (6, 40)
PIN_MM = 25.0  # above the plate of a two-axis table that its objects are held


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("capture", help="capture a demo object or a mesh with a virtual instrument")
    p.add_argument("model", metavar="NAME|MESH", help=f"one of {', '.join(DEMO_OBJECTS)}, or a mesh file in mm")
    p.add_argument("--out", required=True, metavar="DIR", help="capture folder to write")
    p.add_argument(
        "--device", choices=sorted([*PLAIN, *INSTRUMENTS]), default="standard",
        help="an instrument, or a plain head without projector shadow and exposure limits",
    )  # fmt: skip
    p.add_argument("--pictures", metavar="DIR", help="with --device line: keep the pictures of the sweeps here")
    p.add_argument(
        "--stops",
        type=int,
        default=DEFAULT_STOPS,
        help="stops of a turn, frames by hand, or sweeps (default 24; 11 sweeps)",
    )
    p.add_argument("--start", type=float, default=0.0, metavar="DEG", help="how far the plate stands turned at first")
    p.add_argument("--path", choices=tuple(RINGS), help="a preset of a two-axis table instead of a turn")
    p.add_argument("--tip", type=float, default=0.0, metavar="DEG", help="tip the object before the pass")
    p.add_argument("--tip-about", type=float, default=0.0, metavar="DEG", help="about which horizontal line")
    p.add_argument("--elevation", type=float, metavar="DEG", help="how far the head looks down")
    p.add_argument("--exposure", metavar="MS[,MS…]", help="of the instrument; several are merged")
    p.add_argument("--gain", type=float, default=0.0, metavar="DB")
    p.add_argument("--infrared", action="store_true", help="infrared light: dark surfaces answer, glossy ones less")
    p.add_argument("--gate", metavar="NEAR,FAR", help="keep only depths (mm) in between")
    p.add_argument("--hand", action="store_true", help="a path by hand instead of the turntable")
    p.add_argument(
        "--markers", type=int, default=0, metavar="N", help="marker dots on the tray, which hold the pass (6 to 40)"
    )
    p.add_argument("--seed", type=int, default=0, metavar="N")
    p.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Capture into a new folder; nothing is left behind when it fails."""
    least = 1 if options.device == "line" else 3
    if not least <= options.stops <= 2000:
        raise InputError(f"--stops must lie between {least} and 2000, not {options.stops}")
    if options.markers and not MARKERS[0] <= options.markers <= MARKERS[1]:
        raise InputError(f"--markers must lie between {MARKERS[0]} and {MARKERS[1]}, not {options.markers}")
    target = Path(options.out)
    if target.exists() and any(target.iterdir()):
        raise InputError(f"{target}: this folder is not empty; choose a new one")
    progress = progress_line()
    if options.device == "line":
        return _line_sweeps(options, target)
    device = device_of(options, _model(options.model))
    try:
        manifest = device.manifest()
        writer = CaptureWriter(target, tracked_by(manifest, "markers") if options.markers else manifest)
        for index in range(device.frame_count()):
            progress(index / device.frame_count(), f"Frame {index + 1} of {device.frame_count()}")
            shot = device.shoot(index)
            writer.add(shot.depth, shot.colour, **shot.fields)
        writer.finish()
    except BaseException:
        shutil.rmtree(target, ignore_errors=True)
        raise
    progress(1.0, f"Wrote {target}")


def _line_sweeps(options: argparse.Namespace, target: Path) -> None:
    """Pictures of sweeps, kept where --pictures says, and the capture folder that comes of them."""
    sheet = INSTRUMENTS["line"]
    boards = (LEFT.picture(BOARD_PX_PER_MM), RIGHT.picture(BOARD_PX_PER_MM))
    plan = SweepPlan(sweeps=options.stops if options.stops != DEFAULT_STOPS else SweepPlan.sweeps, tip_deg=options.tip)
    laser = LineLaser(_model(options.model), plan, sheet.camera, boards, options.seed)
    progress = progress_line()
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(options.pictures or scratch)
        if folder.exists() and any(folder.iterdir()):
            raise InputError(f"{folder}: this folder is not empty; choose a new one")
        writer = SweepWriter(folder, plan.title, laser.corner_picture())
        for k in range(plan.sweeps):
            progress(0.5 * k / plan.sweeps, f"Sweep {k + 1} of {plan.sweeps}")
            writer.sweep(laser.photograph(k), laser.pictures(k))
        writer.finish()
        try:
            capture_of_sweeps(open_sweeps(folder), target, part_of(progress, 0.5, 1.0))
        except BaseException:
            shutil.rmtree(target, ignore_errors=True)
            raise
    progress(1.0, f"Wrote {target}")


def device_of(options: argparse.Namespace, model: ScanModel) -> PlannedDevice:
    """The device that the options choose; raises `InputError` or `ParameterError` for what does not go together."""
    sheet = INSTRUMENTS.get(options.device)
    by_hand = options.hand or (sheet is not None and sheet.kind == "hand")
    title = "upright" if options.tip == 0 else f"tipped {options.tip:g}°"
    if by_hand:
        plan = HandPlan(frames=options.stops, tip_deg=options.tip, title=f"{title}, by hand", dots=options.markers)
        if sheet is None:
            return VirtualHandScanner(model, plan, PLAIN[options.device], options.seed)
        return hand_device(sheet, model, plan, _shutter(options), options.seed)
    elevation = options.elevation
    if elevation is None:
        elevation = sheet.elevation_deg if sheet is not None else TurntablePlan.elevation_deg
    table = TurntablePlan(
        stops=options.stops, start_deg=options.start, elevation_deg=elevation, tip_deg=options.tip, tip_about_deg=options.tip_about, title=title,
        path=preset_path(options.path) if options.path else (), pin_mm=_pin_mm(sheet, options.path),
        dots=options.markers,
    )  # fmt: skip
    if sheet is None:
        return VirtualScanner(model, table, PLAIN[options.device], options.seed)
    return table_device(sheet, model, table, _shutter(options), options.seed)


def _pin_mm(sheet: Instrument | None, path: str | None) -> float:
    if path and (sheet is None or sheet.kind != "two_axis"):
        raise InputError("--path is for a table of two axes; choose --device jewel, or --stops for a turn")
    return PIN_MM if path else 0.0


def _shutter(options: argparse.Namespace) -> Shutter:
    gate = _numbers(options.gate, "--gate") if options.gate else None
    if gate is not None and len(gate) != 2:
        raise InputError(f"--gate takes NEAR,FAR in mm, not “{options.gate}”")
    return Shutter(
        exposure_ms=_numbers(options.exposure, "--exposure") if options.exposure else (), gain_db=options.gain,
        infrared=options.infrared, gate_mm=gate and (gate[0], gate[1]),
    )  # fmt: skip


def _numbers(text: str, name: str) -> tuple[float, ...]:
    try:
        return tuple(float(part) for part in text.split(","))
    except ValueError:
        raise InputError(f"{name} takes numbers with commas between, not “{text}”") from None


def _model(name: str) -> ScanModel:
    if name in DEMO_OBJECTS:
        return demo_model(name)
    if not Path(name).suffix:
        raise InputError(f"{name}: neither a demo object ({', '.join(DEMO_OBJECTS)}) nor a mesh file")
    return ScanModel.plain(read_mesh(name))
