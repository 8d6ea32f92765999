"""What names a pass, its frames or photographs, or a colour."""

from typing import Any

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.operations.parameters.kinds.base import Kind, Limits, split_numbers
from lucid_relic.operations.parameters.kinds.geometry import Place
from lucid_relic.operations.parameters.kinds.plain import Text

MAX_FRAME = 1_000_000  # beyond every capture; keeps a range from filling the memory


class PassTitle(Text):
    name, what, written = "pass", "the title of a pass", "upright"

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "string", "minLength": 1}


class PassTitles(Kind):
    name, what, written = "passes", "a list of titles of passes", "upright;tipped"

    def check(self, value: Any, where: str, limits: Limits) -> tuple[str, ...]:
        if not isinstance(value, (list, tuple)) or not all(isinstance(v, str) and v for v in value):
            self.refuse(value, where)
        return tuple(value)

    def read(self, text: str, where: str) -> list[str]:
        return [part.strip() for part in text.split(";") if part.strip()]

    def to_text(self, value: tuple[str, ...]) -> str:
        return super().to_text(value) if any(";" in v or v[0] in "[{" for v in value) else ";".join(value)

    def to_json(self, value: tuple[str, ...]) -> list[str]:
        return list(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "array", "items": {"type": "string", "minLength": 1}}


class Frames(Kind):
    """Indices of frames from 0, alone or as ranges [first, last]; kept as single indices in order."""

    name, what, written = "frames", "frames as indices or [first, last] ranges", "0-5,9"

    def check(self, value: Any, where: str, limits: Limits) -> tuple[int, ...]:
        if not isinstance(value, (list, tuple)):
            self.refuse(value, where)
        chosen: set[int] = set()
        for one in value:
            first, last = one if isinstance(one, (list, tuple)) and len(one) == 2 else (one, one)
            if not all(isinstance(v, int) and not isinstance(v, bool) and 0 <= v <= MAX_FRAME for v in (first, last)):
                self.refuse(value, where)
            if last < first:
                raise ParameterError(f"{where}: the range {first}-{last} runs backwards.")
            chosen.update(range(first, last + 1))
        return tuple(sorted(chosen))

    def read(self, text: str, where: str) -> list[Any]:
        out: list[Any] = []
        for part in text.split(","):
            first, sign, last = part.strip().partition("-")
            if not first.isdecimal() or (sign and not last.isdecimal()):
                self.refuse(text, where)
            out.append([int(first), int(last)] if sign else int(first))
        return out

    def to_json(self, value: tuple[int, ...]) -> list[Any]:
        runs: list[list[int]] = []
        for index in value:
            if runs and runs[-1][1] == index - 1:
                runs[-1][1] = index
            else:
                runs.append([index, index])
        return [first if first == last else [first, last] for first, last in runs]

    def to_text(self, value: tuple[int, ...]) -> str:
        return ",".join(f"{r[0]}-{r[1]}" if isinstance(r, list) else str(r) for r in self.to_json(value))

    def schema(self, limits: Limits) -> dict[str, Any]:
        index = {"type": "integer", "minimum": 0, "maximum": MAX_FRAME}
        return {
            "type": "array",
            "items": {"anyOf": [index, {"type": "array", "items": index, "minItems": 2, "maxItems": 2}]},
        }


class Colour(Kind):
    """An sRGB colour as #rrggbb."""

    name, what, written, is_text = "colour", "a colour #rrggbb", "#c8b491", True

    def check(self, value: Any, where: str, limits: Limits) -> str:
        digits = value[1:] if isinstance(value, str) else ""
        if not isinstance(value, str) or value[:1] != "#" or len(digits) != 6:
            self.refuse(value, where)
        if any(c not in "0123456789abcdef" for c in digits.lower()):
            self.refuse(value, where)
        return value.lower()

    def to_text(self, value: str) -> str:
        return value

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "string", "pattern": "^#[0-9a-fA-F]{6}$"}


class Photographs(Kind):
    """Photographs by pass: {title: frames}; kept as pairs of a title and the index of a frame."""

    name, what, written = "photographs", "frames by the titles of passes {title: frames}", "upright=0-5,9;tipped=3"
    frames = Frames()

    def check(self, value: Any, where: str, limits: Limits) -> tuple[tuple[str, int], ...]:
        if isinstance(value, tuple) and all(isinstance(v, tuple) and len(v) == 2 for v in value):
            value = self.to_json(value)
        if not isinstance(value, dict) or not all(isinstance(k, str) and k for k in value):
            self.refuse(value, where)
        return tuple(
            (title, index)
            for title, frames in value.items()
            for index in self.frames.check(frames, f"{where} of “{title}”", limits)
        )

    def read(self, text: str, where: str) -> dict[str, Any]:
        out = {}
        for part in filter(str.strip, text.split(";")):
            title, sign, frames = part.rpartition("=")
            if not sign:
                self.refuse(text, where)
            out[title.strip()] = self.frames.read(frames, where)
        return out

    def to_text(self, value: tuple[tuple[str, int], ...]) -> str:
        by_title = self._by_title(value)
        if any(mark in title for title in by_title for mark in ";=") or any(t[:1] in ("{", "[") for t in by_title):
            return super().to_text(value)
        return ";".join(f"{title}={self.frames.to_text(frames)}" for title, frames in by_title.items())

    def to_json(self, value: tuple[tuple[str, int], ...]) -> dict[str, Any]:
        return {title: self.frames.to_json(frames) for title, frames in self._by_title(value).items()}

    def _by_title(self, value: tuple[tuple[str, int], ...]) -> dict[str, tuple[int, ...]]:
        titles = dict.fromkeys(title for title, _ in value)
        return {t: tuple(sorted(index for title, index in value if title == t)) for t in titles}

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "object", "additionalProperties": self.frames.schema(limits)}


class ChoiceOrPlace(Kind):
    """One of some words, or a place (mm)."""

    name, what, written, is_text = "choice_or_place", "one of the choices, or a place [x, y, z] in mm", "10,0,4.5", True
    place = Place()

    def check(self, value: Any, where: str, limits: Limits) -> Any:
        if isinstance(value, str):
            if value in limits.choices:
                return value
            found = split_numbers(value.strip("[] "))
            value = value if found is None else found
        try:
            return self.place.check(value, where, limits)
        except ParameterError:
            raise ParameterError(
                f"{where} must be one of {', '.join(limits.choices)}, or a place [x, y, z] in mm, not {quoted(value)}."
            ) from None

    def to_json(self, value: Any) -> Any:
        return value if isinstance(value, str) else list(value)

    def to_text(self, value: Any) -> str:
        return value if isinstance(value, str) else self.place.to_text(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"anyOf": [{"enum": list(limits.choices)}, self.place.schema(limits)]}


class White(Kind):
    """What should be grey: a place on the surface (mm), or its sRGB colour as #rrggbb."""

    name, what, written, is_text = "white", "a place [x, y, z] in mm, or a colour #rrggbb", "#c8b491", True
    place, colour = Place(), Colour()

    def check(self, value: Any, where: str, limits: Limits) -> Any:
        if isinstance(value, str) and not value.startswith("#"):
            found = split_numbers(value.strip("[] "))
            value = value if found is None else found
        kind = self.colour if isinstance(value, str) else self.place
        try:
            return kind.check(value, where, limits)
        except ParameterError:
            self.refuse(value, where)

    def to_json(self, value: Any) -> Any:
        return value if isinstance(value, str) else list(value)

    def to_text(self, value: Any) -> str:
        return value if isinstance(value, str) else self.place.to_text(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"anyOf": [self.colour.schema(limits), self.place.schema(limits)]}
