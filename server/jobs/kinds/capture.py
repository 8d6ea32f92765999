"""A pass on the virtual turntable."""

import time
from typing import Any

from jobs.kinds.base import JobKind, drop_unfinished
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Capture

STOP_SECONDS = 0.9  # that a table needs between stops, as a real one does


def run_capture(job: Job, voice: Voice) -> dict[str, Any]:
    """Take frame after frame until the plan or a wish ends the pass."""
    capture = Capture.objects.get(pk=job.payload["capture"])
    core_door.drop_capture(str(capture.id))
    started = time.perf_counter()
    plan = job.payload["plan"]
    with core_door.turntable_pass(job.payload["model"], plan, job.payload["seed"], str(capture.id)) as frames:
        for count in frames:
            capture.frames = count
            capture.save(update_fields=["frames"])
            voice.begin_step(count, plan["stops"], "Taking frames")
            voice.tell(count / plan["stops"], f"Stop {count} of {plan['stops']}")
            if voice.finish_wished(job.payload.get("pause", STOP_SECONDS)):
                break
    actions.complete_capture(capture, job.who_id, job.id, time.perf_counter() - started)
    return {"frames": capture.frames}


CAPTURE = JobKind("capture", run_capture, drop_unfinished)
