"""Recipes and single operations."""

from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.actions import FinishedStep
from objects.models import Step


def run_steps(job: Job, voice: Voice) -> dict[str, Any]:
    """Run the payload's steps; after an interruption the finished ones are not repeated."""
    steps = job.payload["steps"]
    finished = Step.objects.filter(job=job.id).count()
    head = job.scan_object.head
    before = head and head.id
    refused: list[str] = []

    def record(number: int, state: Any, report: dict[str, Any], seconds: float) -> None:
        nonlocal refused, before
        done = FinishedStep(steps[number], report, seconds, job.who_id, job.turn, number)
        before = actions.record_step(job.scan_object_id, before, state, done).after_id
        refused = report.get("not_placed", refused)

    state = core_door.load(head.manifest if head else None)
    core_door.run_steps(state, steps, voice.tell, record, voice.begin_step, finished)
    return {"not_placed": refused}


RECIPE = JobKind("recipe", run_steps)
OPERATION = JobKind("operation", run_steps)
