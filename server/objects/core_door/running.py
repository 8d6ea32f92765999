"""Running operations."""

from collections.abc import Callable, Sequence
from typing import Any

from lucid_relic.io.results import finite
from lucid_relic.operations import run
from lucid_relic.operations.run import OnBegin, Recall, RecipeStep
from lucid_relic.progress import Progress
from lucid_relic.threads import make_loops_ready
from lucid_relic.types import ScanState

__all__ = ["expected_seconds", "make_loops_ready", "placing_steps", "run_steps"]
OnStep = Callable[[int, ScanState, dict[str, Any], float], None]


def run_steps(
    state: ScanState, steps: list[dict[str, Any]], progress: Progress, on_step: OnStep, on_begin: OnBegin,
    finished: int, recall: Recall, seconds: Sequence[float],
) -> ScanState:  # fmt: skip
    """Run steps (operation, parameters) from number `finished` on; `on_step(number, state, report, seconds)`.

    `recall(number, step)` is asked first: see the core's `Recall`; seconds is what each of them takes.
    """
    at = finished

    def begun(number: int, total: int, title: str) -> None:
        nonlocal at
        at = number - 1
        on_begin(number, total, title)

    def done(step: RecipeStep, after: ScanState, report: Any, seconds: float) -> None:
        on_step(at, after, finite(dict(report)), seconds)

    planned = [RecipeStep(s["operation"], s["parameters"]) for s in steps]
    return run.run_steps(state, planned, progress, done, begun, finished, recall, seconds)


def expected_seconds(steps: Sequence[dict[str, Any]], known: Sequence[float | None]) -> list[float]:
    """What steps will take, where of some it is known what they took lately."""
    return run.expected_seconds([s["operation"] for s in steps], known)


def placing_steps(titles: list[str], alone: bool) -> list[tuple[str, dict[str, Any]]]:
    """Operations with parameters that place passes whose frames are not: frames, stand cut, and the fit unless one is alone."""
    steps: list[tuple[str, dict[str, Any]]] = [
        ("place_frames", {"passes": titles}),
        ("stand_cut", {"passes": titles}),
    ]
    return steps if alone else [*steps, ("find_fit", {"allow_unplaced": True})]
