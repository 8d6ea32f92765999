"""Recipes that people make: each has their own."""

from typing import Any

from objects import core_door
from objects.errors import NothingThere, Refused
from objects.models import OwnRecipe, ScanObject
from objects.selectors import current_steps

MOST = 200  # of one person
GONE = "This recipe is not there any more."


def save_recipe(who: Any, title: str, help: str, steps: list[dict[str, Any]], recipe_id: Any = None) -> OwnRecipe:
    """Keep a recipe, a new one or another form of one; every step is checked before anything is kept."""
    if not steps:
        raise core_door.InputError("A recipe has a step at least.")
    if len(steps) > core_door.MAX_STEPS:
        raise core_door.InputError(f"{len(steps)} steps; a recipe has at most {core_door.MAX_STEPS}.")
    checked = core_door.checked_steps(steps)
    if recipe_id is None:
        if OwnRecipe.objects.filter(owner=who).count() >= MOST:
            raise Refused(f"You have {MOST} recipes. Delete one first.")
        return OwnRecipe.objects.create(owner=who, title=title, help=help, steps=checked)
    recipe = own_recipe(who, recipe_id)
    recipe.title, recipe.help, recipe.steps = title, help, checked
    recipe.save()
    return recipe


def own_recipe(who: Any, recipe_id: Any) -> OwnRecipe:
    """A recipe of a person; raises `NothingThere`."""
    found = OwnRecipe.objects.filter(owner=who, pk=recipe_id).first()
    if found is None:
        raise NothingThere(GONE)
    return found


def delete_recipe(who: Any, recipe_id: Any) -> None:
    """Delete a recipe of a person; raises `NothingThere`."""
    own_recipe(who, recipe_id).delete()


def recipe_of(scan_object: ScanObject, with_marks: bool) -> list[dict[str, Any]]:
    """What was done to an object, on the branch that is worked on, as steps of a recipe."""
    known = {o["name"] for o in core_door.operations()}
    done, _ = current_steps(scan_object)
    steps = [{"operation": s.operation, "parameters": s.parameters} for s in done if s.operation in known]
    return core_door.as_recipe(steps, with_marks)
