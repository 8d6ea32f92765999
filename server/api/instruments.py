"""The instruments: how they stand, their checks, and who drives them."""

import uuid
from typing import Any

from django.http import FileResponse, Http404
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from accounts.visitors import Visitor
from api.asking import checked
from api.shapes.instruments import Act, CheckView, NamedSetUpView, NewCheck, NewSetUp, StandView
from instruments import checks as bench_checks
from instruments import desk
from instruments.models import Check
from objects import core_door
from objects.errors import NotAllowed

ACTS = ("connect", "disconnect", "provoke", "ask", "hand_over", "keep")
NOT_FOR_VISITORS = "The instruments are for people who work here."


@extend_schema(responses=StandView(many=True))
@api_view(["GET"])
def instruments(request: Any) -> Response:
    """Every instrument with how it stands, the history of its checks, and what is due."""
    return Response(_shown(_worker(request)))


@extend_schema(request=Act, responses=StandView(many=True))
@api_view(["POST"])
def act(request: Any, name: str, act: str) -> Response:
    """Connect an instrument or let it go, provoke a fault, ask to drive it, hand it over or keep it."""
    who = _worker(request)
    if act in ("connect", "disconnect"):
        desk.connect(name, who, act == "connect")
    elif act == "provoke":
        desk.provoke(name, who, checked(Act, request).get("fault", ""))
    elif act == "ask":
        desk.ask(name, who)
    else:
        desk.answer(name, who, act == "hand_over")
    return Response(_shown(who))


@extend_schema(request=NewCheck, responses={201: CheckView})
@api_view(["POST"])
def checks(request: Any, name: str) -> Response:
    """Begin a check; it is run at the desk at once."""
    who = _worker(request)
    return Response(CheckView(bench_checks.begin(name, checked(NewCheck, request)["kind"], who)).data, status=201)


@extend_schema(methods=["GET"], request=None, responses=CheckView)
@extend_schema(methods=["DELETE"], request=None, responses={204: None})
@api_view(["GET", "DELETE"])
def check(request: Any, check_id: uuid.UUID) -> Response:
    """A check as it is just now; or stop it."""
    _worker(request)
    found = get_object_or_404(Check, pk=check_id)
    if request.method == "DELETE":
        bench_checks.stop(found)
        return Response(status=204)
    return Response(CheckView(found).data)


@extend_schema(responses={(200, "image/jpeg"): OpenApiTypes.BINARY})
@api_view(["GET"])
def check_picture(request: Any, check_id: uuid.UUID) -> Any:
    """The newest picture of a check."""
    _worker(request)
    path = bench_checks.picture_path(get_object_or_404(Check, pk=check_id))
    if not path.exists():
        raise Http404
    return FileResponse(path.open("rb"), content_type="image/jpeg")


@extend_schema(methods=["GET"], request=None, responses=NamedSetUpView(many=True))
@extend_schema(methods=["POST"], request=NewSetUp, responses={201: NamedSetUpView})
@api_view(["GET", "POST"])
def set_ups(request: Any) -> Response:
    """The person's named set-ups; keep one more, or another under a name."""
    who = _worker(request)
    if request.method == "POST":
        asked = checked(NewSetUp, request)
        kept = desk.keep_set_up(who, asked["name"], dict(asked["set_up"]))
        return Response(NamedSetUpView(kept).data, status=201)
    return Response(NamedSetUpView(who.set_ups.all(), many=True).data)


@extend_schema(request=None, responses={204: None})
@api_view(["DELETE"])
def set_up(request: Any, set_up_id: int) -> Response:
    """Forget a named set-up."""
    get_object_or_404(_worker(request).set_ups, pk=set_up_id).delete()
    return Response(status=204)


def _worker(request: Any) -> Any:
    if isinstance(request.user, Visitor):
        raise NotAllowed(NOT_FOR_VISITORS)
    return request.user


def _shown(who: Any) -> Any:
    sheets = {i["name"]: i for i in core_door.instruments()}
    rows = []
    for name, stand in desk.stands().items():
        history = bench_checks.history(name)
        driver = desk.driver_of(stand)
        rows.append(
            {
                **sheets[name],
                "connected": stand.connected,
                "fault": stand.fault,
                "driver": driver.username if driver else "",
                "driven_by_me": driver == who,
                "asked_by": stand.asked_by.username if stand.asked_by else "",
                "kinds": [{"name": k, "title": core_door.CHECK_NAMES[k]} for k in core_door.checks_of(name)],
                "checks": history,
                "due": bench_checks.due(name, history),
                "faults": [{"name": k, "title": words} for k, words in core_door.FAULTS.items()],
            }
        )
    return StandView(rows, many=True).data
