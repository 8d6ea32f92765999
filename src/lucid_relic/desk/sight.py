"""What the head sees before a pass: one preview frame judged, for the setting up of instrument, exposure and range."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lucid_relic.desk.forecast import Forecast, forecast
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import about_axis, inverse, upright
from lucid_relic.light.srgb import LINEAR
from lucid_relic.planning.drop_out import REASONS
from lucid_relic.planning.grip import Slip
from lucid_relic.types import Instrument, Part, PassState, Shutter, Stop, Turntable
from lucid_relic.types.instrument import Gate
from lucid_relic.view.pass_view import PassView, frame_view

CLIPPED, TOO_DARK = 1, 2  # of a pixel's mark; from 3 on: 3 + index into REASONS of what is not measured
CLIPPED_BYTE = 250
LIGHT_BINS, DEPTH_BINS = 32, 48
BESIDE_BAND = 0.35  # of the band's width is shown on either side of it
ANSWERED = 1.25  # times the darkest reflectance from which all pixels answer
EXPOSURES_TRIED = 40
WORTH_ADVICE = 0.05  # share of the object in view that a reason costs


@dataclass
class OneFrame:
    """A `FrameSource` of a frame that is only held in memory."""

    key: str
    image: np.ndarray
    photograph: np.ndarray | None

    def depth(self, index: int, part: Part | None = None) -> np.ndarray:
        """(h, w) float32 mm of the whole image or a part."""
        return self.image if part is None else self.image[part]

    def colour(self, index: int, part: Part | None = None) -> np.ndarray | None:
        """(h, w, 3) uint8 sRGB of the whole photograph or a part; None without one."""
        return self.photograph if part is None or self.photograph is None else self.photograph[part]


@dataclass(frozen=True)
class Sight:
    """photograph (h, w, 3) uint8; marks (h, w) uint8; figures as plain JSON; forecast None when no object is in view.

    points are those of the frame, stood upright, None when there are none; T_shown_camera (4, 4) is how.
    """

    photograph: np.ndarray
    marks: np.ndarray
    figures: dict[str, Any]
    forecast: Forecast | None
    points: PassView | None
    T_shown_camera: np.ndarray

    @property
    def middle(self) -> np.ndarray:
        """(3,) middle of the points."""
        return np.zeros(3) if self.points is None else self.points.cloud.points.mean(axis=0).astype(np.float64)

    def eyes(self, table: Turntable | None, stops: Sequence[Stop]) -> np.ndarray:
        """(n, 3) float32 where the head stands at every stop as the table's plate sees it, stood upright."""
        camera = inverse(self.T_shown_camera)
        middle = (camera @ [*self.middle, 1.0])[:3]
        up, at = (table.axis_direction, table.axis_point) if table else (camera[:3, 2], middle)
        out = []
        for stop in stops:
            lift = about_axis(middle, np.array([1.0, 0, 0]), -np.radians(stop.tilt_deg))
            out.append(self.T_shown_camera @ about_axis(at, up, -np.radians(stop.turn_deg)) @ lift[:, 3])
        return np.array(out, np.float32).reshape(-1, 4)[:, :3]


def sight(
    depth: np.ndarray, photograph: np.ndarray, table: Turntable | None, sheet: Instrument, shutter: Shutter, frames: int,
    spacing_mm: float = 0.0,
) -> Sight:  # fmt: skip
    """Judge a preview frame: depth (h, w) mm and photograph (h, w, 3) of the same view."""
    source = OneFrame("preview", depth, photograph)
    one = np.ones(1, bool)
    scan = PassState(
        "preview", source, sheet.camera, np.eye(4)[None], one, np.full(1, np.nan, np.float32), True, turntable=table
    )
    try:
        told, why = forecast(scan, sheet, shutter, frames, spacing_mm), ""
    except StepNotPossible as nothing:
        told, why = None, str(nothing)
    marks = np.zeros(depth.shape, np.uint8)
    if told is not None:
        reason = told.drop.reason
        marks[reason > 0] = 2 + reason[reason > 0]
        marks[reason == 1 + REASONS.index("dark")] = TOO_DARK
    clipped = (photograph >= CLIPPED_BYTE).any(axis=2)
    marks[clipped] = CLIPPED
    outline = told.drop.outline if told is not None else depth > 0
    figures = {
        "why": why,
        "clipped": _share(clipped & outline, outline),
        "light": _light(photograph, outline),
        **distance_hill(depth[outline & (depth > 0)], sheet, shutter.gate_mm),
        "just_right_ms": just_right(photograph, outline, sheet, shutter),
        **(_of_forecast(told) if told is not None else {}),
    }
    stood = _stood(table, told, sheet)
    try:
        points = frame_view(replace(scan, T_object_pass=stood), 0)
    except StepNotPossible:  # nothing was measured; figures say why
        points = None
    if told is not None:
        figures["slips"] = [_shown_slip(s, stood) for s in told.grip.slips]
    return Sight(photograph, marks, figures, told, points, stood)


