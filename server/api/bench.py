"""One object: all that its bench shows, and its history."""

import uuid
from collections.abc import Callable
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api import present
from api.asking import asked_object, checked
from api.shapes.bench import Bench
from api.shapes.shelf import NewObject
from objects import actions
from objects.models import Step


@extend_schema(methods=["GET"], responses=Bench)
@extend_schema(methods=["PATCH"], request=NewObject, responses=Bench)
@extend_schema(methods=["DELETE"], responses={204: None})
@api_view(["GET", "PATCH", "DELETE"])
def bench(request: Any, object_id: uuid.UUID) -> Response:
    """Everything the bench shows; rename; delete."""
    if request.method == "DELETE":
        actions.delete_object(object_id, request.user)
        return Response(status=204)
    if request.method == "PATCH":
        body = checked(NewObject, request)
        actions.describe_object(object_id, request.user, body["title"], body.get("notes"))
    return _shown(request, object_id)


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


def _shown(request: Any, object_id: uuid.UUID) -> Response:
    return Response(Bench(present.bench(asked_object(request, object_id), request.user)).data)
