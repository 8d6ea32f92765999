"""Looking closer while nothing else is to do: pictures for the shelf and further findings of what is shown.

One state after the other, the one changed last first, each in a process of its own that gives way at once when a job
begins: no step ever waits for it.
"""

import contextlib
import logging
import multiprocessing
import os
import time
from multiprocessing.connection import Connection
from typing import Any

from django.db import connections
from django.utils import timezone

from jobs.child import end_with
from jobs.models import Job
from jobs.nursery import nursery
from objects import core_door
from objects.models import Capture, ScanObject, Snapshot
from objects.selectors import links_of, path_to

REST_SECONDS, POLL_SECONDS = 1.0, 0.2
MOST_SECONDS = 300  # for one state: what takes longer is left alone
NICENESS = 15
STEPS_BACK = 30  # whose views are made ready, so that looking back is at once
log = logging.getLogger(__name__)
_left_alone: set[Any] = set()


def look_around() -> None:
    """Look closer at one state after the other, for ever."""
    while True:
        try:
            snapshot = next_to_look_at()
            if snapshot is None or not _looked(snapshot):
                time.sleep(REST_SECONDS)
        except Exception:
            log.exception("A closer look failed and is tried again")
            time.sleep(REST_SECONDS)
        finally:
            connections.close_all()


def next_to_look_at() -> Any:
    """The snapshot shown of the object that changed last and was not looked at; None when jobs are under way."""
    if Job.objects.under_way().exists():
        return None
    shown = ScanObject.objects.filter(deleted=None, head__isnull=False, head__looked__isnull=True)
    return shown.exclude(head__in=_left_alone).order_by("-changed").values_list("head_id", flat=True).first()


def _looked(snapshot: Any) -> bool:
    """Look at one snapshot; False when it gave way to a job."""
    connections.close_all()
    leash, hand = multiprocessing.Pipe(duplex=False)
    child = nursery().Process(target=look_in_child, args=(str(snapshot), leash))
    child.start()
    leash.close()
    until = time.monotonic() + MOST_SECONDS
    try:
        while child.is_alive():
            child.join(POLL_SECONDS)
            if Job.objects.under_way().exists():
                return False
            if time.monotonic() > until:
                _left_alone.add(snapshot)
                return False
    finally:
        child.kill()
        child.join()
        hand.close()
    if child.exitcode != 0:
        _left_alone.add(snapshot)
    return child.exitcode == 0


def look_in_child(snapshot_id: str, leash: Connection) -> None:
    """In a process of its own: look at a snapshot and end."""
    end_with(leash)
    os.nice(NICENESS)
    look_at(snapshot_id)
    connections.close_all()
    os._exit(0)


def look_at(snapshot_id: str) -> None:
    """Make the picture of a snapshot, note what a closer look finds, tell who looks at its object, and make earlier views ready."""
    row = Snapshot.objects.get(pk=snapshot_id)
    with contextlib.suppress(core_door.LucidRelicError):
        core_door.see_to_picture(row.manifest, snapshot_id)
    keys = [entry["capture"] for entry in row.manifest["passes"]]
    taken_by = {str(c.pk): c.instrument for c in Capture.objects.filter(pk__in=keys)}
    found = core_door.look_closer(row.manifest, row.summary, taken_by, core_door.silent)
    Snapshot.objects.filter(pk=snapshot_id).update(looked=found)
    ScanObject.objects.filter(head_id=snapshot_id).update(changed=timezone.now())
    for pk in _steps_back(row):
        with contextlib.suppress(core_door.LucidRelicError):
            manifest, triangles = Snapshot.objects.values_list("manifest", "summary__mesh__triangles").get(pk=pk)
            core_door.see_to_views(manifest, triangles or 0)


def _steps_back(row: Snapshot) -> list[Any]:
    """The snapshots of the last steps that led to one, the newest first: they may be looked back at."""
    path = path_to(row.pk, links_of(row.scan_object))
    return [step.after_id for step in path[::-1][:STEPS_BACK]]
