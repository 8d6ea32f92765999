"""One object: all that its bench shows, and its history."""

import uuid
from collections.abc import Callable
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api import present
from api.asking import asked_object, checked
from api.shapes.bench import Bench, BranchName, FindingToAccept, GoTo
from api.shapes.shelf import NewlyMade, ObjectChange
from jobs import waiting
from objects import actions, core_door
from objects.models import Step
from objects.selectors import snapshots_of

AT = OpenApiParameter("at", OpenApiTypes.UUID, description="A snapshot: the object as it was then.")


@extend_schema(methods=["GET"], parameters=[AT], responses=Bench)
@extend_schema(methods=["PATCH"], request=ObjectChange, responses=Bench)
@extend_schema(methods=["DELETE"], responses={204: None})
@api_view(["GET", "PATCH", "DELETE"])
def bench(request: Any, object_id: uuid.UUID) -> Response:
    """Everything the bench shows; rename, tag, archive; throw away."""
    if request.method == "DELETE":
        actions.throw_away_object(object_id, request.user)
        return Response(status=204)
    if request.method == "PATCH":
        actions.change_object(object_id, request.user, checked(ObjectChange, request))
    elif request.user.pk is not None:
        waiting.let_first(object_id)
    at = _asked_at(request)
    if at is not None:
        get_object_or_404(snapshots_of(request.user), pk=at, scan_object=object_id)
    return _shown(request, object_id, at)


@extend_schema(request=None, responses=Bench)
@api_view(["POST"])
def undo(request: Any, object_id: uuid.UUID) -> Response:
    """Undo the last step."""
    return _moved(request, object_id, actions.undo)


@extend_schema(request=None, responses=Bench)
@api_view(["POST"])
def redo(request: Any, object_id: uuid.UUID) -> Response:
    """Redo the step that was undone last."""
    return _moved(request, object_id, actions.redo)


def _moved(request: Any, object_id: uuid.UUID, move: Callable[[Any, Any], Step]) -> Response:
    move(object_id, request.user)
    return _shown(request, object_id)


@extend_schema(request=None, responses={201: NewlyMade})
@api_view(["POST"])
def duplicate(request: Any, object_id: uuid.UUID) -> Response:
    """An object of one's own that is like this one, with its passes, steps and branches."""
    made = actions.duplicate_object(object_id, request.user)
    return Response({"id": made.pk, "title": made.title}, status=201)


@extend_schema(request=None, responses=NewlyMade)
@api_view(["POST"])
def back(request: Any, object_id: uuid.UUID) -> Response:
    """Take an object back that was thrown away."""
    taken = actions.take_object_back(object_id, request.user)
    return Response({"id": taken.pk, "title": taken.title})


@extend_schema(request=GoTo, responses=Bench)
@api_view(["POST"])
def head(request: Any, object_id: uuid.UUID) -> Response:
    """Go on from an earlier state, or from the tip of a branch."""
    actions.asked_to_work(object_id, request.user)
    body = checked(GoTo, request)
    if "branch" in body:
        actions.go_to_branch(object_id, request.user, body["branch"])
    elif "snapshot" in body:
        actions.go_to(object_id, request.user, body["snapshot"])
    else:
        raise core_door.InputError("Name a snapshot or a branch to go on from.")
    return _shown(request, object_id)


@extend_schema(methods=["PATCH"], request=BranchName, responses=Bench)
@extend_schema(methods=["DELETE"], responses={200: Bench})
@api_view(["PATCH", "DELETE"])
def branch(request: Any, object_id: uuid.UUID, branch_id: int) -> Response:
    """Name a branch; throw one away."""
    actions.asked_to_work(object_id, request.user)
    if request.method == "DELETE":
        actions.throw_away_branch(object_id, request.user, branch_id)
    else:
        actions.name_branch(object_id, request.user, branch_id, checked(BranchName, request)["name"])
    return _shown(request, object_id)


@extend_schema(request=FindingToAccept, responses=Bench)
@api_view(["POST"])
def accepted(request: Any, object_id: uuid.UUID) -> Response:
    """Live with a finding, with a word why."""
    actions.asked_to_work(object_id, request.user)
    body = checked(FindingToAccept, request)
    actions.accept_finding(object_id, request.user, body["name"], body["word"])
    return _shown(request, object_id)


@extend_schema(responses={200: Bench})
@api_view(["DELETE"])
def minded(request: Any, object_id: uuid.UUID, accepted_id: int) -> Response:
    """Take it back that a finding was accepted."""
    actions.mind_finding(object_id, request.user, accepted_id)
    return _shown(request, object_id)


def _shown(request: Any, object_id: uuid.UUID, at: uuid.UUID | None = None) -> Response:
    return Response(Bench(present.bench(asked_object(request, object_id), request.user, at)).data)


def _asked_at(request: Any) -> uuid.UUID | None:
    """The snapshot that is asked for; raises `InputError` for what is none."""
    asked = request.query_params.get("at")
    try:
        return uuid.UUID(asked) if asked else None
    except ValueError:
        raise core_door.InputError("This is not the name of a state of the object.") from None
