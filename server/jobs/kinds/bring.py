"""Passes of another object that are brought over: a near scan of a detail into the whole."""

import time
from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Snapshot, Step


def run_bring(job: Job, voice: Voice) -> dict[str, Any]:
    """Copy passes of another object's state, as they are cleaned there, behind the passes of this one."""
    there = core_door.load_shown(Snapshot.objects.get(pk=job.payload["snapshot"]).manifest)
    wanted = job.payload["passes"]
    for number, title in enumerate(wanted):
        voice.tell(number / len(wanted), f"Bringing over “{title}”")
        started = time.perf_counter()
        key = core_door.arrival_key(job.id, number)
        scan = core_door.copied_pass(there, title, key)
        actions.add_copy(job.scan_object, scan, key, job.who_id, job.turn, number, time.perf_counter() - started)
    return {"passes": len(wanted)}


def _drop(job: Job) -> None:
    with actions.acting_job(job.scan_object_id, job.turn):
        core_door.drop_arrival(job.id, Step.objects.filter(job=job.id).count())


BRING = JobKind("bring", run_bring, _drop)
