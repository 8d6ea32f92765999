"""What a job's child process does."""

import time
import traceback
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from jobs.models import Job
from objects import core_door
from objects import services as objects
from objects.models import Capture, Step

PROGRESS_SECONDS = 0.1
STOP_SECONDS = 0.9
Outcome = tuple[str, str, str, dict[str, Any]]


def work(job: Job, pipe: Connection) -> Outcome:
    """Do a job; every fault becomes a sentence, never an exception."""
    kinds = {"recipe": _run_steps, "operation": _run_steps, "capture": _capture, "import": _import}
    try:
        result = kinds[job.kind](job, pipe)
        return (Job.State.DONE, "Done", "", result)
    except core_door.LucidRelicError as error:
        clean_up(job)
        return (Job.State.FAILED, "Not done", str(error), {})
    except MemoryError:
        clean_up(job)
        return (Job.State.FAILED, "Out of memory", "There was not enough memory. Choose a larger voxel size.", {})
    except Exception:
        traceback.print_exc()
        clean_up(job)
        return (
            Job.State.FAILED,
            "Failed",
            "An unexpected error stopped the computation. What was finished before is safe; "
            "the worker’s log has the details.",
            {},
        )


def _teller(pipe: Connection) -> core_door.Progress:
    last = 0.0

    def tell(fraction: float, message: str) -> None:
        nonlocal last
        if time.monotonic() - last > PROGRESS_SECONDS:
            last = time.monotonic()
            pipe.send({"fraction": round(fraction, 4), "message": message[:200]})

    return tell


def _run_steps(job: Job, pipe: Connection) -> dict[str, Any]:
    """Run the payload's steps; after an interruption the finished ones are not repeated."""
    steps = job.payload["steps"]
    finished = Step.objects.filter(job=job.id).count()
    head = job.scan_object.head
    state = core_door.load(head.manifest if head else None)
    tell = _teller(pipe)
    refused: list[str] = []
    for number, checked in enumerate(steps[finished:], finished):
        share = lambda f, m, n=number: tell((n + f) / len(steps), m)  # noqa: E731
        share(0.0, checked["title"])
        state, report, seconds = core_door.run_operation(state, checked["operation"], checked["parameters"], share)
        objects.record_step(job.scan_object_id, state, checked, report, seconds, job.who_id, job.id)
        refused = report.get("not_placed", refused)
    job.scan_object.refresh_from_db()
    objects.refresh_picture(job.scan_object)
    return {"not_placed": refused}


def _capture(job: Job, pipe: Connection) -> dict[str, Any]:
    """Run the virtual turntable; the table needs a moment between stops, as a real one does."""
    capture = Capture.objects.get(pk=job.payload["capture"])
    core_door.drop_capture(str(capture.id))
    started = time.perf_counter()
    plan = job.payload["plan"]
    for frames in core_door.shoot_turntable(job.payload["model"], plan, job.payload["seed"], str(capture.id)):
        capture.frames = frames
        capture.save(update_fields=["frames"])
        pipe.send({"fraction": frames / plan["stops"], "message": f"Stop {frames} of {plan['stops']}"})
        if pipe.poll(job.payload.get("pause", STOP_SECONDS)) and pipe.recv() == "finish":
            break
    objects.complete_capture(capture, job.who_id, job.id, time.perf_counter() - started)
    return {"frames": capture.frames}


def _import(job: Job, pipe: Connection) -> dict[str, Any]:
    """Unpack and check an uploaded capture and make it a pass."""
    upload = Path(job.payload["upload"])
    capture = Capture.objects.get(pk=job.payload["capture"])
    started = time.perf_counter()
    title, frames = core_door.import_capture(upload, str(capture.id), _teller(pipe))
    capture.title, capture.frames, capture.planned = title[:120], frames, frames
    capture.save()
    objects.complete_capture(capture, job.who_id, job.id, time.perf_counter() - started)
    objects.delete_upload(upload)
    return {"frames": frames}


def clean_up(job: Job) -> None:
    """Remove what a stopped or failed capture or import left behind."""
    key = job.payload.get("capture")
    if key:
        Capture.objects.filter(pk=key, state=Capture.State.LIVE).delete()
        if not Capture.objects.filter(pk=key).exists():
            core_door.drop_capture(key)
    if job.payload.get("upload"):
        objects.delete_upload(Path(job.payload["upload"]))
