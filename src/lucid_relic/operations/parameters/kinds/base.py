"""What every kind of parameter does."""

import json
from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar, NoReturn

from lucid_relic.errors import InputError, ParameterError, quoted
from lucid_relic.io.bounded_json import parse_json

MAX_TEXT = 16 * 2**20  # bytes of a parameter's text


@dataclass(frozen=True)
class Limits:
    """What narrows a kind down in one parameter."""

    unit: str = ""
    low: float | None = None
    high: float | None = None
    choices: tuple[str, ...] = ()


class Kind(ABC):
    """One kind of parameter.

    name is its name in catalogue and schema; what completes “must be …”; written shows its text form on a command
    line; is_text says that a text is a value already and needs no reading.
    """

    name: ClassVar[str]
    what: ClassVar[str]
    written: ClassVar[str]
    is_text: ClassVar[bool] = False

    @abstractmethod
    def check(self, value: Any, where: str, limits: Limits) -> Any:
        """The value as operations take it, from itself or from JSON; raises `ParameterError` naming `where`."""

    @abstractmethod
    def schema(self, limits: Limits) -> dict[str, Any]:
        """JSON Schema of the value."""

    def to_json(self, value: Any) -> Any:
        """Plain JSON of a checked value."""
        return value

    def from_text(self, text: str, where: str) -> Any:
        """A JSON value from its text form; JSON itself is always understood."""
        if text.lstrip()[:1] in ("{", "["):
            try:
                return parse_json(text, where, MAX_TEXT)
            except InputError:
                self.refuse(text, where)
        return self.read(text, where)

    def read(self, text: str, where: str) -> Any:
        """A JSON value from the short text form."""
        self.refuse(text, where)

    def to_text(self, value: Any) -> str:
        """The text form of a checked value; `from_text` reads it back."""
        return json.dumps(self.to_json(value), separators=(",", ":"))

    def refuse(self, value: Any, where: str) -> NoReturn:
        """Say what the value must be."""
        raise ParameterError(f"{where} must be {self.what}, not {quoted(value)}.")


def number(value: Any) -> float | None:
    """A finite number, or None for anything else."""
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        return None
    try:
        out = float(value)
    except OverflowError:
        return None
    return out if abs(out) < float("inf") else None


def numbers(value: Any, count: int | None = None) -> tuple[float, ...] | None:
    """A tuple of finite numbers (of a count), or None for anything else."""
    if not isinstance(value, (list, tuple)) or (count is not None and len(value) != count):
        return None
    out = tuple(number(v) for v in value)
    return None if any(v is None for v in out) else out


def split_numbers(text: str) -> list[float] | None:
    """Numbers separated by commas, or None when some part is none."""
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        return None


def short(value: float) -> str:
    """A number as short as reads back to itself."""
    return repr(int(value)) if value == int(value) and abs(value) < 1e15 else repr(value)
