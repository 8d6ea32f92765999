"""An uploaded capture that becomes a pass."""

import time
from pathlib import Path
from typing import Any

from jobs.kinds.base import JobKind, drop_unfinished
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Capture

TITLE_LENGTH = 120


def run_import(job: Job, voice: Voice) -> dict[str, Any]:
    """Unpack and check an uploaded capture and make it a pass."""
    upload = Path(job.payload["upload"])
    capture = Capture.objects.get(pk=job.payload["capture"])
    started = time.perf_counter()
    title, frames = core_door.import_capture(upload, str(capture.id), voice.tell)
    capture.title, capture.frames, capture.planned = title[:TITLE_LENGTH], frames, frames
    actions.complete_capture(capture, job.who_id, job.id, time.perf_counter() - started)
    actions.delete_upload(upload)
    return {"frames": frames}


IMPORT = JobKind("import", run_import, drop_unfinished, repeatable=False)
