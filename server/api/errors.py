"""One map from exceptions to HTTP answers: always {"error": sentence}."""

from typing import Any

from rest_framework.exceptions import ValidationError
from rest_framework.response import Response
from rest_framework.views import exception_handler

from accounts.services import WrongCredentials
from objects.core_door import LucidRelicError
from objects.errors import Busy, NothingThere

STATUS = {WrongCredentials: 403, Busy: 409, NothingThere: 409, LucidRelicError: 400}
WRONG = "The name or the password is wrong."


def answer(error: Exception, context: dict[str, Any]) -> Response | None:
    """DRF's exception handler."""
    for kind, status in STATUS.items():
        if isinstance(error, kind):
            return Response({"error": str(error) or WRONG}, status=status)
    response = exception_handler(error, context)
    if response is not None:
        response.data = {"error": _sentence(error, response.data)}
    return response


def _sentence(error: Exception, data: Any) -> str:
    if isinstance(error, ValidationError) and isinstance(data, dict):
        return "; ".join(f"{k}: {' '.join(map(str, v if isinstance(v, list) else [v]))}" for k, v in data.items())
    if isinstance(data, dict) and "detail" in data:
        return str(data["detail"])
    return str(data)
