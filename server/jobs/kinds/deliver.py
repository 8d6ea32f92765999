"""Deliveries: files for receivers, made of the object as it was when they were asked for."""

from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import core_door
from objects.models import Snapshot


def run_deliver(job: Job, voice: Voice) -> dict[str, Any]:
    """Make what the receivers get; it lies in the cache until it is fetched."""
    head = Snapshot.objects.get(pk=job.payload["snapshot"])
    return core_door.make_delivery(head.manifest, head.summary, job.payload["wishes"], job.payload["told"], voice.tell)


DELIVER = JobKind("deliver", run_deliver)