def _stood(table: Turntable | None, told: Forecast | None, sheet: Instrument) -> np.ndarray:
    """How the frame is stood upright: by the table's axis, by what was guessed, or as the head looks down at rest."""
    down = np.radians(sheet.elevation_deg)
    rest = np.array([0.0, -np.cos(down), -np.sin(down)])
    if table is not None:
        found = upright(table.axis_direction, table.axis_point)
    else:
        found = upright(rest if told is None or told.up is None else told.up, np.zeros(3))
    return np.eye(4) if found is None else found


def _shown_slip(slip: Slip, stood: np.ndarray) -> dict[str, Any]:
    """A motion that the shape does not hold, to be drawn: its kind, a place on its axis and its direction."""
    through = (stood @ [*slip.through, 1.0])[:3]
    return {
        "kind": slip.kind, "through": through.round(2).tolist(), "direction": (stood[:3, :3] @ slip.direction).round(4).tolist(),
    }  # fmt: skip


def _share(some: np.ndarray, of: np.ndarray) -> float:
    return round(float(some.sum() / max(int(of.sum()), 1)), 4)


def _light(photograph: np.ndarray, outline: np.ndarray) -> list[float]:
    """Share of the object's pixels in each of 32 steps of brightness."""
    grey = photograph.max(axis=2)[outline] if outline.any() else photograph.max(axis=2).ravel()
    counts, _ = np.histogram(grey, bins=LIGHT_BINS, range=(0, 256))
    return (counts / max(counts.sum(), 1)).round(4).tolist()


def distance_hill(measured: np.ndarray, sheet: Instrument, gate_mm: Gate | None = None) -> dict[str, Any]:
    """The hill of measured distances (n,) mm with the slot that it should stay in: the band, or a gate within it."""
    low, high = sheet.band_mm
    slot = (max(low, gate_mm[0]), min(high, gate_mm[1])) if gate_mm else (low, high)
    margin = BESIDE_BAND * (high - low)
    span = (max(low - margin, 0.0), high + margin)
    counts, _ = np.histogram(measured, bins=DEPTH_BINS, range=span)
    return {
        "span_mm": [round(s, 1) for s in span],
        "slot_mm": [round(s, 1) for s in slot],
        "hill": (counts / max(counts.max(initial=0), 1)).round(4).tolist(),
        "distance_mm": round(float(np.median(measured)), 1) if len(measured) else None,
    }


def just_right(photograph: np.ndarray, outline: np.ndarray, sheet: Instrument, shutter: Shutter) -> float | None:
    """The exposure (ms) at which most of the object would answer: neither too dark nor more than the sensor takes."""
    if not outline.any() or shutter.infrared:
        return None
    exposures = sorted(shutter.exposure_ms or sheet.exposure_ms[1:2])
    taken = shutter.relative(sheet, exposures[len(exposures) // 2])
    pixels = photograph[outline]
    answers = LINEAR[pixels].mean(axis=1) / taken
    # Of clipped light nobody knows how much more there was; twice as much is tried, and the next look tells.
    answers[(pixels >= CLIPPED_BYTE).any(axis=1)] *= 2
    tried = np.geomspace(sheet.exposure_ms[0], sheet.exposure_ms[2], EXPOSURES_TRIED)
    light = [answers * shutter.relative(sheet, float(ms)) for ms in tried]
    dark, bright = sheet.answers
    good = [float(((a > ANSWERED * dark) & (a < bright)).mean()) for a in light]
    best = np.flatnonzero(np.array(good) >= max(good) - 1e-9)
    return round(float(tried[best[len(best) // 2]]), 1)


def _of_forecast(told: Forecast) -> dict[str, Any]:
    slips = [
        {"kind": s.kind, "words": w, "direction": s.direction.round(4).tolist(), "through": s.through.round(2).tolist()}
        for s, w in zip(told.grip.slips, told.grip.words(told.up), strict=True)
    ]
    return {
        "grip": {
            "slide": told.grip.slide.round(3).tolist(), "turn": told.grip.turn.round(3).tolist(),
            "axes": told.grip.axes.round(4).tolist(), "slips": slips,
        },
        "drop_out": {reason: round(share, 4) for reason, share in told.drop.shares.items()},
        "advice": told.drop.advice(WORTH_ADVICE),
        "points": told.cost.points,
        "memory_mb": round(told.cost.memory_mb),
        "minutes": round(told.cost.minutes, 2),
        "spacing_mm": round(told.spacing_mm, 3),
        "size_mm": round(told.size_mm, 1),
    }  # fmt: skip
