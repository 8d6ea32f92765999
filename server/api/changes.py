"""What changed: one look at the database for all who listen, told to each who may see it."""

import asyncio
import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta

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
LATE_SECONDS = 3  # that a change may come after one with a later time: it waited for the database to be free
EVERYBODY = ""  # in place of an object: who works here hears of it
Change = tuple[str, str, str]  # kind, object, data as JSON
Found = list[tuple[datetime, Change]]  # each change with its time, in order


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
        looks = [Look(changed_jobs), Look(changed_objects), Look(changed_instruments)]
        while self._queues:
            for look in looks:
                for change in await sync_to_async(look.news)():
                    for queue in self._queues:
                        queue.put_nowait(change)
            await asyncio.sleep(POLL_SECONDS)


class Look:
    """Looks for changes of one kind and tells each once, also one that was written later than its time says."""

    def __init__(self, changed: Callable[[datetime], Found]) -> None:
        self._changed = changed
        self._newest = timezone.now()
        self._told: Found = []

    def news(self) -> list[Change]:
        """What was not told yet; nothing when the database does not answer, the next look sees what this one missed."""
        try:
            found = self._changed(self._newest - timedelta(seconds=LATE_SECONDS))
        except Error:
            return []
        fresh = [change for at, change in found if (at, change) not in self._told]
        self._told = found
        self._newest = max([self._newest, *(at for at, _ in found)])
        return fresh


def changed_jobs(since: datetime) -> Found:
    """Jobs that changed since, each whole and, for captures, with frames and outlook so far."""
    found = list(Job.objects.filter(changed__gt=since).select_related("scan_object").order_by("changed"))
    keys = {str(j.payload["capture"]) for j in found if j.payload.get("capture")}
    captures = Capture.objects.filter(pk__in=keys).values("pk", "frames", "outlook")
    so_far = {str(row.pop("pk")): row for row in captures}
    out: Found = []
    for job in found:
        row = {**JobView(job).data, "frames": None, **so_far.get(job.payload.get("capture"), {})}
        out.append((job.changed, ("job", str(job.scan_object_id), json.dumps(row, default=str))))
    connection.close()
    return out


def changed_objects(since: datetime) -> Found:
    """Objects that an action changed since, with the snapshot they show now."""
    rows = (
        ScanObject.objects.filter(changed__gt=since).order_by("changed").annotate(unlooked=Q(head__looked__isnull=True))
    )
    out: Found = []
    for row in rows.values("id", "head_id", "changed", "unlooked"):
        head = str(row["head_id"]) if row["head_id"] else None
        shown = {"id": str(row["id"]), "snapshot": head, "looked": not row["unlooked"]}
        out.append((row["changed"], ("object", str(row["id"]), json.dumps(shown))))
    connection.close()
    return out


def changed_instruments(since: datetime) -> Found:
    """Instruments whose stand or check changed since, each named once."""
    stands = list(Stand.objects.filter(changed__gt=since).values_list("name", "changed"))
    checks = list(Check.objects.filter(changed__gt=since).values_list("instrument", "changed"))
    connection.close()
    last = dict(sorted([*stands, *checks], key=lambda row: row[1]))
    return [(at, ("instrument", EVERYBODY, json.dumps({"name": name}))) for name, at in sorted(last.items())]


def lately() -> list[Change]:
    """What changed in the seconds before a stream begins, so that nothing is missed between page and stream."""
    since = timezone.now() - timedelta(seconds=BACK_SECONDS)
    return [change for _, change in [*changed_jobs(since), *changed_objects(since)]]
