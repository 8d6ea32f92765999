"""Letting others look or work, and opening a link to look."""

import uuid
from typing import Any

from django.http import Http404
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, permission_classes
from rest_framework.permissions import AllowAny
from rest_framework.response import Response

from accounts.visitors import remember_link
from api.asking import checked
from api.shapes.sharing import LinkView, MadeLink, NewLink, NewShare, Opened, OpenLink, ShareView, Sharing
from objects import actions
from objects.selectors import links_that_hold


@extend_schema(responses=Sharing)
@api_view(["GET"])
def sharing(request: Any, object_id: uuid.UUID) -> Response:
    """Who else sees the object; for its owner."""
    scan_object = actions.asked_to_work(object_id, request.user, as_owner=True)
    shares = scan_object.shares.select_related("person")
    links = links_that_hold().filter(scan_object=scan_object)
    return Response(Sharing({"people": shares, "links": links}).data)


@extend_schema(request=NewShare, responses={201: ShareView})
@api_view(["POST"])
def people(request: Any, object_id: uuid.UUID) -> Response:
    """Let a person look or work; again for another role."""
    body = checked(NewShare, request)
    share = actions.share_with(object_id, request.user, body["username"], body["role"])
    return Response(ShareView(share).data, status=201)


@extend_schema(responses={204: None})
@api_view(["DELETE"])
def person(request: Any, object_id: uuid.UUID, share_id: int) -> Response:
    """Take a share back."""
    actions.stop_sharing(object_id, request.user, share_id)
    return Response(status=204)


@extend_schema(request=NewLink, responses={201: MadeLink})
@api_view(["POST"])
def links(request: Any, object_id: uuid.UUID) -> Response:
    """Make a link with which anybody may look until it expires."""
    body = checked(NewLink, request)
    made, secret = actions.make_link(object_id, request.user, body["days"], body["note"])
    return Response({**LinkView(made).data, "secret": secret}, status=201)


@extend_schema(responses={204: None})
@api_view(["DELETE"])
def link(request: Any, object_id: uuid.UUID, link_id: int) -> Response:
    """Take a link back, at once for those too who opened it."""
    actions.take_back(object_id, request.user, link_id)
    return Response(status=204)


@extend_schema(request=OpenLink, responses=Opened)
@api_view(["POST"])
@permission_classes([AllowAny])
def look(request: Any) -> Response:
    """Open a link: this browser may look at its object from now on."""
    found = actions.link_of(checked(OpenLink, request)["secret"])
    if found is None:
        raise Http404("This link has expired or was taken back.")
    remember_link(request._request.session, found.pk)
    return Response(Opened({"object_id": found.scan_object_id}).data)
