"""A pass on the virtual turntable."""

import time
from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Capture

STOP_SECONDS = 0.9  # that a table needs between stops, as a real one does


def run_capture(job: Job, voice: Voice) -> dict[str, Any]:
    """Take frame after frame until the plan or a wish ends the pass, behind those that an earlier attempt took."""
    capture = capture_of(job)
    key, plan = str(capture.id), job.payload["plan"]
    started = time.perf_counter()
    if not core_door.is_whole(key):
        with core_door.turntable_pass(job.payload["model"], plan, job.payload["seed"], key, job.attempts) as frames:
            for count in frames:
                with actions.acting_job(job.scan_object_id, job.turn):
                    Capture.objects.filter(pk=capture.id).update(frames=count)
                voice.begin_step(count, plan["stops"], "Taking frames")
                voice.tell(count / plan["stops"], f"Stop {count} of {plan['stops']}")
                if voice.finish_wished(job.payload.get("pause", STOP_SECONDS)):
                    break
    _, capture.frames = core_door.capture_facts(key)
    actions.complete_capture(capture, job.who_id, job.turn, time.perf_counter() - started)
    return {"frames": capture.frames}


def capture_of(job: Job) -> Capture:
    """The capture of a job, made again when it was stopped and is run once more."""
    facts = {"title": job.payload["title"], "planned": job.payload.get("planned", 0)}
    with actions.acting_job(job.scan_object_id, job.turn) as scan_object:
        return Capture.objects.get_or_create(pk=job.payload["capture"], scan_object=scan_object, defaults=facts)[0]


def drop_capture(job: Job) -> None:
    """Remove what a stopped or refused capture left behind."""
    actions.drop_capture(job.scan_object_id, job.payload["capture"], job.turn)


def forget_capture(job: Job) -> None:
    """Remove the empty capture of a job that never began."""
    Capture.objects.filter(pk=job.payload["capture"], state=Capture.State.LIVE, frames=0).delete()


CAPTURE = JobKind("capture", run_capture, drop_capture, forget_capture)
