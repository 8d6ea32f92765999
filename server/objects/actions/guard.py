"""The guard that every action passes."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction
from django.http import Http404

from objects.errors import Busy, NotAllowed, Superseded
from objects.models import ScanObject
from objects.selectors import LOOK, OWNER, objects_of, role_of
from objects.turn import Turn


def asked_to_work(object_id: Any, who: Any, as_owner: bool = False) -> ScanObject:
    """An object that a person may change; raises `Http404` when they do not see it, `NotAllowed` when they only look."""
    scan_object = objects_of(who).select_for_update().filter(pk=object_id).first()
    if scan_object is None:
        raise Http404
    role = role_of(scan_object, who)
    if as_owner and role != OWNER:
        raise NotAllowed("Only the owner of the object may do this.")
    if role == LOOK:
        raise NotAllowed
    return scan_object


@contextmanager
def acting(object_id: Any, who: Any, while_busy: bool = False, as_owner: bool = False) -> Iterator[ScanObject]:
    """The object, locked for a change by a person.

    Raises what `asked_to_work` raises and, unless `while_busy`, `Busy` when a job of it is under way. All that
    happens in the block is one transaction; at its end everybody who looks at the object hears of the change.
    """
    with transaction.atomic():
        scan_object = asked_to_work(object_id, who, as_owner)
        if not while_busy and scan_object.jobs.under_way().exists():
            raise Busy
        yield scan_object
        _tell(scan_object)


@contextmanager
def acting_job(object_id: Any, turn: Turn | None) -> Iterator[ScanObject]:
    """The object, locked for a change by its own job, whose right was asked when it was started.

    Raises `Superseded` when it is not this attempt's turn; None is for what no job does (the demo's data).
    """
    with transaction.atomic():
        scan_object = ScanObject.objects.select_for_update().filter(pk=object_id).first()
        if scan_object is None or (turn is not None and not _has_turn(scan_object, turn)):
            raise Superseded
        yield scan_object
        _tell(scan_object)


def _has_turn(scan_object: ScanObject, turn: Turn) -> bool:
    return scan_object.jobs.filter(pk=turn.job, attempts=turn.attempt, state="running").exists()


def _tell(scan_object: ScanObject) -> None:
    """The event: the time of change, which the stream of events watches."""
    if scan_object.pk is not None:
        scan_object.save(update_fields=["changed"])
