"""All objects of a person."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api import present
from api.asking import checked
from api.shapes.shelf import NewObject, ShelfItem
from objects import actions
from objects.errors import NotAllowed
from objects.selectors import OWNER


@extend_schema(methods=["GET"], responses=ShelfItem(many=True))
@extend_schema(methods=["POST"], request=NewObject, responses={201: ShelfItem})
@api_view(["GET", "POST"])
def shelf(request: Any) -> Response:
    """All objects of the person; a new one."""
    if request.method == "POST":
        if request.user.pk is None:
            raise NotAllowed("A visitor looks; to make objects, sign in.")
        body = checked(NewObject, request)
        created = actions.create_object(request.user, body["title"], body.get("notes", ""))
        return Response(ShelfItem(present.shelf_item(created, OWNER, None, None, set())).data, status=201)
    # As `ShelfItem` has it: a shelf of hundreds is not passed through a serializer once more.
    return Response(present.shelf(request.user))
