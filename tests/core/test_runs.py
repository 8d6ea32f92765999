"""Progress of runs by what operations usually take, known results, and keys of steps."""

import pytest

from lucid_relic.errors import StepNotPossible
from lucid_relic.io.snapshots import key_of_step
from lucid_relic.operations.registry import Need, Operation, get_operation
from lucid_relic.operations.run import GIVEN, RecipeStep, expected_seconds, run_steps
from lucid_relic.progress import silent
from lucid_relic.types import ScanState

STEPS = [RecipeStep("place_frames", {}), RecipeStep("settle", {}), RecipeStep("fuse", {})]


@pytest.fixture
def bare(monkeypatch):
    """Operations that do nothing but note that they ran, and need nothing."""
    from lucid_relic.operations import run

    ran: list[str] = []

    def made(name: str) -> Operation:
        real = get_operation(name)

        def work(state, params, progress):
            ran.append(name)
            progress(1.0, name)
            return state, {}

        return Operation(
            name, real.title, real.stage, "", real.key, real.weight, (), real.parameters, work, lambda _: ""
        )

    monkeypatch.setattr(run, "get_operation", made)
    return ran


def fractions(*seconds: float | None) -> list[float]:
    told: list[float] = []
    expected = expected_seconds([s.operation for s in STEPS], seconds or [None] * 3)
    run_steps(ScanState(), STEPS, lambda f, words: told.append(round(f, 4)), lambda *_: None, seconds=expected)
    return told[1::2][:3]


def test_progress_counts_steps_by_the_time_they_usually_take(bare) -> None:
    assert fractions(10.0, 30.0, 60.0) == [0.1, 0.4, 1.0]
    # Of one that is not known its weight counts, at the pace of those that are.
    weights = [get_operation(s.operation).weight for s in STEPS]
    half = fractions(2 * weights[0], 2 * weights[1], None)
    assert (
        half
        == fractions()
        == pytest.approx([weights[0] / sum(weights), sum(weights[:2]) / sum(weights), 1.0], abs=1e-4)
    )


def test_what_is_known_is_not_computed_and_its_state_is_asked_for_only_when_needed(bare) -> None:
    asked: list[int] = []

    def recall(number: int, step: RecipeStep):
        return (lambda: asked.append(number) or ScanState(upright=True)) if number < 2 else None

    after = run_steps(ScanState(), STEPS, silent, lambda *_: None, recall=recall)
    assert bare == ["fuse"] and asked == [1] and after.upright
    bare.clear(), asked.clear()
    run_steps(ScanState(), STEPS[:2], silent, lambda *_: None, recall=recall)
    assert bare == [] and asked == [1]


def test_what_came_in_is_never_made_anew(bare) -> None:
    with pytest.raises(StepNotPossible, match="came in"):
        run_steps(ScanState(), [RecipeStep(GIVEN, {})], silent, lambda *_: None)
    given = run_steps(ScanState(), [RecipeStep(GIVEN, {})], silent, lambda *_: None, recall=lambda n, s: ScanState)
    assert given == ScanState() and Need.PASSES in get_operation("place_frames").needs


def test_a_key_names_the_state_the_operation_and_every_number() -> None:
    key = key_of_step({"a": 1, "b": [0.5]}, "fuse", {"voxel_mm": 0.5, "take": ""})
    assert len(key) == 40 and key == key_of_step({"b": [0.5], "a": 1}, "fuse", {"take": "", "voxel_mm": 0.5})
    others = [
        key_of_step({"a": 1, "b": [0.25]}, "fuse", {"voxel_mm": 0.5, "take": ""}),
        key_of_step({"a": 1, "b": [0.5]}, "close", {"voxel_mm": 0.5, "take": ""}),
        key_of_step({"a": 1, "b": [0.5]}, "fuse", {"voxel_mm": 0.25, "take": ""}),
        key_of_step(None, "fuse", {"voxel_mm": 0.5, "take": ""}),
    ]
    assert len({key, *others}) == 5
