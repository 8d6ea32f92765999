"""The instruments that ship: stand-ins that are chosen and connected like real ones, each with its sheet."""

from lucid_relic.capture.bracketed import Bracketed
from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.errors import InputError, ParameterError, quoted
from lucid_relic.types import Camera, Instrument, Shutter

INSTRUMENTS: dict[str, Instrument] = {
    one.name: one
    for one in (
        Instrument(
            name="desk", title="Desk head", kind="table", camera=Camera.centred(640, 480, 864.0), standoff_mm=260.0,
            band_mm=(150.0, 620.0), noise_mm=0.025, depth_unit_mm=0.01, baseline_mm=80.0, grazing_deg=76.0,
            answers=(0.12, 0.6), exposure_ms=(0.5, 8.0, 64.0), infrared=True, frames_per_s=5.0, stop_s=0.9,
            elevation_deg=24.0, tilt_deg=(0.0, 0.0), largest_mm=200.0,
        ),
        Instrument(
            name="jewel", title="Jewel head", kind="two_axis", camera=Camera.centred(1280, 1024, 3200.0), standoff_mm=96.0,
            band_mm=(60.0, 320.0), noise_mm=0.01, depth_unit_mm=0.005, baseline_mm=30.0, grazing_deg=76.0,
            answers=(0.1, 0.7), exposure_ms=(0.5, 8.0, 64.0), infrared=False, frames_per_s=3.0, stop_s=1.4,
            elevation_deg=20.0, tilt_deg=(-50.0, 65.0), largest_mm=60.0,
        ),
        Instrument(
            name="hand", title="Hand head", kind="hand", camera=Camera.centred(640, 480, 560.0), standoff_mm=320.0,
            band_mm=(240.0, 760.0), noise_mm=0.06, depth_unit_mm=0.02, baseline_mm=70.0, grazing_deg=74.0,
            answers=(0.1, 0.7), exposure_ms=(0.5, 6.0, 30.0), infrared=True, frames_per_s=15.0, stop_s=0.0,
            elevation_deg=30.0, tilt_deg=(0.0, 0.0), largest_mm=500.0,
        ),
        Instrument(
            name="line", title="Line laser", kind="line", camera=Camera.centred(800, 600, 1000.0), standoff_mm=480.0,
            band_mm=(250.0, 1200.0), noise_mm=0.06, depth_unit_mm=0.02, baseline_mm=300.0, grazing_deg=72.0,
            answers=(0.02, 2.0), exposure_ms=(1.0, 10.0, 80.0), infrared=False, frames_per_s=15.0, stop_s=0.0,
            elevation_deg=22.0, tilt_deg=(0.0, 0.0), largest_mm=250.0,
        ),
    )
}  # fmt: skip
# What the stand-ins hide: the sheet says nothing of it, and processing has to find it out.
AXIS_ERRORS = {"desk": (0.2, 0.2), "jewel": (0.08, 0.1)}  # mm and degrees


def instrument(name: str) -> Instrument:
    """An instrument by its name; raises `InputError` when there is none."""
    if name not in INSTRUMENTS:
        raise InputError(f"{quoted(name)}: there is no such instrument; there are {', '.join(INSTRUMENTS)}")
    return INSTRUMENTS[name]


def traits_of(sheet: Instrument, shutter: Shutter, exposure_ms: float) -> ScannerTraits:
    """How the stand-in for an instrument behaves at one exposure."""
    off_mm, off_deg = AXIS_ERRORS.get(sheet.name, (0.0, 0.0))
    dark, bright = sheet.answers
    return ScannerTraits(
        width=sheet.camera.width, height=sheet.camera.height, focal_px=sheet.camera.fx, standoff_mm=sheet.standoff_mm,
        band_mm=sheet.band_mm, depth_unit_mm=sheet.depth_unit_mm, noise_mm=sheet.noise_mm, grazing_deg=sheet.grazing_deg,
        dark_albedo=dark, bright_albedo=bright, baseline_mm=sheet.baseline_mm, axis_error_mm=off_mm, axis_error_deg=off_deg,
        exposure=shutter.relative(sheet, exposure_ms), infrared=shutter.infrared, gate_mm=shutter.gate_mm,
        name=sheet.title.lower(),
    )  # fmt: skip


def table_device(
    sheet: Instrument, model: ScanModel, plan: TurntablePlan, shutter: Shutter | None = None, seed: int = 0
) -> PlannedDevice:
    """A pass of a table head over a model; raises `ParameterError` when instrument, plan and shutter do not go together."""
    shutter = (shutter or Shutter()).check(sheet)
    if sheet.kind not in ("table", "two_axis"):
        raise ParameterError(f"The {sheet.title.lower()} has no table.")
    tilts = [stop.tilt_deg for stop in plan.path]
    low, high = sheet.tilt_deg
    if tilts and not (low <= min(tilts) and max(tilts) <= high):
        raise ParameterError(
            f"The table of the {sheet.title.lower()} tilts from {low:g}° to {high:g}°; "
            f"this path asks for {min(tilts):g}° to {max(tilts):g}°."
        )
    first = VirtualScanner(model, plan, traits_of(sheet, shutter, shutter.exposure_ms[0]), seed)
    return bracketed(first, sheet, shutter)


def bracketed(scanner: VirtualScanner, sheet: Instrument, shutter: Shutter) -> PlannedDevice:
    """A head under a checked shutter; with several exposures they are merged at every stop."""
    heads = [scanner.under(traits_of(sheet, shutter, ms)) for ms in shutter.exposure_ms]
    return heads[0] if len(heads) == 1 else Bracketed(list(heads), shutter.exposure_ms)


def hand_device(
    sheet: Instrument, model: ScanModel, plan: HandPlan, shutter: Shutter | None = None, seed: int = 0
) -> PlannedDevice:
    """A pass by hand over a model, along a path that is planned."""
    shutter = (shutter or Shutter()).check(sheet)
    return VirtualHandScanner(model, plan, traits_of(sheet, shutter, shutter.exposure_ms[0]), seed)
