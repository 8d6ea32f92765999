"""Letting others look or work: shares for people with an account, links for anybody."""

import hashlib
import secrets
from datetime import timedelta
from typing import Any

from django.contrib.auth import get_user_model
from django.http import Http404
from django.utils import timezone

from objects.actions.guard import acting
from objects.errors import Refused
from objects.models import LookLink, Share
from objects.selectors import links_that_hold

TOKEN_BYTES = 24


def share_with(object_id: Any, who: Any, username: str, role: str) -> Share:
    """Let a person look at an object or work on it; a second time changes what they may."""
    with acting(object_id, who, while_busy=True, as_owner=True) as scan_object:
        person = get_user_model().objects.filter(username=username, is_active=True).first()
        if person is None:
            raise Refused(f"There is nobody here with the name “{username}”.")
        if person.pk == scan_object.owner_id:
            raise Refused("The object is yours already.")
        return Share.objects.update_or_create(scan_object=scan_object, person=person, defaults={"role": role})[0]


def stop_sharing(object_id: Any, who: Any, share_id: int) -> None:
    """Take a share back."""
    with acting(object_id, who, while_busy=True, as_owner=True) as scan_object:
        if not scan_object.shares.filter(pk=share_id).delete()[0]:
            raise Http404


def make_link(object_id: Any, who: Any, days: int, note: str) -> tuple[LookLink, str]:
    """A link to look and its secret, which is told this once."""
    secret = secrets.token_urlsafe(TOKEN_BYTES)
    with acting(object_id, who, while_busy=True, as_owner=True) as scan_object:
        expires = timezone.now() + timedelta(days=days)
        return LookLink.objects.create(
            scan_object=scan_object, digest=_digest(secret), expires=expires, note=note
        ), secret


def take_back(object_id: Any, who: Any, link_id: int) -> None:
    """End a link at once, for those too who opened it already."""
    with acting(object_id, who, while_busy=True, as_owner=True) as scan_object:
        if not scan_object.links.filter(pk=link_id, taken_back=False).update(taken_back=True):
            raise Http404


def link_of(secret: str) -> LookLink | None:
    """The link of a secret, as long as it holds."""
    return links_that_hold().filter(digest=_digest(secret)).first()


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()
