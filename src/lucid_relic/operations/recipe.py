"""Recipes: named lists of operations with parameters, as data."""

from dataclasses import dataclass, replace
from importlib import resources
from typing import Any

from lucid_relic.errors import InputError, ParameterError, quoted
from lucid_relic.io.bounded_json import parse_json
from lucid_relic.operations.registry import get_operation
from lucid_relic.operations.run import OnBegin, OnStep, RecipeStep, run_steps
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

__all__ = ["BUILT_IN", "Recipe", "RecipeStep", "built_in", "parse_recipe", "run_recipe"]

MAX_BYTES, MAX_STEPS = 8 * 2**20, 500
BUILT_IN = ("print", "screen", "cad", "draft")


@dataclass(frozen=True)
class Recipe:
    """A named list of steps."""

    name: str
    title: str
    help: str
    steps: tuple[RecipeStep, ...]

    def with_parameter(self, operation: str, name: str, value: Any) -> "Recipe":
        """The recipe with one parameter set wherever `operation` occurs; checked at once."""
        if not any(s.operation == operation for s in self.steps):
            raise ParameterError(f"The recipe “{self.name}” has no operation {quoted(operation)}.")
        steps = []
        for step in self.steps:
            if step.operation == operation:
                merged = {**step.parameters, name: value}
                checked = get_operation(operation).parameters.from_dict(merged).as_dict()
                step = replace(step, parameters={k: checked[k] for k in merged})
            steps.append(step)
        return replace(self, steps=tuple(steps))


def parse_recipe(text: str | bytes, where: str) -> Recipe:
    """A recipe from JSON; every operation and parameter is checked before anything runs."""
    try:
        data = parse_json(text, where, MAX_BYTES)
    except InputError as error:
        raise ParameterError(f"{error}; a recipe is JSON in UTF-8.") from None
    entries = data.get("steps") if isinstance(data, dict) else None
    if not isinstance(entries, list) or not all(map(_is_step, entries)):
        raise ParameterError(f"{where}: a recipe is JSON with “steps”, a list of {{“operation”, “parameters”}}.")
    if len(entries) > MAX_STEPS:
        raise ParameterError(f"{where}: {len(entries)} steps; at most {MAX_STEPS} are run.")
    steps = tuple(RecipeStep(s["operation"], s.get("parameters", {})) for s in entries)
    for step in steps:
        get_operation(step.operation).parameters.from_dict(step.parameters)
    name = str(data.get("name", where))
    return Recipe(name, str(data.get("title", name)), str(data.get("help", "")), steps)


def _is_step(entry: object) -> bool:
    return (
        isinstance(entry, dict)
        and isinstance(entry.get("operation"), str)
        and isinstance(entry.get("parameters", {}), dict)
    )


def built_in(name: str) -> Recipe:
    """One of the recipes that come with the program."""
    folder = resources.files("lucid_relic.operations") / "recipes"
    return parse_recipe((folder / f"{name}.json").read_text(), name)


def run_recipe(
    state: ScanState, recipe: Recipe, progress: Progress, on_step: OnStep, on_begin: OnBegin | None = None
) -> ScanState:
    """Run all steps; `on_step(step, state after, report, seconds)` is told of each finished one."""
    return run_steps(state, recipe.steps, progress, on_step, on_begin)
