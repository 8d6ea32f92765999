"""Server-sent events: what changed among a person's jobs, as it happens."""

import asyncio
import json
from collections.abc import AsyncIterator
from datetime import timedelta
from typing import Any

from asgiref.sync import sync_to_async
from django.db import connection
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.utils import timezone

from api.shapes.jobs import JobView
from api.streaming import signed_in
from jobs.models import Job
from objects.models import Capture, ScanObject

POLL_SECONDS = 0.4
KEEPALIVE_SECONDS = 15


@signed_in
async def events(request: HttpRequest, user: Any) -> HttpResponse:
    """A stream of `job` events, each with the whole job and, for captures, the frames so far, and `object` events.

    An `object` event names an object that an action changed, so that every bench that shows it loads it anew.
    """
    response = StreamingHttpResponse(_stream(user.id), content_type="text/event-stream")
    response["Cache-Control"] = "no-cache"
    response["X-Accel-Buffering"] = "no"
    return response


async def _stream(user_id: int) -> AsyncIterator[str]:
    since = touched = timezone.now() - timedelta(seconds=5)
    quiet = 0.0
    yield "retry: 1000\n\n"
    while True:
        rows, since = await sync_to_async(_changed)(user_id, since)
        others, touched = await sync_to_async(_touched)(user_id, touched)
        for kind, row in [*(("job", r) for r in rows), *(("object", o) for o in others)]:
            quiet = 0.0
            yield f"event: {kind}\ndata: {json.dumps(row)}\n\n"
        if quiet > KEEPALIVE_SECONDS:
            quiet = 0.0
            yield ": still here\n\n"
        await asyncio.sleep(POLL_SECONDS)
        quiet += POLL_SECONDS


def _changed(user_id: int, since: Any) -> tuple[list[dict[str, Any]], Any]:
    found = list(
        Job.objects.filter(who_id=user_id, changed__gt=since).select_related("scan_object").order_by("changed")
    )
    out = []
    for job in found:
        row = json.loads(json.dumps(JobView(job).data, default=str))
        capture = job.payload.get("capture")
        frames = Capture.objects.filter(pk=capture).values_list("frames", flat=True).first() if capture else None
        out.append({**row, "frames": frames})
    connection.close()
    return out, (found[-1].changed if found else since)


def _touched(user_id: int, since: Any) -> tuple[list[dict[str, Any]], Any]:
    """Objects that an action changed, with the snapshot they show now."""
    rows = ScanObject.objects.filter(owner_id=user_id, changed__gt=since).order_by("changed")
    found = list(rows.values("id", "head_id", "changed"))
    connection.close()
    changes = [{"id": str(o["id"]), "snapshot": str(o["head_id"]) if o["head_id"] else None} for o in found]
    return changes, (found[-1]["changed"] if found else since)
