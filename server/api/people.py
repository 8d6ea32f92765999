"""Who asks: a person who is signed in, or a visitor with a link; and that a change comes from our own page."""

from typing import Any

from asgiref.sync import sync_to_async
from django.http import HttpRequest
from django.middleware.csrf import CsrfViewMiddleware
from rest_framework.authentication import SessionAuthentication

from accounts.sessions import headed, person_behind
from accounts.visitors import visitor_of


class Sessions(SessionAuthentication):
    """As REST framework's, but nobody, signed in or not, changes anything without the page's token."""

    def authenticate(self, request: Any) -> tuple[Any, None] | None:
        """The person or visitor of the session."""
        self.enforce_csrf(request)
        user = getattr(request._request, "user", None)
        if user is not None and user.is_authenticated:
            return user, None
        visitor = visitor_of(request._request.session)
        return (visitor, None) if visitor else None


async def seen_by(request: HttpRequest) -> Any:
    """The person or visitor who asks outside of REST framework, or None."""
    user = await request.auser()
    return user if user.is_authenticated else await sync_to_async(visitor_of)(request.session)


async def stands_for(scope: dict[str, Any], person: Any) -> bool:
    """Whether the session that a connection began with still stands for the same person, or for a visitor."""
    now = await sync_to_async(person_behind)(scope)
    return now is not None and now.pk == person.pk


async def may_send(scope: dict[str, Any]) -> bool:
    """Whether whoever sends a body is signed in and sends it from our own page; the body is not touched."""
    request = headed(scope)
    check = CsrfViewMiddleware(lambda r: None)
    check.process_request(request)
    if check.process_view(request, lambda r: None, (), {}) is not None:
        return False
    person = await sync_to_async(person_behind)(scope)
    return person is not None and person.pk is not None
