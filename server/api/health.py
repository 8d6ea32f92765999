"""Whether the installation works, for whoever watches over it."""

from typing import Any

from django.db import connection
from drf_spectacular.utils import extend_schema
from rest_framework import serializers as s
from rest_framework.decorators import api_view, authentication_classes, permission_classes
from rest_framework.permissions import AllowAny
from rest_framework.response import Response

from jobs import slots
from live.making import answers
from objects import room


class Health(s.Serializer):
    database = s.BooleanField()
    worker = s.BooleanField()
    live = s.BooleanField()
    room = s.BooleanField()


@extend_schema(responses={200: Health, 503: Health})
@api_view(["GET"])
@authentication_classes([])
@permission_classes([AllowAny])
def health(request: Any) -> Response:
    """200 when database, worker, live service and room are well, 503 with what is not."""
    found = {"database": _database(), "worker": slots.is_taken("worker-0"), "live": answers(), "room": room.is_enough()}
    return Response(found, status=200 if all(found.values()) else 503)


def _database() -> bool:
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
    except Exception:
        return False
    return True
