"""Kinds of parameters: what each takes and refuses, its JSON and text forms there and back, its schema."""

import json
from dataclasses import dataclass, field

import numpy as np
import pytest

from lucid_relic.errors import ParameterError
from lucid_relic.operations import list_operations
from lucid_relic.operations.parameters import KINDS, Parameters, param
from lucid_relic.operations.parameters.kinds import Limits

VIEW = {"T_view_object": np.eye(4).tolist(), "fov_deg": 30, "width": 725, "height": 590}
TURN = [[0, -1, 0, 5], [1, 0, 0, 0], [0, 0, 1, -2.5], [0, 0, 0, 1]]
STROKES = [
    {"shape": "lasso", "points": [[1, 2], [3, 4], [5, 0.5]], "view": VIEW, "add": False, "through": True},
    {"shape": "polygon", "points": [[1, 2], [3, 4], [5, 6]], "view": VIEW},
    {"shape": "box", "points": [[1, 2], [300, 400]], "view": VIEW},
    {"shape": "brush", "points": [[1, 2]], "radius_px": 12, "view": VIEW},
    {"shape": "ball", "centres": [[1, 2, 3], [2, 2, 2]], "radius_mm": 3},
    {"shape": "joined", "at": [1, 2, 3], "gap_mm": 1, "crease_deg": 40, "add": False},
]
# Of each kind: a value as JSON, and a text that means the same where it has a short one.
GOOD = {
    "number": (2.5, "2.5"),
    "whole": (12, "12"),
    "switch": (True, "yes"),
    "text": ("some words", "some words"),
    "choice": ("even", "even"),
    "numbers": ([1.0, 2.5, -4.0], "1,2.5,-4"),
    "place": ([1.0, 2.0, 3.5], "1,2,3.5"),
    "places": ([[1.0, 2.0, 3.5], [0.0, 0.0, 1.0]], "1,2,3.5;0,0,1"),
    "plane": ([0.0, 0.0, 1.0, 2.5], "0,0,1,2.5"),
    "planes": ({"on its side": [0.0, 1.0, 0.0, -3.0], "b": [1.0, 0.0, 0.0, 0.0]}, "on its side=0,1,0,-3;b=1,0,0,0"),
    "line": ({"start": [10.0, 20.0], "end": [300.0, 25.5], "view": VIEW}, None),
    "matrix": (TURN, "0,-1,0,5,1,0,0,0,0,0,1,-2.5,0,0,0,1"),
    "pairs": ([{"fixed": [1.0, 2.0, 3.0], "moving": [4.0, 5.0, 6.5]}], "1,2,3>4,5,6.5"),
    "marks": ({"strokes": STROKES, "invert": True}, None),
    "pass": ("upright", "upright"),
    "passes": (["upright", "on its side"], "upright;on its side"),
    "frames": ([[0, 5], 9], "0-5,9"),
    "photographs": ({"on its side": [[0, 2], 9], "b": [3]}, "on its side=0-2,9;b=3"),
    "colour": ("#c8b491", "#C8B491"),
    "white": ([1.0, 2.0, 3.5], "1,2,3.5"),
    "choice_or_place": ("even", "even"),
}
BAD = {
    "number": ["wide", True, None, [1]],
    "whole": [2.5, "2.5", True],
    "switch": [1, "perhaps"],
    "text": [4],
    "choice": ["loud", 4],
    "numbers": [[1, "two"], "1,two", [float("nan")], 3],
    "place": [[1, 2], "1,2", [1, 2, float("inf")], {"x": 1}, [10**400, 0, 0]],
    "places": [[[1, 2]], "1,2;3", 5],
    "plane": [[0, 0, 0, 1], [0, 0, 1], "0,0,1"],
    "planes": [{"a": [0, 0, 1]}, "a0,0,1,2", [[0, 0, 1, 2]]],
    "line": [{"start": [1, 1], "end": [1, 1], "view": VIEW}, {"start": [1, 1], "end": [2, 2]}, "12"],
    "matrix": [np.diag([2.0, 1, 1, 1]).tolist(), [[1, 0, 0, 0]] * 3, "1,2,3"],
    "pairs": [[{"fixed": [1, 2, 3]}], "1,2,3", [{"fixed": [1, 2], "moving": [1, 2, 3]}]],
    "marks": [
        {"strokes": [{"shape": "heart"}]}, {"strokes": 3}, {"invert": "no"}, [],
        {"strokes": [{**STROKES[0], "points": [[1, 2], [3, 4]]}]}, {"strokes": [{**STROKES[4], "radius_mm": -1}]},
        {"strokes": [{**STROKES[2], "points": [[1, 2], [3, 4], [5, 6]]}]},
        {"strokes": [{**STROKES[3], "radius_px": None}]}, {"strokes": [{**STROKES[0], "view": {**VIEW, "width": 1.5}}]},
    ],
    "pass": [3],
    "passes": [[""], "x" and 3],
    "frames": [[[5, 0]], [-1], "0-", [True], "a"],
    "photographs": [["a"], {"a": [-1]}, {"": [1]}, "a0-2", {"a": "x"}],
    "colour": ["c8b491", "#c8b49", "#gggggg", 3],
    "choice_or_place": ["loud", [1, 2], 7, None],
    "white": ["#12", "red", [1, 2], 7, None],
}  # fmt: skip
LIMITS = Limits(choices=("draft", "even"))


