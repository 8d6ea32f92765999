"""Who stands behind a connection, asked anew of its session."""

import io
from importlib import import_module
from typing import Any

from django.conf import settings
from django.contrib.auth import get_user
from django.core.handlers.asgi import ASGIRequest
from django.db import connection

from accounts.visitors import visitor_of


def headed(scope: dict[str, Any]) -> Any:
    """A request of the headers of a connection alone, without its body."""
    headers = [(k, v) for k, v in scope["headers"] if k not in (b"content-type", b"content-length")]
    return ASGIRequest({"method": "GET", **scope, "type": "http", "headers": headers}, io.BytesIO())


def person_behind(scope: dict[str, Any]) -> Any:
    """The person or visitor of a connection's session as it stands now, or None."""
    request = headed(scope)
    key = request.COOKIES.get(settings.SESSION_COOKIE_NAME)
    try:
        request.session = import_module(settings.SESSION_ENGINE).SessionStore(key)
        user = get_user(request)
        return user if user.is_authenticated and user.is_active else visitor_of(request.session)
    finally:
        connection.close()
