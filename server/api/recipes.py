"""Recipes that people make, and recipes run on many objects."""

import uuid
from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema, inline_serializer
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api.asking import asked_object, checked
from api.shapes.catalogue import DrawnStep, JudgedStep, NewRecipe, RecipeRun, RecipeView, RefusedObject, StepsToJudge
from api.shapes.jobs import JobView
from jobs import services as jobs
from objects import actions, core_door
from objects.errors import NotAllowed
from objects.models import OwnRecipe


def _shown(recipe: OwnRecipe) -> dict[str, Any]:
    return {"name": str(recipe.pk), "title": recipe.title, "help": recipe.help, "steps": recipe.steps, "own": True}


def _worker(request: Any) -> Any:
    if request.user.pk is None:
        raise NotAllowed("A visitor looks; recipes are for those who work here.")
    return request.user


@extend_schema(methods=["GET"], responses=RecipeView(many=True))
@extend_schema(methods=["POST"], request=NewRecipe, responses={201: RecipeView})
@api_view(["GET", "POST"])
def recipes(request: Any) -> Response:
    """The recipes that ship, then the person's own; a new one."""
    if request.method == "POST":
        who, body = _worker(request), checked(NewRecipe, request)
        made = actions.save_recipe(who, body["title"], body.get("help", ""), body["steps"])
        return Response(_shown(made), status=201)
    own = OwnRecipe.objects.filter(owner=request.user) if request.user.pk else []
    return Response([*core_door.recipes(), *map(_shown, own)])


@extend_schema(methods=["PUT"], request=NewRecipe, responses=RecipeView)
@extend_schema(methods=["DELETE"], responses={204: None})
@api_view(["PUT", "DELETE"])
def recipe(request: Any, recipe_id: uuid.UUID) -> Response:
    """Change a recipe of one's own; delete it."""
    who = _worker(request)
    if request.method == "DELETE":
        actions.delete_recipe(who, recipe_id)
        return Response(status=204)
    body = checked(NewRecipe, request)
    return Response(_shown(actions.save_recipe(who, body["title"], body.get("help", ""), body["steps"], recipe_id)))


@extend_schema(request=StepsToJudge, responses=JudgedStep(many=True))
@api_view(["POST"])
def judged(request: Any) -> Response:
    """What is wrong with the steps of a recipe that is being edited, and what to mind."""
    return Response(core_door.judged_steps(checked(StepsToJudge, request)["steps"]))


MARKS = OpenApiParameter("marks", OpenApiTypes.BOOL, description="Keep what a hand marked.")


@extend_schema(parameters=[MARKS], responses=DrawnStep(many=True))
@api_view(["GET"])
def of_object(request: Any, object_id: uuid.UUID) -> Response:
    """What was done to an object as steps of a recipe."""
    kept = request.query_params.get("marks") in ("1", "true")
    return Response(actions.recipe_of(asked_object(request, object_id), kept))


MANY = inline_serializer("RecipeRuns", {"jobs": JobView(many=True), "refused": RefusedObject(many=True)})


@extend_schema(request=RecipeRun, responses={201: MANY})
@api_view(["POST"])
def runs(request: Any) -> Response:
    """Run a recipe on many objects, one behind the other or side by side; those that cannot are named with why."""
    who, body = _worker(request), checked(RecipeRun, request)
    started, refused = jobs.start_batch(body["objects"], who, body["recipe"])
    return Response({"jobs": JobView(started, many=True).data, "refused": refused}, status=201)
