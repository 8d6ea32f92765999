"""Marks: the strokes a hand drew."""

from typing import Any

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.operations.parameters.kinds.base import Kind, Limits, number, numbers
from lucid_relic.operations.parameters.kinds.geometry import TRIPLE, VIEW_SCHEMA, checked_view, view_json
from lucid_relic.types import BallStroke, JoinedStroke, Marks, ScreenStroke, Stroke

LEAST_POINTS = {"lasso": 3, "polygon": 3, "box": 2, "brush": 1}  # that make a shape
MAX_STROKES = 2_000  # a hand draws some dozens
MAX_CORNERS = 5_000  # of one stroke; a hand draws some hundreds
MAX_ALL_CORNERS = 50_000  # of all strokes together


class MarksKind(Kind):
    name, what, written = "marks", "marks {“strokes”: […], “invert”: false}", "JSON, or @file"

    def check(self, value: Any, where: str, limits: Limits) -> Marks:
        if isinstance(value, Marks):
            return value
        strokes = value.get("strokes", []) if isinstance(value, dict) else None
        invert = value.get("invert", False) if isinstance(value, dict) else None
        if not isinstance(strokes, list) or not isinstance(invert, bool) or len(strokes) > MAX_STROKES:
            self.refuse(value, where)
        marks = Marks(tuple(_stroke(s, f"{where}.strokes[{n}]") for n, s in enumerate(strokes)), invert)
        corners = sum(map(_corners, marks.strokes))
        if corners > MAX_ALL_CORNERS:
            raise ParameterError(f"{where}: {corners:,} corners in all; at most {MAX_ALL_CORNERS:,} are taken.")
        return marks

    def to_json(self, value: Marks) -> dict[str, Any]:
        return {"strokes": [_stroke_json(s) for s in value.strokes], "invert": value.invert}

    def schema(self, limits: Limits) -> dict[str, Any]:
        pixels = {"type": "array", "maxItems": MAX_CORNERS, "items": {"type": "array", "items": {"type": "number"}}}
        screen = {"shape": {"enum": list(LEAST_POINTS)}, "points": pixels, "view": VIEW_SCHEMA,
                  "radius_px": {"type": "number"}, "through": {"type": "boolean"}}  # fmt: skip
        ball = {"shape": {"const": "ball"}, "centres": {"type": "array", "items": TRIPLE, "maxItems": MAX_CORNERS},
                "radius_mm": {"type": "number"}}  # fmt: skip
        joined = {"shape": {"const": "joined"}, "at": TRIPLE, "gap_mm": {"type": "number"},
                  "crease_deg": {"type": "number"}}  # fmt: skip
        strokes = [
            {"type": "object", "properties": {**parts, "add": {"type": "boolean"}}, "required": needed}
            for parts, needed in (
                (screen, ["shape", "points", "view"]),
                (ball, ["shape", "centres", "radius_mm"]),
                (joined, ["shape", "at", "gap_mm"]),
            )
        ]
        return {
            "type": "object",
            "properties": {
                "strokes": {"type": "array", "maxItems": MAX_STROKES, "items": {"anyOf": strokes}},
                "invert": {"type": "boolean"},
            },
        }


def _corners(stroke: Stroke) -> int:
    if isinstance(stroke, ScreenStroke):
        return len(stroke.points)
    return len(stroke.centres) if isinstance(stroke, BallStroke) else 1


def _stroke(data: Any, where: str) -> Stroke:
    shape = data.get("shape") if isinstance(data, dict) else None
    if shape in LEAST_POINTS:
        return _screen(data, where)
    if shape == "ball":
        centres = _rows(data, "centres", 3, 1, where)
        return BallStroke(centres, _size(data, "radius_mm", where), _flag(data, "add", True, where))
    if shape == "joined":
        at = numbers(data.get("at"), 3)
        if at is None:
            raise ParameterError(f"{where}.at must be a place [x, y, z].")
        crease = _size(data, "crease_deg", where, 180.0)
        return JoinedStroke(at, _size(data, "gap_mm", where), crease, _flag(data, "add", True, where))  # type: ignore[arg-type]
    raise ParameterError(f"{where}.shape must be one of {', '.join(LEAST_POINTS)}, ball, joined, not {quoted(shape)}.")


def _screen(data: dict[str, Any], where: str) -> ScreenStroke:
    shape = data["shape"]
    points = _rows(data, "points", 2, LEAST_POINTS[shape], where)
    if shape == "box" and len(points) != 2:
        raise ParameterError(f"{where}.points of a box are two opposite corners.")
    radius = _size(data, "radius_px", where, 0.0 if shape != "brush" else None)
    return ScreenStroke(
        shape, points, checked_view(data.get("view"), f"{where}.view"), radius,
        _flag(data, "add", True, where), _flag(data, "through", False, where),
    )  # fmt: skip


def _rows(data: dict[str, Any], key: str, width: int, least: int, where: str) -> tuple[Any, ...]:
    rows = data.get(key)
    found = [numbers(row, width) for row in rows] if isinstance(rows, list) and len(rows) <= MAX_CORNERS else []
    if len(found) < least or any(row is None for row in found):
        raise ParameterError(f"{where}.{key} must be {least} or more lists of {width} numbers, at most {MAX_CORNERS}.")
    return tuple(found)


def _size(data: dict[str, Any], key: str, where: str, default: float | None = None) -> float:
    value = number(data.get(key, default))
    if value is None or value < 0:
        raise ParameterError(f"{where}.{key} must be a number of 0 or more.")
    return value


def _flag(data: dict[str, Any], key: str, default: bool, where: str) -> bool:
    value = data.get(key, default)
    if not isinstance(value, bool):
        raise ParameterError(f"{where}.{key} must be true or false.")
    return value


def _stroke_json(stroke: Stroke) -> dict[str, Any]:
    if isinstance(stroke, BallStroke):
        return {"shape": "ball", "centres": [list(c) for c in stroke.centres], "radius_mm": stroke.radius_mm,
                "add": stroke.add}  # fmt: skip
    if isinstance(stroke, JoinedStroke):
        return {"shape": "joined", "at": list(stroke.at), "gap_mm": stroke.gap_mm, "crease_deg": stroke.crease_deg,
                "add": stroke.add}  # fmt: skip
    return {
        "shape": stroke.shape, "points": [list(p) for p in stroke.points], "radius_px": stroke.radius_px,
        "view": view_json(stroke.view), "add": stroke.add, "through": stroke.through,
    }  # fmt: skip