def read(name: str, value: object) -> object:
    kind = KINDS[name]
    if isinstance(value, str) and not kind.is_text:
        value = kind.from_text(value, "it")
    return kind.check(value, "it", LIMITS)


def test_every_kind_is_tried_here() -> None:
    assert set(GOOD) == set(BAD) == set(KINDS)


@pytest.mark.parametrize("name", KINDS)
def test_values_survive_json_and_text(name: str) -> None:
    plain, text = GOOD[name]
    kind, value = KINDS[name], read(name, plain)
    again = json.loads(json.dumps(kind.to_json(value)))
    assert read(name, again) == value
    assert read(name, kind.to_text(value)) == value
    assert read(name, value) == value, "a checked value must be taken as it is"
    if text is not None:
        assert read(name, text) == value
    if name != "marks" and name != "line":
        assert again == plain


@pytest.mark.parametrize(("name", "value"), [(n, v) for n, values in BAD.items() for v in values])
def test_what_does_not_fit_is_refused_naming_the_field(name: str, value: object) -> None:
    with pytest.raises(ParameterError, match="^it"):
        read(name, value)


@pytest.mark.parametrize("name", KINDS)
def test_schemas_say_what_is_taken(name: str) -> None:
    # Source: JSON Schema 2020-12; its own meta-schema would need another library, so the words used are listed.
    words = {"type", "enum", "const", "items", "minItems", "maxItems", "minimum", "maximum", "properties", "required",
             "additionalProperties", "anyOf", "pattern", "minLength"}  # fmt: skip

    def walk(schema: dict) -> None:
        assert set(schema) <= words
        for inner in schema.get("properties", {}).values():
            walk(inner)
        for inner in schema.get("anyOf", []):
            walk(inner)
        if isinstance(schema.get("items"), dict):
            walk(schema["items"])

    walk(KINDS[name].schema(Limits(low=0, high=9, choices=("a",))))


def test_planes_are_made_of_unit_normals() -> None:
    assert read("plane", [0, 0, 4, 10]) == (0, 0, 1, 2.5)
    odd = read("plane", [0.3, -0.2, 0.9, 1.7])
    assert read("plane", list(odd)) == odd, "a unit normal must stay to the last bit"


def test_titles_with_signs_of_the_text_form_are_written_as_json() -> None:
    planes = read("planes", {"a;b=c": [0, 0, 1, 2]})
    assert read("planes", KINDS["planes"].to_text(planes)) == planes
    titles = read("passes", ["a;b", "c"])
    assert read("passes", KINDS["passes"].to_text(titles)) == titles


def test_unknown_kinds_and_wrong_definitions_fail_when_they_are_imported() -> None:
    with pytest.raises(TypeError, match="no kind of parameter “shade”"):
        param(None, "x", kind="shade")
    with pytest.raises(TypeError, match="name the kind"):
        param((1, 2), "x")
    with pytest.raises(TypeError, match="choices must be a tuple"):
        param("a", "x", choices="abc")  # type: ignore[arg-type]
    with pytest.raises(TypeError, match="must lie between"):
        param(99.0, "x", low=0, high=5)

    @dataclass(frozen=True, kw_only=True)
    class Loose(Parameters):
        """A field that no kind checks."""

        rounds: int = field(default=3)

    with pytest.raises(TypeError, match=r"Loose\.rounds must be made by param"):
        Loose.check_definition()


def test_what_may_be_left_out_is_none_and_says_so() -> None:
    @dataclass(frozen=True, kw_only=True)
    class Some(Parameters):
        at: tuple[float, float, float] | None = param(None, "Where", kind="place")

    assert Some().at is None and Some().as_dict() == {"at": None} and Some(at=None).as_text() == {}
    assert Some.from_dict({"at": "1,2,3"}).as_text() == {"at": "1,2,3"}
    assert Some.describe()[0]["optional"] and Some.schema()["properties"]["at"]["anyOf"][1] == {"type": "null"}


def test_every_operation_describes_itself_completely() -> None:
    keys = [o.key for o in list_operations()]
    assert len(set(keys)) == len(keys)
    for operation in list_operations():
        defaults = operation.parameters()
        assert operation.parameters.from_dict(defaults.as_dict()) == defaults
        assert set(operation.parameters.schema()["properties"]) == set(defaults.as_dict())
        assert operation.help.endswith((".", "!")) and operation.weight > 0
