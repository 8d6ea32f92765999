"""Deliveries: files for receivers, made of the object as it was when they were asked for."""

from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Snapshot


def run_deliver(job: Job, voice: Voice) -> dict[str, Any]:
    """Make what the receivers get; it lies in the cache until it is fetched."""
    head, wishes = Snapshot.objects.get(pk=job.payload["snapshot"]), job.payload["wishes"]
    whole = any(wish["receiver"] == core_door.BUNDLE for wish in wishes)
    document = actions.bundle_document(job.scan_object) if whole else None
    return core_door.make_delivery(head.manifest, head.summary, wishes, job.payload["told"], document, voice.tell)


DELIVER = JobKind("deliver", run_deliver)
