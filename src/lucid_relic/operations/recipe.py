"""Recipes: named lists of operations with parameters, as data."""

import json
from dataclasses import dataclass, replace
from importlib import resources
from typing import Any

from lucid_relic.errors import ParameterError
from lucid_relic.operations.registry import get_operation
from lucid_relic.operations.run import OnBegin, OnStep, RecipeStep, run_steps
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

__all__ = ["BUILT_IN", "Recipe", "RecipeStep", "built_in", "parse_recipe", "run_recipe"]

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
            raise ParameterError(f"The recipe “{self.name}” has no operation “{operation}”.")
        steps = []
        for step in self.steps:
            if step.operation == operation:
                merged = {**step.parameters, name: value}
                checked = get_operation(operation).parameters.from_dict(merged).as_dict()
                step = replace(step, parameters={k: checked[k] for k in merged})
            steps.append(step)
        return replace(self, steps=tuple(steps))


def parse_recipe(text: str, where: str) -> Recipe:
    """A recipe from JSON; every operation and parameter is checked before anything runs."""
    try:
        data = json.loads(text)
        steps = tuple(RecipeStep(s["operation"], dict(s.get("parameters", {}))) for s in data["steps"])
        name = str(data.get("name", where))
    except (ValueError, KeyError, TypeError, AttributeError):
        raise ParameterError(
            f"{where}: a recipe is JSON with “steps”, a list of {{“operation”, “parameters”}}."
        ) from None
    for step in steps:
        get_operation(step.operation).parameters.from_dict(step.parameters)
    return Recipe(name, str(data.get("title", name)), str(data.get("help", "")), steps)


def built_in(name: str) -> Recipe:
    """One of the recipes that come with the program."""
    folder = resources.files("lucid_relic.operations") / "recipes"
    return parse_recipe((folder / f"{name}.json").read_text(), name)


def run_recipe(
    state: ScanState, recipe: Recipe, progress: Progress, on_step: OnStep, on_begin: OnBegin | None = None
) -> ScanState:
    """Run all steps; `on_step(step, state after, report, seconds)` is told of each finished one."""
    return run_steps(state, recipe.steps, progress, on_step, on_begin)
