"""Parameters of operations: frozen dataclasses that check themselves and describe themselves."""

from dataclasses import MISSING, dataclass, field, fields
from typing import Any, Self

from lucid_relic.errors import ParameterError


def param(
    default: Any,
    help: str,
    *,
    unit: str = "",
    low: float | None = None,
    high: float | None = None,
    choices: tuple[str, ...] = (),
) -> Any:
    """A dataclass field with unit, range or choices, and one line of help as metadata."""
    meta = {"help": help, "unit": unit, "low": low, "high": high, "choices": choices}
    return field(default=default, metadata=meta)


@dataclass(frozen=True, kw_only=True)
class Parameters:
    """Base of all parameter sets; subclasses are frozen keyword-only dataclasses."""

    def __post_init__(self) -> None:
        for f in fields(self):
            object.__setattr__(self, f.name, _checked(f.name, getattr(self, f.name), f))

    @classmethod
    def from_dict(cls, values: dict[str, Any]) -> Self:
        """Build from plain values; unknown names are refused."""
        known = {f.name for f in fields(cls)}
        for name in values:
            if name not in known:
                raise ParameterError(
                    f"There is no parameter “{name}”; known are: {', '.join(sorted(known)) or 'none'}."
                )
        return cls(**values)

    def as_dict(self) -> dict[str, Any]:
        """Plain values by name."""
        return {f.name: getattr(self, f.name) for f in fields(self)}

    @classmethod
    def describe(cls) -> list[dict[str, Any]]:
        """What a form or a command line needs: name, type, default, unit, range, choices, help."""
        return [
            {
                "name": f.name,
                "type": type(f.default).__name__ if f.default is not MISSING else "str",
                "default": f.default,
                **{k: list(v) if isinstance(v, tuple) else v for k, v in f.metadata.items()},
            }
            for f in fields(cls)
        ]


def _checked(name: str, value: Any, f: Any) -> Any:
    kind, meta = type(f.default), f.metadata
    if isinstance(value, str) and kind is not str:
        value = _from_text(name, value, kind)
    if kind is float and isinstance(value, int) and not isinstance(value, bool):
        value = float(value)
    if not isinstance(value, kind) or (kind is not bool and isinstance(value, bool)):
        raise ParameterError(f"{name} must be {_KINDS[kind]}, not “{value}”.")
    if meta.get("choices") and value not in meta["choices"]:
        raise ParameterError(f"{name} must be one of {', '.join(meta['choices'])}, not “{value}”.")
    low, high, unit = meta.get("low"), meta.get("high"), meta.get("unit") or ""
    if kind in (int, float):
        outside = (low is not None and value < low) or (high is not None and value > high)
        if value != value or outside:
            raise ParameterError(f"{name} must lie between {low} and {high} {unit}".rstrip() + f", not {value}.")
    return value


_KINDS = {float: "a number", int: "a whole number", str: "text", bool: "true or false"}


def _from_text(name: str, text: str, kind: type) -> Any:
    try:
        if kind is bool:
            return {"true": True, "false": False, "yes": True, "no": False}[text.lower()]
        return kind(text)
    except (ValueError, KeyError):
        raise ParameterError(f"{name} must be {_KINDS[kind]}, not “{text}”.") from None
