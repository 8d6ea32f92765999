"""Running operations."""

from collections.abc import Callable
from typing import Any

from lucid_relic.io.results import finite
from lucid_relic.operations.run import OnBegin, RecipeStep
from lucid_relic.operations.run import run_steps as run_in_order
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

OnStep = Callable[[int, ScanState, dict[str, Any], float], None]


def run_steps(
    state: ScanState, steps: list[dict[str, Any]], progress: Progress, on_step: OnStep, on_begin: OnBegin, finished: int
) -> ScanState:
    """Run steps (operation, parameters) from number `finished` on; `on_step(number, state, report, seconds)`."""
    number = finished

    def done(step: RecipeStep, after: ScanState, report: Any, seconds: float) -> None:
        nonlocal number
        on_step(number, after, finite(dict(report)), seconds)
        number += 1

    planned = [RecipeStep(s["operation"], s["parameters"]) for s in steps]
    return run_in_order(state, planned, progress, done, on_begin, finished)


def placing_steps(titles: list[str], alone: bool) -> list[tuple[str, dict[str, Any]]]:
    """Operations with parameters that place passes whose frames are not: frames, stand cut, and the fit unless one is alone."""
    steps: list[tuple[str, dict[str, Any]]] = [
        ("place_frames", {"passes": titles}),
        ("stand_cut", {"passes": titles}),
    ]
    return steps if alone else [*steps, ("find_fit", {"allow_unplaced": True})]
