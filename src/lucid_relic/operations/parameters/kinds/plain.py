"""Numbers, switches, texts, choices and lists of numbers."""

from typing import Any

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.operations.parameters.kinds.base import Kind, Limits, numbers, short, split_numbers


def _within(value: float, where: str, limits: Limits) -> None:
    low, high = limits.low, limits.high
    if value != value or (low is not None and value < low) or (high is not None and value > high):
        raise ParameterError(f"{where} must lie between {low} and {high} {limits.unit}".rstrip() + f", not {value}.")


def _range(limits: Limits) -> dict[str, Any]:
    ends = {"minimum": limits.low, "maximum": limits.high}
    return {k: v for k, v in ends.items() if v is not None}


class Number(Kind):
    name, what, written = "number", "a number", "1.5"

    def check(self, value: Any, where: str, limits: Limits) -> float:
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            self.refuse(value, where)
        try:
            value = float(value)
        except OverflowError:
            self.refuse(value, where)
        _within(value, where, limits)
        return value

    def read(self, text: str, where: str) -> float:
        try:
            return float(text)
        except ValueError:
            self.refuse(text, where)

    def to_text(self, value: float) -> str:
        return short(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "number", **_range(limits)}


class Whole(Kind):
    name, what, written = "whole", "a whole number", "12"

    def check(self, value: Any, where: str, limits: Limits) -> int:
        if isinstance(value, bool) or not isinstance(value, int):
            self.refuse(value, where)
        _within(value, where, limits)
        return value

    def read(self, text: str, where: str) -> int:
        try:
            return int(text)
        except ValueError:
            self.refuse(text, where)

    def to_text(self, value: int) -> str:
        return str(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "integer", **_range(limits)}


class Switch(Kind):
    name, what, written = "switch", "true or false", "yes"

    def check(self, value: Any, where: str, limits: Limits) -> bool:
        if not isinstance(value, bool):
            self.refuse(value, where)
        return value

    def read(self, text: str, where: str) -> bool:
        words = {"true": True, "false": False, "yes": True, "no": False}
        if text.lower() not in words:
            self.refuse(text, where)
        return words[text.lower()]

    def to_text(self, value: bool) -> str:
        return "yes" if value else "no"

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "boolean"}


class Text(Kind):
    name, what, written, is_text = "text", "text", "some words", True

    def check(self, value: Any, where: str, limits: Limits) -> str:
        if not isinstance(value, str):
            self.refuse(value, where)
        return value

    def to_text(self, value: str) -> str:
        return value

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "string"}


class Choice(Text):
    name, written = "choice", "one of its words"

    def check(self, value: Any, where: str, limits: Limits) -> str:
        value = super().check(value, where, limits)
        if value not in limits.choices:
            raise ParameterError(f"{where} must be one of {', '.join(limits.choices)}, not {quoted(value)}.")
        return value

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "string", "enum": list(limits.choices)}


class Numbers(Kind):
    name, what, written = "numbers", "a list of numbers", "1,2.5,4"

    def check(self, value: Any, where: str, limits: Limits) -> tuple[float, ...]:
        found = numbers(value)
        if found is None:
            self.refuse(value, where)
        for one in found:
            _within(one, where, limits)
        return found

    def read(self, text: str, where: str) -> list[float]:
        found = split_numbers(text)
        if found is None:
            self.refuse(text, where)
        return found

    def to_text(self, value: tuple[float, ...]) -> str:
        return ",".join(map(short, value))

    def to_json(self, value: tuple[float, ...]) -> list[float]:
        return list(value)

    def schema(self, limits: Limits) -> dict[str, Any]:
        return {"type": "array", "items": {"type": "number", **_range(limits)}}
