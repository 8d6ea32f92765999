"""An uploaded capture that becomes a pass."""

import time
from pathlib import Path
from typing import Any

from jobs.kinds.base import JobKind
from jobs.kinds.capture import capture_of, drop_capture, forget_capture
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door

TITLE_LENGTH = 120


def run_import(job: Job, voice: Voice) -> dict[str, Any]:
    """Unpack and check an uploaded capture and make it a pass; the upload goes when the pass is there."""
    capture = capture_of(job)
    started = time.perf_counter()
    title, frames = core_door.import_capture(
        _upload(job), job.payload["name"], str(capture.id), job.attempts, voice.tell
    )
    capture.title, capture.frames, capture.planned = title[:TITLE_LENGTH], frames, frames
    actions.complete_capture(capture, job.who_id, job.turn, time.perf_counter() - started)
    actions.delete_upload(_upload(job))
    return {"frames": frames}


def _upload(job: Job) -> Path:
    return Path(job.payload["upload"])


def _drop(job: Job) -> None:
    drop_capture(job)
    actions.delete_upload(_upload(job))


def _forget(job: Job) -> None:
    forget_capture(job)
    actions.delete_upload(_upload(job))


def _still_there(job: Job) -> bool:
    return _upload(job).is_file() or core_door.is_whole(job.payload["capture"])


IMPORT = JobKind(
    "import", run_import, _drop, _forget, _still_there, "The uploaded file is not kept any more: import it once more."
)
