"""Kinds of parameters: each says how a value is checked, written as JSON and as text, and what its schema is.

A new kind is one class in a file of this folder and one line in `KINDS`, and one field component of the same name in
the front end.
"""

from typing import Any

from lucid_relic.operations.parameters.kinds.base import Kind, Limits
from lucid_relic.operations.parameters.kinds.geometry import Line, Matrix, Pairs, Place, Places, Plane, Planes
from lucid_relic.operations.parameters.kinds.marks import MarksKind
from lucid_relic.operations.parameters.kinds.names import (
    ChoiceOrPlace,
    Colour,
    Frames,
    PassTitle,
    PassTitles,
    Photographs,
    White,
)
from lucid_relic.operations.parameters.kinds.plain import Choice, Number, Numbers, Switch, Text, Whole

KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        Number(), Whole(), Switch(), Text(), Choice(), Numbers(),
        Place(), Places(), Plane(), Planes(), Line(), Matrix(), Pairs(),
        MarksKind(), PassTitle(), PassTitles(), Frames(), Photographs(), Colour(), White(), ChoiceOrPlace(),
    )
}  # fmt: skip

_BY_TYPE = {bool: "switch", int: "whole", float: "number", str: "text"}


def kind_of_default(default: Any, choices: tuple[str, ...]) -> str:
    """The kind that a default tells by itself; raises `TypeError` when it tells none."""
    if choices:
        return "choice"
    if type(default) not in _BY_TYPE:
        raise TypeError(f"name the kind of a parameter whose default is {default!r}")
    return _BY_TYPE[type(default)]


__all__ = ["KINDS", "Kind", "Limits", "kind_of_default"]
