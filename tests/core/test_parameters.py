"""Parameters of operations: what is taken, what is refused and in which words, and how they describe themselves."""

from dataclasses import dataclass

import pytest

from lucid_relic.errors import ParameterError
from lucid_relic.operations.parameters import Parameters, param


@dataclass(frozen=True, kw_only=True)
class Sample(Parameters):
    """One of each kind."""

    reach_mm: float = param(2.0, "How far", unit="mm", low=0.1, high=50.0)
    rounds: int = param(3, "How often", low=1, high=9)
    manner: str = param("even", "Which way", choices=("draft", "even"))
    drop: bool = param(True, "Whether to drop")


def test_plain_values_and_their_text_are_taken() -> None:
    plain = Sample(reach_mm=5, rounds=2, manner="draft", drop=False)
    text = Sample.from_dict({"reach_mm": "5", "rounds": "2", "manner": "draft", "drop": "no"})
    assert plain == text and isinstance(plain.reach_mm, float)
    assert plain.as_dict() == {"reach_mm": 5.0, "rounds": 2, "manner": "draft", "drop": False}
    assert Sample.from_dict({"drop": "TRUE"}).drop is True


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ({"reach_mm": 0.05}, "reach_mm must lie between 0.1 and 50.0 mm, not 0.05"),
        ({"reach_mm": float("nan")}, "reach_mm must lie between"),
        ({"reach_mm": "wide"}, "reach_mm must be a number, not “wide”"),
        ({"reach_mm": True}, "reach_mm must be a number"),
        ({"rounds": 10}, "rounds must lie between 1 and 9, not 10"),
        ({"rounds": 2.5}, "rounds must be a whole number"),
        ({"rounds": "2.5"}, "rounds must be a whole number"),
        ({"manner": "loud"}, "manner must be one of draft, even, not “loud”"),
        ({"manner": 4}, "manner must be text"),
        ({"drop": "perhaps"}, "drop must be true or false, not “perhaps”"),
        ({"drop": 1}, "drop must be true or false"),
        ({"reech_mm": 1.0}, "no parameter “reech_mm”; known are: drop, manner, reach_mm, rounds"),
    ],
)
def test_what_does_not_fit_is_refused_in_words(values: dict, says: str) -> None:
    with pytest.raises(ParameterError, match=says.replace(".", r"\.")):
        Sample.from_dict(values)


def test_they_say_what_a_form_needs() -> None:
    reach, _, manner, drop = Sample.describe()
    assert reach == {
        "name": "reach_mm", "kind": "number", "default": 2.0, "optional": False, "help": "How far", "unit": "mm",
        "low": 0.1, "high": 50.0, "choices": [], "written": "1.5",
    }  # fmt: skip
    assert manner["choices"] == ["draft", "even"] and manner["kind"] == "choice" and drop["kind"] == "switch"
