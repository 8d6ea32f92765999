"""Recipes: those that ship, what was done to an object as one, and those that people write."""

from typing import Any

from lucid_relic.operations.own_recipes import drawn, judge
from lucid_relic.operations.recipe import BUILT_IN, MAX_STEPS, RecipeStep, built_in
from objects.core_door.catalogue import check_operation

__all__ = ["MAX_STEPS", "as_recipe", "checked_steps", "judged_steps", "recipes"]


def recipes() -> list[dict[str, Any]]:
    """The built-in recipes."""
    out = []
    for name in BUILT_IN:
        recipe = built_in(name)
        steps = [{"operation": s.operation, "parameters": s.parameters} for s in recipe.steps]
        out.append({"name": name, "title": recipe.title, "help": recipe.help, "steps": steps, "own": False})
    return out


def as_recipe(steps: list[dict[str, Any]], with_marks: bool) -> list[dict[str, Any]]:
    """What was done to an object as steps of a recipe: see `drawn`."""
    found = drawn([RecipeStep(s["operation"], s["parameters"]) for s in steps], with_marks)
    return [{"operation": s.operation, "parameters": s.parameters, "marks": s.marks, "why": s.why} for s in found]


def judged_steps(steps: list[dict[str, Any]]) -> list[dict[str, str]]:
    """Of each step of a recipe what is wrong with it, and what to mind."""
    found = judge([RecipeStep(s["operation"], s.get("parameters", {})) for s in steps])
    return [{"fault": j.fault, "note": j.note} for j in found]


def checked_steps(steps: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Steps of a recipe with just the numbers that it names, checked; raises `ParameterError`."""
    out = []
    for step in steps:
        given = step.get("parameters", {})
        full = check_operation(step["operation"], given)["parameters"]
        out.append({"operation": step["operation"], "parameters": {name: full[name] for name in given}})
    return out
