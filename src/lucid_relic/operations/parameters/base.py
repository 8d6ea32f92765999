"""Parameter sets: frozen keyword-only dataclasses whose fields carry kind, unit, range, default and help."""

from dataclasses import MISSING, Field, dataclass, field, fields
from typing import Any, Self

from lucid_relic.errors import ParameterError, quoted
from lucid_relic.operations.parameters.kinds import KINDS, Kind, Limits, kind_of_default


def param(
    default: Any,
    help: str,
    *,
    kind: str | None = None,
    unit: str = "",
    low: float | None = None,
    high: float | None = None,
    choices: tuple[str, ...] = (),
) -> Any:
    """A dataclass field of a parameter set.

    kind names one of `KINDS`; left out, it follows from the default (a number, a whole number, a switch, a text, or a
    choice when there are choices). A default of None means that the parameter may be left out. Raises `TypeError`,
    when the module is imported, for a kind that does not exist or a default that its kind refuses.
    """
    name = kind or kind_of_default(default, choices)
    if name not in KINDS:
        raise TypeError(f"there is no kind of parameter “{name}”; known are: {', '.join(sorted(KINDS))}")
    if not isinstance(choices, tuple) or not all(isinstance(c, str) for c in choices):
        raise TypeError("choices must be a tuple of texts")
    limits = Limits(unit, low, high, choices)
    if default is not None:
        try:
            default = KINDS[name].check(default, "default", limits)
        except ParameterError as why:
            raise TypeError(f"{help!r}: {why}") from None
    return field(default=default, metadata={"help": help, "kind": name, "limits": limits})


def outer_name(name: str) -> str:
    """What a field is called outside: a word that Python keeps for itself has a `_` behind it here."""
    return name.rstrip("_")


def _kind(f: Field[Any]) -> tuple[Kind, Limits]:
    return KINDS[f.metadata["kind"]], f.metadata["limits"]


@dataclass(frozen=True, kw_only=True)
class Parameters:
    """Base of all parameter sets; subclasses are frozen keyword-only dataclasses of `param` fields."""

    def __post_init__(self) -> None:
        for f in fields(self):
            kind, limits = _kind(f)
            value = getattr(self, f.name)
            if value is None and f.default is None:
                continue
            if isinstance(value, str) and not kind.is_text:
                value = kind.from_text(value, outer_name(f.name))
            object.__setattr__(self, f.name, kind.check(value, outer_name(f.name), limits))

    @classmethod
    def check_definition(cls) -> None:
        """Raise `TypeError` when a field was not made by `param`: it could be neither checked nor shown."""
        for f in fields(cls):
            if "kind" not in f.metadata or f.default is MISSING:
                raise TypeError(f"{cls.__name__}.{f.name} must be made by param(…), with a default and a help")

    @classmethod
    def from_dict(cls, values: dict[str, Any]) -> Self:
        """Build from plain JSON values or their text; unknown names are refused."""
        known = {outer_name(f.name): f.name for f in fields(cls)}
        for name in values:
            if name not in known:
                raise ParameterError(
                    f"There is no parameter {quoted(name)}; known are: {', '.join(sorted(known)) or 'none'}."
                )
        return cls(**{known[name]: value for name, value in values.items()})

    def as_dict(self) -> dict[str, Any]:
        """Plain JSON values by name; `from_dict` of them gives the same parameters."""
        return {outer_name(f.name): _plain(f, getattr(self, f.name)) for f in fields(self)}

    def as_text(self) -> dict[str, str]:
        """What a command line would say, for each parameter that is set and not its default."""
        out = {}
        for f in fields(self):
            value = getattr(self, f.name)
            if value is not None and value != f.default:
                out[outer_name(f.name)] = _kind(f)[0].to_text(value)
        return out

    @classmethod
    def describe(cls) -> list[dict[str, Any]]:
        """What a form or a command line needs: name, kind, default, whether it may be left out, limits, help, text form."""
        out = []
        for f in fields(cls):
            kind, limits = _kind(f)
            out.append(
                {
                    "name": outer_name(f.name),
                    "kind": kind.name,
                    "default": _plain(f, f.default),
                    "optional": f.default is None,
                    "help": f.metadata["help"],
                    "unit": limits.unit,
                    "low": limits.low,
                    "high": limits.high,
                    "choices": list(limits.choices),
                    "written": kind.written,
                }
            )
        return out

    @classmethod
    def schema(cls) -> dict[str, Any]:
        """JSON Schema (2020-12) of the parameters."""
        properties = {}
        for f in fields(cls):
            kind, limits = _kind(f)
            shape = {**kind.schema(limits), "description": f.metadata["help"]}
            if f.default is None:
                shape = {"anyOf": [shape, {"type": "null"}]}
            properties[outer_name(f.name)] = {**shape, "default": _plain(f, f.default)}
        return {"type": "object", "properties": properties, "additionalProperties": False}


def _plain(f: Field[Any], value: Any) -> Any:
    return None if value is None else _kind(f)[0].to_json(value)
