"""Places, planes, lines in a view, motions and pairs of places; lengths in mm, in the object's frame."""

from typing import Any

import numpy as np

from lucid_relic.errors import LucidRelicError, ParameterError
from lucid_relic.geometry.rigid import is_rigid
from lucid_relic.operations.parameters.kinds.base import Kind, Limits, number, numbers, short, split_numbers
from lucid_relic.types import View, ViewLine

Place3 = tuple[float, float, float]
Plane4 = tuple[float, float, float, float]
Rows = tuple[tuple[float, ...], ...]
Pair = tuple[Place3, Place3]
LEAST_NORMAL = 1e-6  # length under which a plane's normal tells no direction
MAX_PLACES = 10_000  # more places than a hand ever picks
MAX_VIEW_PX = 20_000  # a side of a view; larger ones are no screen's
TRIPLE = {"type": "array", "items": {"type": "number"}, "minItems": 3, "maxItems": 3}
FOUR = {"type": "array", "items": {"type": "number"}, "minItems": 4, "maxItems": 4}
VIEW_SCHEMA = {
    "type": "object",
    "properties": {
        "T_view_object": {"type": "array", "items": FOUR, "minItems": 4, "maxItems": 4},
        "fov_deg": {"type": "number", "minimum": 1, "maximum": 170},
        "width": {"type": "integer", "minimum": 8, "maximum": MAX_VIEW_PX},
        "height": {"type": "integer", "minimum": 8, "maximum": MAX_VIEW_PX},
    },
    "required": ["T_view_object", "fov_deg", "width", "height"],
}


def _joined(values: tuple[float, ...]) -> str:
    return ",".join(map(short, values))


class Place(Kind):
    name, what, written = "place", "a place [x, y, z] in mm", "10,0,4.5"

    def check(self, value: Any, where: str, limits: Limits) -> Place3:
        found = numbers(value, 3)
        if found is None:
            self.refuse(value, where)
        return found  # type: ignore[return-value]

    def read(self, text: str, where: str) -> list[float]:
        found = split_numbers(text)
        if found is None:
            self.refuse(text, where)
        return found

    def to_text(self, value: Place3) -> str:
        return _joined(value)

    def to_json(self, value: Place3) -> list[float]:
        return list(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return TRIPLE


class Places(Kind):
    name, what, written = "places", "a list of places [x, y, z] in mm", "10,0,4;2,2,8"

    def check(self, value: Any, where: str, limits: Limits) -> tuple[Place3, ...]:
        if not isinstance(value, (list, tuple)) or len(value) > MAX_PLACES:
            self.refuse(value, where)
        found = [numbers(v, 3) for v in value]
        if any(v is None for v in found):
            self.refuse(value, where)
        return tuple(found)  # type: ignore[arg-type]

    def read(self, text: str, where: str) -> list[Any]:
        found = [split_numbers(part) for part in text.split(";") if part.strip()]
        if any(part is None for part in found):
            self.refuse(text, where)
        return found

    def to_text(self, value: tuple[Place3, ...]) -> str:
        return ";".join(map(_joined, value))

    def to_json(self, value: tuple[Place3, ...]) -> list[list[float]]:
        return [list(v) for v in value]

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "array", "items": TRIPLE, "maxItems": MAX_PLACES}


class Plane(Kind):
    """n·p = d with a unit normal; the side in front of it is kept."""

    name, what, written = "plane", "a plane [nx, ny, nz, d]", "0,0,1,2.5"

    def check(self, value: Any, where: str, limits: Limits) -> Plane4:
        found = numbers(value, 4)
        if found is None:
            self.refuse(value, where)
        length = float(np.linalg.norm(found[:3]))
        if length < LEAST_NORMAL:
            raise ParameterError(f"{where}: the normal of this plane has no length.")
        # A normal of unit length stays to the last bit, so that what was written reads back the same.
        scale = 1.0 if abs(length - 1) < 1e-12 else 1 / length
        return tuple(v * scale for v in found)  # type: ignore[return-value]

    def read(self, text: str, where: str) -> list[float]:
        found = split_numbers(text)
        if found is None:
            self.refuse(text, where)
        return found

    def to_text(self, value: Plane4) -> str:
        return _joined(value)

    def to_json(self, value: Plane4) -> list[float]:
        return list(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return FOUR


class Planes(Kind):
    name, what, written = "planes", "planes by the titles of passes", "upright=0,0,1,2.5;tipped=0,1,0,-3"
    one = Plane()

    def check(self, value: Any, where: str, limits: Limits) -> dict[str, Plane4]:
        if not isinstance(value, dict) or not all(isinstance(k, str) for k in value):
            self.refuse(value, where)
        return {title: self.one.check(plane, f"{where} of “{title}”", limits) for title, plane in value.items()}

    def read(self, text: str, where: str) -> dict[str, Any]:
        out = {}
        for part in text.split(";"):
            title, sign, plane = part.rpartition("=")
            if not sign:
                self.refuse(text, where)
            out[title.strip()] = self.one.read(plane, where)
        return out

    def to_text(self, value: dict[str, Plane4]) -> str:
        if any(mark in title for title in value for mark in ";=") or any(t[:1] in ("{", "[") for t in value):
            return super().to_text(value)
        return ";".join(f"{title}={_joined(plane)}" for title, plane in value.items())

    def to_json(self, value: dict[str, Plane4]) -> dict[str, list[float]]:
        return {title: list(plane) for title, plane in value.items()}

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "object", "additionalProperties": FOUR}


