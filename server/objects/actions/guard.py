"""The guard that every action passes."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction
from django.http import Http404

from objects.errors import Busy
from objects.models import ScanObject
from objects.selectors import objects_of


@contextmanager
def acting(object_id: Any, who: Any, while_busy: bool = False) -> Iterator[ScanObject]:
    """The object, locked for a change by a person.

    Raises `Http404` when it is not theirs and, unless `while_busy`, `Busy` when a job of it is under way. All that
    happens in the block is one transaction; at its end everybody who looks at the object hears of the change.
    """
    with transaction.atomic():
        scan_object = objects_of(who).select_for_update().filter(pk=object_id).first()
        if scan_object is None:
            raise Http404
        if not while_busy and scan_object.jobs.under_way().exists():
            raise Busy
        yield scan_object
        _tell(scan_object)


@contextmanager
def acting_job(object_id: Any) -> Iterator[ScanObject]:
    """The object, locked for a change by its own job, whose right was asked when it was started."""
    with transaction.atomic():
        scan_object = ScanObject.objects.select_for_update().get(pk=object_id)
        yield scan_object
        _tell(scan_object)


def _tell(scan_object: ScanObject) -> None:
    """The event: the time of change, which the stream of events watches."""
    if scan_object.pk is not None:
        scan_object.save(update_fields=["changed"])
