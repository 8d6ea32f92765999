"""What names a pass, its frames, or a colour."""

from typing import Any

from lucid_relic.errors import ParameterError
from lucid_relic.operations.parameters.kinds.base import Kind, Limits
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
