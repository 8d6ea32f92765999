"""The one place that decides how a list of operations is run: in order, with progress, each step told when it ends."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

from lucid_relic.errors import NotAccepted, StepNotPossible
from lucid_relic.operations.registry import Operation, Report, get_operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState

GIVEN = "add_pass"  # a step that no operation makes: what a capture or a file gave
GIVEN_WEIGHT = 0.5
LEAST_WEIGHT = 0.1


@dataclass(frozen=True)
class RecipeStep:
    """One operation with the parameters that differ from its defaults (plain JSON)."""

    operation: str
    parameters: dict[str, Any]


class OnStep(Protocol):
    """Told of every finished step: with all its parameters, the state after it, its report and its seconds."""

    def __call__(self, step: RecipeStep, state: ScanState, report: Report, seconds: float, /) -> None: ...


class OnBegin(Protocol):
    """Told before every step: its number from 1, how many there are, and its title."""

    def __call__(self, number: int, total: int, title: str, /) -> None: ...


class Recall(Protocol):
    """Asked of every step, by its number from 0, before it is computed: a way to the state after it when that is known.

    Who answers has the step told already, and its state is only asked for when a later step is computed from it.
    """

    def __call__(self, number: int, step: RecipeStep, /) -> Callable[[], ScanState] | None: ...


def expected_seconds(operations: Sequence[str], known: Sequence[float | None]) -> list[float]:
    """What operations will take: what they took lately, where that is known; of the others their weight, which is a second
    of an ordinary object, at the pace of those that are known."""
    made = [None if name == GIVEN else get_operation(name) for name in operations]
    both = [(o, took) for o, took in zip(made, known, strict=True) if o is not None and took is not None]
    pace = sum(took for _, took in both) / sum(o.weight for o, _ in both) if both else 1.0
    return [
        GIVEN_WEIGHT if o is None else max(pace * o.weight if took is None else took, LEAST_WEIGHT)
        for o, took in zip(made, known, strict=True)
    ]


def run_steps(
    state: ScanState,
    steps: Sequence[RecipeStep],
    progress: Progress,
    on_step: OnStep,
    on_begin: OnBegin | None = None,
    finished: int = 0,
    recall: Recall | None = None,
    seconds: Sequence[float] = (),
) -> ScanState:
    """Run steps from number `finished` on; progress counts all of them, each by the time it usually takes.

    seconds tells what each will take, as `expected_seconds` does.

    Raises `NotAccepted` when a step that others follow refuses its own result: that step is told as finished, and the
    rest is not run.
    """
    operations = [None if step.operation == GIVEN else get_operation(step.operation) for step in steps]
    weights = seconds or expected_seconds([s.operation for s in steps], [None] * len(steps))
    total, done = sum(weights), sum(weights[:finished])
    known: Callable[[], ScanState] | None = None
    for number, (step, operation) in enumerate(zip(steps, operations, strict=True)):
        params = operation.parameters.from_dict(step.parameters) if operation else None
        full = replace(step, parameters=params.as_dict()) if params else step
        if number >= finished:
            if on_begin is not None:
                on_begin(number + 1, len(steps), operation.title if operation else "Add pass")
            found = recall(number, full) if recall is not None else None
            if found is not None:
                known = found
            elif operation is None:
                raise StepNotPossible("A pass that came in cannot be made anew by a recipe.")
            else:
                state, known = (known() if known else state), None
                started = time.perf_counter()
                part = part_of(progress, done / total, (done + weights[number]) / total)
                part(0.0, operation.title)
                state, report = operation.run(state, params, part)
                on_step(full, state, report, time.perf_counter() - started)
            done += weights[number]
        if number >= finished - 1 and number + 1 < len(steps) and operation and operation.refusal is not None:
            state, known = (known() if known else state), None
            _go_on(operation, state, params)
    progress(1.0, "Done")
    return known() if known else state


def _go_on(operation: Operation, state: ScanState, params: Any) -> None:
    """Raise `NotAccepted` when nothing should follow an operation before somebody has looked."""
    why = operation.refusal(state, params) if operation.refusal is not None else ""
    if why:
        raise NotAccepted(why)
