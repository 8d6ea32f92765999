"""One map from exceptions to HTTP answers: always {"error": sentence}."""

import logging
from typing import Any

from django.db import Error, IntegrityError, OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from rest_framework.exceptions import ValidationError
from rest_framework.response import Response
from rest_framework.views import exception_handler, set_rollback

from accounts.services import WrongCredentials
from live.making import NotNow
from objects import room
from objects.core_door import LucidRelicError
from objects.errors import Busy, NoRoom, NotAllowed, NothingThere, OverQuota, Refused, Superseded, WrongPlace

STATUS = {
    WrongCredentials: 403, NotAllowed: 403, Busy: 409, NothingThere: 409, Superseded: 409, WrongPlace: 409, LucidRelicError: 400,
    Refused: 400, NotNow: 503, NoRoom: 507, OverQuota: 507,
}  # fmt: skip
WRONG = "The name or the password is wrong."
UNEXPECTED = "Something went wrong here that should not. Nothing was changed; the server’s log has the details."
CHANGED = "The object was changed or deleted in the meantime. Load it anew."
BUSY_DATABASE = "The server has too much to do just now. Try again in a moment."
log = logging.getLogger(__name__)


def status_of(error: BaseException) -> int | None:
    """HTTP status of an error that carries its own sentence, or None."""
    return next((status for kind, status in STATUS.items() if isinstance(error, kind)), None)


def answer(error: Exception, context: dict[str, Any]) -> Response:
    """DRF's exception handler."""
    status = status_of(error)
    if status is not None:
        set_rollback()
        return Response({"error": str(error) or WRONG}, status=status)
    response = exception_handler(error, context)
    if response is not None:
        response.data = {"error": _sentence(error, response.data)}
        return response
    set_rollback()
    status, sentence = _unforeseen(error)
    return Response({"error": sentence}, status=status)


def _unforeseen(error: Exception) -> tuple[int, str]:
    if isinstance(error, (OSError, Error)) and room.is_full(error):
        room.give_up_ballast()
        return 507, room.full_sentence()
    if isinstance(error, IntegrityError):
        return 409, CHANGED
    if isinstance(error, OperationalError):
        log.error("The database did not answer: %s", error)
        return 503, BUSY_DATABASE
    log.exception("An unforeseen error", exc_info=error)
    return 500, UNEXPECTED


def _sentence(error: Exception, data: Any) -> str:
    if isinstance(error, ValidationError) and isinstance(data, dict):
        return "; ".join(f"{k}: {_joined(v)}" for k, v in data.items())
    if isinstance(data, dict) and "detail" in data:
        return str(data["detail"])
    return _joined(data)


def _joined(value: Any) -> str:
    """All the words of DRF's nested lists and dictionaries of errors."""
    if isinstance(value, dict):
        return "; ".join(f"{k}: {_joined(v)}" for k, v in value.items())
    return " ".join(map(_joined, value)) if isinstance(value, list) else str(value)


class JsonEverywhere:
    """Middleware: what Django answers by itself below /api/ is {"error": sentence} too."""

    SENTENCES = {
        400: "This request cannot be read.",
        403: "This request did not come from a page of this application. Load the page anew and try again.",
        404: "There is no such thing here.",
        413: "This request is too large.",
        500: UNEXPECTED,
    }

    def __init__(self, get_response: Any) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        is_page = response.headers.get("Content-Type", "").startswith("text/html")
        if not (request.path.startswith("/api/") and is_page and response.status_code >= 400):
            return response
        sentence = self.SENTENCES.get(response.status_code, UNEXPECTED)
        return JsonResponse({"error": sentence}, status=response.status_code)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """What no view caught, the full disk of the session's own row included."""
        if not request.path.startswith("/api/"):
            return None
        status, sentence = _unforeseen(error)
        return JsonResponse({"error": sentence}, status=status)


def nothing_here(request: HttpRequest) -> HttpResponse:
    """An address below /api/ that there is not."""
    return JsonResponse({"error": JsonEverywhere.SENTENCES[404]}, status=404)
