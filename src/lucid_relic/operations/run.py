"""The one place that decides how a list of operations is run: in order, with progress, each step told when it ends."""

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol

from lucid_relic.errors import NotAccepted
from lucid_relic.operations.parameters import Parameters
from lucid_relic.operations.registry import Operation, Report, get_operation
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState


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


def run_steps(
    state: ScanState,
    steps: Sequence[RecipeStep],
    progress: Progress,
    on_step: OnStep,
    on_begin: OnBegin | None = None,
    finished: int = 0,
) -> ScanState:
    """Run steps from number `finished` on; progress counts all of them, each by its operation's weight.

    Raises `NotAccepted` when a step that others follow refuses its own result: that step is told as finished, and the
    rest is not run.
    """
    operations = [get_operation(step.operation) for step in steps]
    total = sum(o.weight for o in operations)
    done = sum(o.weight for o in operations[:finished])
    for number, (step, operation) in enumerate(zip(steps, operations, strict=True)):
        params = operation.parameters.from_dict(step.parameters)
        if number < finished:
            if number == finished - 1 and number + 1 < len(steps):
                _go_on(operation, state, params)
            continue
        if on_begin is not None:
            on_begin(number + 1, len(steps), operation.title)
        started = time.perf_counter()
        part = part_of(progress, done / total, (done + operation.weight) / total)
        part(0.0, operation.title)
        state, report = operation.run(state, params, part)
        done += operation.weight
        on_step(replace(step, parameters=params.as_dict()), state, report, time.perf_counter() - started)
        if number + 1 < len(steps):
            _go_on(operation, state, params)
    progress(1.0, "Done")
    return state


def _go_on(operation: Operation, state: ScanState, params: Parameters) -> None:
    """Raise `NotAccepted` when nothing should follow an operation before somebody has looked."""
    why = operation.refusal(state, params) if operation.refusal is not None else ""
    if why:
        raise NotAccepted(why)
