"""What every view asks of a request."""

import uuid
from typing import Any

from django.shortcuts import get_object_or_404

from objects.models import ScanObject
from objects.selectors import objects_of


def checked(shape: type[Any], request: Any) -> dict[str, Any]:
    """The body of a request, checked by its shape."""
    body = shape(data=request.data)
    body.is_valid(raise_exception=True)
    return body.validated_data


def asked_object(request: Any, object_id: uuid.UUID) -> ScanObject:
    """The object that is asked for, if it is the person's."""
    return get_object_or_404(objects_of(request.user), pk=object_id)
