"""What a kind of job is."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Capture


def nothing_left(job: Job) -> None:
    """Clean up after a job that leaves nothing behind but finished steps."""


@dataclass(frozen=True)
class JobKind:
    """Its work, how to clean up after it when it failed or was stopped, and whether it can be run again."""

    name: str
    run: Callable[[Job, Voice], dict[str, Any]]
    clean_up: Callable[[Job], None] = nothing_left
    repeatable: bool = True


def drop_unfinished(job: Job) -> None:
    """Remove what a stopped or failed capture or import left behind."""
    key = job.payload.get("capture")
    if key:
        Capture.objects.filter(pk=key, state=Capture.State.LIVE).delete()
        if not Capture.objects.filter(pk=key).exists():
            core_door.drop_capture(key)
    if job.payload.get("upload"):
        actions.delete_upload(Path(job.payload["upload"]))
