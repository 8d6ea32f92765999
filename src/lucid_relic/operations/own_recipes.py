"""Recipes that people make: drawn from what was done to an object, and judged while they are edited."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from lucid_relic.errors import ParameterError
from lucid_relic.operations.registry import Need, Operation, get_operation
from lucid_relic.operations.run import RecipeStep

# Kinds of parameters that name something of one object alone, and those that a hand marked on it:
OF_ONE_OBJECT = ("passes", "pass", "frames", "photographs", "matrix", "pairs")
BY_HAND = ("marks", "places", "place", "plane", "planes", "line", "choice_or_place", "white")
ONE_OBJECT = {
    "match_points": "It ties places of two passes of one object.",
    "snap": "It puts one pass of one object into its place.",
    "leave_out": "It names frames of one pass.",
    "take_back": "It names frames of one pass.",
    "switch_passes": "It names passes of one object.",
    "takes": "It names a take of one object.",
    "measure": "It measures between places of one object.",
    "take_off_length": "It names a length of one object.",
    "use_surface": "It names a pass of one object.",
}
NOTHING_MARKED = "It does nothing without its marks."
GIVES = {
    "fuse": (Need.VOLUME, Need.MESH, Need.TAKES),
    "use_surface": (Need.MESH,),
    "lay_colour": (Need.TEXTURE,),
    "place_frames": (Need.PLACED,),
    "find_fit": (Need.PLACED,),
}
EARLIER = {
    Need.VOLUME: "Nothing before it fuses: it works only on an object that is fused already.",
    Need.MESH: "Nothing before it makes a surface: it works only on an object that has one already.",
    Need.TAKES: "Nothing before it fuses: it works only on an object that has takes already.",
    Need.TEXTURE: "Nothing before it lays colour: it works only on an object with a texture.",
}


@dataclass(frozen=True)
class DrawnStep:
    """A step as a recipe would have it; why says what keeps it out of one, or nothing."""

    operation: str
    parameters: dict[str, Any]
    marks: bool
    why: str


def drawn(steps: Sequence[RecipeStep], with_marks: bool) -> list[DrawnStep]:
    """What was done to an object as steps of a recipe: numbers that differ from the defaults, marks if they are wanted.

    What names something of one object alone is left out: passes, frames, photographs.
    """
    return [_drawn(step, get_operation(step.operation), with_marks) for step in steps]


def _drawn(step: RecipeStep, operation: Operation, with_marks: bool) -> DrawnStep:
    out, marks, lost = {}, False, False
    for told in operation.parameters.describe():
        value = step.parameters.get(told["name"], told["default"])
        if value == told["default"] or told["kind"] in OF_ONE_OBJECT:
            continue
        if told["kind"] in BY_HAND:
            marks = True
            if not with_marks:
                lost = lost or (told["kind"] == "marks" and not told["optional"])
                continue
        out[told["name"]] = value
    why = ONE_OBJECT.get(step.operation, NOTHING_MARKED if lost else "")
    return DrawnStep(step.operation, out, marks, why)


@dataclass(frozen=True)
class Judged:
    """What is to be said of a step of a recipe: fault, when it cannot be run; note, when it may not do what is meant."""

    fault: str
    note: str


def judge(steps: Sequence[RecipeStep]) -> list[Judged]:
    """Each step of a recipe: whether its operation and numbers are right, and whether its turn has come."""
    given: set[Need] = set()
    out = []
    for step in steps:
        try:
            operation = get_operation(step.operation)
            operation.parameters.from_dict(step.parameters)
        except ParameterError as error:
            out.append(Judged(str(error), ""))
            continue
        missing = next((need for need in operation.needs if need in EARLIER and need not in given), None)
        note = EARLIER[missing] if missing else ""
        marks = any(t["kind"] == "marks" and not t["optional"] for t in operation.parameters.describe())
        if marks and not step.parameters.get("marks", {}).get("strokes"):
            note = NOTHING_MARKED
        out.append(Judged("", note))
        given |= set(GIVES.get(step.operation, ()))
    return out
