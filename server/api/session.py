"""Who is signed in."""

from typing import Any

from django.conf import settings
from django.middleware.csrf import get_token
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, permission_classes
from rest_framework.permissions import AllowAny
from rest_framework.response import Response

from accounts import services as accounts
from accounts.visitors import visitor_of
from api.asking import checked
from api.shapes.people import Session, SignIn


@extend_schema(methods=["GET"], responses=Session)
@extend_schema(methods=["POST"], request=SignIn, responses=Session)
@extend_schema(methods=["DELETE"], responses={200: Session})
@api_view(["GET", "POST", "DELETE"])
@permission_classes([AllowAny])
def session(request: Any) -> Response:
    """Who is signed in; sign in; sign out."""
    if request.method == "POST":
        body = checked(SignIn, request)
        accounts.sign_in(request._request, body["username"], body["password"])
    elif request.method == "DELETE":
        accounts.sign_out(request._request)
    elif not request.user.is_authenticated or request.user.pk is None:
        accounts.sign_in_demo(request._request)
    get_token(request._request)
    user = request._request.user
    is_person = user.is_authenticated and user.pk is not None
    visits = not is_person and visitor_of(request._request.session) is not None
    return Response(
        {"signed_in": is_person, "username": user.username, "visitor": visits, "demo": settings.DEMO,
         "administrator": user.is_staff}
    )  # fmt: skip
