"""The capture desk: instruments, how a pass is set up, and what the head sees before it."""

from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.instruments import INSTRUMENTS, bracketed, instrument, table_device, traits_of
from lucid_relic.capture.shots import MOST_SHOTS, SingleShots
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import demo_model
from lucid_relic.desk.forecast import shape_forecast
from lucid_relic.desk.sight import sight
from lucid_relic.errors import LucidRelicError, ParameterError
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.results import finite
from lucid_relic.planning.cost import seconds_per_stop as planned_seconds
from lucid_relic.planning.paths import RINGS, preset_path, turn_path
from lucid_relic.planning.ways import Pose, Way
from lucid_relic.types import Instrument, Shutter, Turntable
from lucid_relic.view.packing import pack_preview
from objects.core_door.folders import shown_path

OUTLOOK_STOPS, ENOUGH_SEEN = 3, 0.95  # after which a pass tells what it will see, and what share of it is enough
DOTS_ON_TRAY = 16  # of the stand-in, where markers hold a pass: nine or so are in view from any side
PIN_MM = 25.0  # above the plate of a two-axis table that its objects are held
SCENES_HELD = 3  # objects on tables whose previews come at once
TABLES = tuple(name for name, sheet in INSTRUMENTS.items() if sheet.kind in ("table", "two_axis"))
INSTRUMENT_NAMES = tuple(INSTRUMENTS)
PATHS = tuple(RINGS)


def instruments() -> list[dict[str, Any]]:
    """The instruments with their sheets, as plain JSON."""
    return [
        {
            "name": i.name, "title": i.title, "kind": i.kind, "width": i.camera.width, "height": i.camera.height,
            "standoff_mm": i.standoff_mm, "band_mm": list(i.band_mm), "field_mm": [round(f, 1) for f in i.field_mm],
            "spacing_mm": round(i.spacing_mm, 4), "noise_mm": i.noise_mm, "frames_per_s": i.frames_per_s,
            "exposure_ms": list(i.exposure_ms), "infrared": i.infrared, "tilt_deg": list(i.tilt_deg),
            "largest_mm": i.largest_mm, "elevation_deg": i.elevation_deg,
            "paths": list(PATHS) if i.kind == "two_axis" else [],
        }
        for i in INSTRUMENTS.values()
    ]  # fmt: skip


def title_of(name: str) -> str:
    """What an instrument is called; raises `InputError` when there is none of that name."""
    return instrument(name).title


def check_set_up(set_up: dict[str, Any]) -> None:
    """Raise `ParameterError` in a sentence when a set-up does not go together."""
    sheet = _sheet(set_up)
    shutter_of(set_up).check(sheet)
    _plan(set_up, sheet)
    if sheet.kind == "hand" and (set_up.get("shots") or set_up.get("held_by") == "axis"):
        raise ParameterError(f"The {sheet.title.lower()} is moved by hand: it has no axis, and takes no single shots.")


def by_hand(set_up: dict[str, Any]) -> bool:
    """Whether a pass of a set-up is taken by hand."""
    return bool(set_up.get("instrument")) and instrument(set_up["instrument"]).kind == "hand"


def frames_of(set_up: dict[str, Any]) -> int:
    """How many frames a pass of a set-up has; 0 where somebody ends it."""
    if by_hand(set_up):
        return 0
    return MOST_SHOTS if set_up.get("shots") else len(_plan(set_up, _sheet(set_up)).all_stops())


def seconds_per_stop(set_up: dict[str, Any]) -> float:
    """How long the table and the exposures of one stop take."""
    return planned_seconds(_sheet(set_up), shutter_of(set_up))


def device_of(set_up: dict[str, Any], model_name: str, seed: int) -> PlannedDevice:
    """The stand-in instrument with an object on its table, or before it for single shots."""
    sheet = _sheet(set_up)
    shutter = shutter_of(set_up).check(sheet)
    if set_up.get("shots"):
        traits = traits_of(sheet, shutter, shutter.exposure_ms[0])
        return SingleShots(demo_model(model_name), _plan(set_up, sheet), traits, seed)
    return table_device(sheet, demo_model(model_name), _plan(set_up, sheet), shutter, seed)


def outlook(key: str, set_up: dict[str, Any]) -> dict[str, Any] | None:
    """What a pass under way will see of its object's shape, told from its first stops; None when they do not tell.

    seen and best_seen are shares (0-1) of the surface, best the cheapest way that would see enough, in words.
    """
    sheet = _sheet(set_up)
    plan = _plan(set_up, sheet)
    if plan.path or set_up.get("shots"):
        return None
    scan = CaptureFolder(shown_path(key), key).as_pass()
    way = Way("this turn", (Pose(0.0, plan.all_stops()),))
    try:
        told = shape_forecast(scan, sheet, shutter_of(set_up).check(sheet), way, range(OUTLOOK_STOPS), ENOUGH_SEEN)
    except LucidRelicError:
        return None
    return {"seen": round(told.seen, 3), "best": told.best.words, "best_seen": round(told.best_seen, 3)}


