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

from api.files import signed_in
from api.serializers import JobView
from jobs.models import Job
from objects.models import Capture

POLL_SECONDS = 0.4
KEEPALIVE_SECONDS = 15


@signed_in
async def events(request: HttpRequest, user: Any) -> HttpResponse:
    """A stream of `job` events, each with the whole job and, for captures, the frames so far."""
    response = StreamingHttpResponse(_stream(user.id), content_type="text/event-stream")
    response["Cache-Control"] = "no-cache"
    response["X-Accel-Buffering"] = "no"
    return response


async def _stream(user_id: int) -> AsyncIterator[str]:
    since = timezone.now() - timedelta(seconds=5)
    quiet = 0.0
    yield "retry: 1000\n\n"
    while True:
        rows, since = await sync_to_async(_changed)(user_id, since)
        for row in rows:
            quiet = 0.0
            yield f"event: job\ndata: {json.dumps(row)}\n\n"
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