class Matrix(Kind):
    name, what, written = "matrix", "a rigid motion of 4 rows of 4 numbers", "16 numbers, row by row"

    def check(self, value: Any, where: str, limits: Limits) -> Rows:
        rows = [numbers(row, 4) for row in value] if isinstance(value, (list, tuple)) and len(value) == 4 else [None]
        if any(row is None for row in rows):
            self.refuse(value, where)
        if not is_rigid(np.array(rows)):
            raise ParameterError(f"{where} must be a rigid motion: a rotation and a translation, nothing else.")
        return tuple(rows)

    def read(self, text: str, where: str) -> list[list[float]]:
        found = split_numbers(text)
        if found is None or len(found) != 16:
            self.refuse(text, where)
        return [found[k : k + 4] for k in (0, 4, 8, 12)]

    def to_text(self, value: Rows) -> str:
        return ",".join(_joined(row) for row in value)

    def to_json(self, value: Rows) -> list[list[float]]:
        return [list(row) for row in value]

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "array", "items": FOUR, "minItems": 4, "maxItems": 4}


class Pairs(Kind):
    """Pairs of the same spot: `fixed` in the object's frame, `moving` in the frame of the pass."""

    name, what, written = "pairs", "a list of {“fixed”: place, “moving”: place}", "1,2,3>4,5,6;7,8,9>1,0,2"

    def check(self, value: Any, where: str, limits: Limits) -> tuple[Pair, ...]:
        if not isinstance(value, (list, tuple)) or len(value) > MAX_PLACES:
            self.refuse(value, where)
        out = []
        for one in value:
            ends = (one.get("fixed"), one.get("moving")) if isinstance(one, dict) else one
            if not isinstance(ends, (list, tuple)) or len(ends) != 2 or any(numbers(e, 3) is None for e in ends):
                self.refuse(value, where)
            out.append((numbers(ends[0], 3), numbers(ends[1], 3)))
        return tuple(out)  # type: ignore[arg-type]

    def read(self, text: str, where: str) -> list[Any]:
        out = []
        for part in text.split(";"):
            ends = [split_numbers(end) for end in part.split(">")]
            if len(ends) != 2 or None in ends:
                self.refuse(text, where)
            out.append({"fixed": ends[0], "moving": ends[1]})
        return out

    def to_text(self, value: tuple[Pair, ...]) -> str:
        return ";".join(f"{_joined(fixed)}>{_joined(moving)}" for fixed, moving in value)

    def to_json(self, value: tuple[Pair, ...]) -> list[dict[str, list[float]]]:
        return [{"fixed": list(fixed), "moving": list(moving)} for fixed, moving in value]

    def schema(self, limits: Limits) -> dict[str, Any]:
        pair = {"type": "object", "properties": {"fixed": TRIPLE, "moving": TRIPLE}, "required": ["fixed", "moving"]}
        return {"type": "array", "items": pair, "maxItems": MAX_PLACES}


def checked_view(value: Any, where: str) -> View:
    """A `View` from itself or its JSON; raises `ParameterError` naming `where`."""
    if isinstance(value, View):
        return value
    if not isinstance(value, dict):
        raise ParameterError(f"{where} must be a view with T_view_object, fov_deg, width and height.")
    pose = Matrix().check(value.get("T_view_object"), f"{where}.T_view_object", Limits())
    fov = number(value.get("fov_deg"))
    sides = [value.get("width"), value.get("height")]
    whole = all(isinstance(s, int) and not isinstance(s, bool) and 8 <= s <= MAX_VIEW_PX for s in sides)
    if fov is None or not whole:
        raise ParameterError(
            f"{where} needs fov_deg, a number, and width and height, whole pixels from 8 to {MAX_VIEW_PX}."
        )
    try:
        return View(pose, fov, *sides)  # type: ignore[arg-type]
    except LucidRelicError as why:
        raise ParameterError(f"{where}: {why}") from None


def view_json(view: View) -> dict[str, Any]:
    """Plain JSON of a view."""
    return {
        "T_view_object": [list(row) for row in view.T_view_object],
        "fov_deg": view.fov_deg,
        "width": view.width,
        "height": view.height,
    }


class Line(Kind):
    """A line drawn across a view."""

    name, what, written = "line", "a line in a view {“start”, “end”, “view”}", "JSON, or @file"

    def check(self, value: Any, where: str, limits: Limits) -> ViewLine:
        if isinstance(value, ViewLine):
            return value
        if not isinstance(value, dict):
            self.refuse(value, where)
        start, end = numbers(value.get("start"), 2), numbers(value.get("end"), 2)
        if start is None or end is None:
            self.refuse(value, where)
        line = ViewLine(start, end, checked_view(value.get("view"), f"{where}.view"))  # type: ignore[arg-type]
        try:
            line.plane()
        except LucidRelicError as why:
            raise ParameterError(f"{where}: {why}") from None
        return line

    def to_json(self, value: ViewLine) -> dict[str, Any]:
        return {"start": list(value.start), "end": list(value.end), "view": view_json(value.view)}

    def schema(self, limits: Limits) -> dict[str, Any]:
        pixel = {"type": "array", "items": {"type": "number"}, "minItems": 2, "maxItems": 2}
        parts = {"start": pixel, "end": pixel, "view": VIEW_SCHEMA}
        return {"type": "object", "properties": parts, "required": list(parts)}