def preview_sight(set_up: dict[str, Any], model_name: str, head: dict[str, Any]) -> bytes:
    """What the head sees with a set-up: photograph, marks and forecasts, packed; `head` goes into its head."""
    sheet = _sheet(set_up)
    if sheet.kind == "line":
        raise ParameterError("The line laser measures while it is swept: there is nothing to see before.")
    shutter, plan = shutter_of(set_up).check(sheet), _plan(set_up, sheet)
    still = _at_rest(sheet.name, model_name, replace(plan, path=plan.path[:1], stops=1, title=""))
    device = bracketed(still, sheet, shutter)
    shot = device.shoot(0)
    table = None if sheet.kind == "hand" else _table(device)
    told = sight(shot.depth, shot.colour, table, sheet, shutter, len(plan.all_stops()), set_up.get("spacing_mm") or 0.0)
    step = max(sheet.camera.width // 480, 1)
    figures = {**told.figures, "frames": len(plan.all_stops()), "by_hand": sheet.kind == "hand"}
    if shot.fields.get("valid"):
        figures |= {"valid": shot.fields["valid"], "valid_merged": round(float((shot.depth > 0).mean()), 4)}
    arrays = {
        "photograph": np.ascontiguousarray(told.photograph[::step, ::step]),
        "marks": np.ascontiguousarray(told.marks[::step, ::step]),
    }
    size = {"height": arrays["marks"].shape[0], "width": arrays["marks"].shape[1]}
    layers: list[tuple[str, dict[str, Any], dict[str, np.ndarray]]] = [("sight", size, arrays)]
    if told.points is not None:
        scene = {
            "points": np.frombuffer(told.points.packed(), np.uint8),
            "eyes": told.eyes(table, plan.all_stops()[:1] if sheet.kind == "hand" else plan.all_stops()),
            "middle": told.middle.astype(np.float32),
        }
        layers.append(("scene", {}, scene))
    return pack_preview(finite(figures), layers, head)


@lru_cache(maxsize=SCENES_HELD)
def _at_rest(name: str, model_name: str, plan: TurntablePlan) -> VirtualScanner:
    """A head over an object, its scene built once."""
    sheet = instrument(name)
    return VirtualScanner(demo_model(model_name), plan, traits_of(sheet, Shutter(), sheet.exposure_ms[1]), 0)


def _table(device: PlannedDevice) -> Turntable | None:
    told = device.manifest().get("turntable")
    return told and Turntable(np.array(told["axis_point_mm"]), np.array(told["axis_direction"]), np.zeros(1))


def _sheet(set_up: dict[str, Any]) -> Instrument:
    if not set_up.get("instrument"):
        raise ParameterError("This set-up names no instrument. Choose the one that is to take the pass.")
    sheet = instrument(set_up["instrument"])
    if sheet.name not in TABLES and sheet.kind != "hand" and not (sheet.kind == "line" and set_up.get("shots")):
        raise ParameterError(f"The {sheet.title.lower()} has no table; choose {' or '.join(TABLES)} for a turn.")
    return sheet


def shutter_of(set_up: dict[str, Any]) -> Shutter:
    """Exposure, gain, light and range of a set-up."""
    gate = set_up.get("gate_mm")
    return Shutter(
        exposure_ms=tuple(set_up.get("exposure_ms") or ()), gain_db=set_up.get("gain_db") or 0.0,
        infrared=bool(set_up.get("infrared")), gate_mm=(gate[0], gate[1]) if gate else None,
    )  # fmt: skip


def dots_of(set_up: dict[str, Any]) -> int:
    """How many marker dots are stuck on the stand-in's tray for a set-up."""
    return DOTS_ON_TRAY if set_up.get("held_by") == "markers" else 0


def _plan(set_up: dict[str, Any], sheet: Instrument) -> TurntablePlan:
    path = set_up.get("path") or ""
    if path and sheet.kind != "two_axis":
        raise ParameterError(f"The table of the {sheet.title.lower()} has one axis; it turns, and follows no path.")
    elevation = set_up.get("elevation_deg")
    turn_path(set_up.get("stops", 12))
    return TurntablePlan(
        stops=set_up.get("stops", 12), start_deg=set_up.get("start_deg", 0.0),
        elevation_deg=sheet.elevation_deg if elevation is None else elevation,
        tip_deg=set_up.get("tip_deg", 0.0), tip_about_deg=set_up.get("tip_about_deg", 0.0),
        title=set_up.get("title", "upright"), path=preset_path(path) if path else (), pin_mm=PIN_MM if path else 0.0,
        dots=dots_of(set_up),
    )  # fmt: skip
