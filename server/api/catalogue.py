"""What there is to run."""

from functools import cache
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api.shapes.catalogue import Catalogue
from objects import core_door


@extend_schema(responses=Catalogue)
@api_view(["GET"])
def catalogue(request: Any) -> Response:
    """Operations, recipes, demo models and formats."""
    return Response(_listed())


@cache
def _listed() -> dict[str, Any]:
    """It stays the same as long as the program runs."""
    models = [{"name": name, "title": demo.title} for name, demo in core_door.DEMO_OBJECTS.items()]
    listed = {
        "operations": core_door.operations(),
        "recipes": core_door.recipes(),
        "models": models,
        "formats": core_door.formats(),
        "instruments": core_door.instruments(),
        "readable": core_door.readable_suffixes(),
    }
    return dict(Catalogue(listed).data)
