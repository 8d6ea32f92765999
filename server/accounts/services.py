"""Signing in and out."""

from django.conf import settings
from django.contrib.auth import authenticate, get_user_model, login, logout
from django.http import HttpRequest, JsonResponse

DEMO_USER = "keeper"


class WrongCredentials(Exception):
    """The name or the password is wrong, or sign-in is locked for a while."""


def sign_in(request: HttpRequest, username: str, password: str) -> None:
    """Sign a person in; raises `WrongCredentials`."""
    user = authenticate(request, username=username, password=password)
    if user is None:
        raise WrongCredentials
    login(request, user)


def locked_out(request: HttpRequest, *args: object, **kwargs: object) -> JsonResponse:
    """What axes answers after too many wrong passwords."""
    sentence = "Too many wrong passwords. Sign-in waits a quarter of an hour for this name on this computer."
    return JsonResponse({"error": sentence}, status=429)


def sign_in_demo(request: HttpRequest) -> bool:
    """Sign the demo technician in on a demo installation reached over loopback."""
    if not settings.DEMO or request.META.get("REMOTE_ADDR") not in ("127.0.0.1", "::1"):
        return False
    user = get_user_model().objects.filter(username=DEMO_USER).first()
    if user is None:
        return False
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return True


def sign_out(request: HttpRequest) -> None:
    """End the session."""
    logout(request)
