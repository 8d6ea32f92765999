"""How much room a person's objects may take."""

from typing import Any

from django.conf import settings
from django.db.models import Sum

from objects.errors import OverQuota
from objects.models import ScanObject

GB = 10**9


def allowed_bytes(person: Any) -> int | None:
    """Room that a person's objects may take together; None is no limit."""
    own = getattr(person, "allowance", None)
    gigabytes = own.gigabytes if own else settings.QUOTA_GB
    return round(gigabytes * GB) if gigabytes else None


def taken_bytes(person: Any) -> int:
    """Room that a person's objects took when they were last measured."""
    return ScanObject.objects.filter(owner=person).aggregate(sum=Sum("room_bytes"))["sum"] or 0


def need(person: Any, extra: int = 0) -> None:
    """Raise `OverQuota` when a person's objects take, or with `extra` would take, all they may."""
    allowed = allowed_bytes(person)
    taken = taken_bytes(person) + extra
    if allowed is not None and taken > allowed:
        raise OverQuota(
            f"The objects of {person.username} would take {taken / GB:.1f} GB of the {allowed / GB:.1f} GB they may. "
            "Delete some, or ask who runs this installation."
        )
