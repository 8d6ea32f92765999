"""What changed: one look at the database for all who listen, told to each who may see it."""

import asyncio
import json
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import Any

from asgiref.sync import sync_to_async
from django.db import Error, connection
from django.db.models import Q
from django.utils import timezone

from api.shapes.jobs import JobView
from instruments.models import Check, Stand
from jobs.models import Job
from objects.models import Capture, ScanObject

POLL_SECONDS = 0.4
BACK_SECONDS = 5  # that a stream looks back when it begins
EVERYBODY = ""  # in place of an object: who works here hears of it
Change = tuple[str, str, str]  # kind, object, data as JSON


class Watch:
    """Polls while somebody listens; every listener has a queue of changes."""

    def __init__(self) -> None:
        self._queues: set[asyncio.Queue[Change]] = set()
        self._task: asyncio.Task[None] | None = None

    @contextmanager
    def listening(self) -> Iterator[asyncio.Queue[Change]]:
        """A queue of all changes from now on."""
        queue: asyncio.Queue[Change] = asyncio.Queue()
        self._queues.add(queue)
        if self._task is None or self._task.done():
            self._task = asyncio.get_running_loop().create_task(self._poll())
        try:
            yield queue
        finally:
            self._queues.discard(queue)

    async def _poll(self) -> None:
        jobs_since = objects_since = desk_since = timezone.now()
        while self._queues:
            try:
                jobs, jobs_since = await sync_to_async(changed_jobs)(jobs_since)
                objects, objects_since = await sync_to_async(changed_objects)(objects_since)
                desk, desk_since = await sync_to_async(changed_instruments)(desk_since)
            except Error:
                jobs, objects, desk = [], [], []  # the next look sees what this one missed
            for change in [*jobs, *objects, *desk]:
                for queue in self._queues:
                    queue.put_nowait(change)
            await asyncio.sleep(POLL_SECONDS)


def changed_jobs(since: Any) -> tuple[list[Change], Any]:
    """Jobs that changed since, each whole and, for captures, with frames and outlook so far; and the time of the last."""
    found = list(Job.objects.filter(changed__gt=since).select_related("scan_object").order_by("changed"))
    keys = {str(j.payload["capture"]) for j in found if j.payload.get("capture")}
    captures = Capture.objects.filter(pk__in=keys).values("pk", "frames", "outlook")
    so_far = {str(row.pop("pk")): row for row in captures}
    out = []
    for job in found:
        row = {**JobView(job).data, "frames": None, **so_far.get(job.payload.get("capture"), {})}
        out.append(("job", str(job.scan_object_id), json.dumps(row, default=str)))
    connection.close()
    return out, (found[-1].changed if found else since)


def changed_objects(since: Any) -> tuple[list[Change], Any]:
    """Objects that an action changed since, with the snapshot they show now; and the time of the last."""
    rows = (
        ScanObject.objects.filter(changed__gt=since).order_by("changed").annotate(unlooked=Q(head__looked__isnull=True))
    )
    found = list(rows.values("id", "head_id", "changed", "unlooked"))
    connection.close()
    out: list[Change] = []
    for row in found:
        head = str(row["head_id"]) if row["head_id"] else None
        shown = {"id": str(row["id"]), "snapshot": head, "looked": not row["unlooked"]}
        out.append(("object", str(row["id"]), json.dumps(shown)))
    return out, (found[-1]["changed"] if found else since)


def changed_instruments(since: Any) -> tuple[list[Change], Any]:
    """Instruments whose stand or check changed since, each named once; and the time of the last."""
    stands = list(Stand.objects.filter(changed__gt=since).values_list("name", "changed"))
    checks = list(Check.objects.filter(changed__gt=since).values_list("instrument", "changed"))
    connection.close()
    out: list[Change] = [
        ("instrument", EVERYBODY, json.dumps({"name": n})) for n in sorted({n for n, _ in [*stands, *checks]})
    ]
    return out, max([since, *(at for _, at in [*stands, *checks])])


def lately() -> list[Change]:
    """What changed in the seconds before a stream begins, so that nothing is missed between page and stream."""
    since = timezone.now() - timedelta(seconds=BACK_SECONDS)
    return [*changed_jobs(since)[0], *changed_objects(since)[0]]
