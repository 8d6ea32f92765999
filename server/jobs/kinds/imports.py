"""Uploaded files that become passes."""

import time
from pathlib import Path
from typing import Any

from jobs.kinds.base import JobKind
from jobs.models import Job
from jobs.voice import Voice
from objects import actions, core_door
from objects.models import Step


def run_import(job: Job, voice: Voice) -> dict[str, Any]:
    """Make every pass in the uploaded files a pass of the object; refused files are named, the others go on.

    The uploads go when all that was in them is there. Raises `InputError` when nothing was.
    """
    bundle = next(((path, name) for path, name in _files(job) if core_door.is_bundle(path)), None)
    if bundle:
        return _take_bundle(job, voice, *bundle)
    recorded = Step.objects.filter(job=job.id).count()
    if recorded and not any(path.exists() for path, _ in _files(job)):
        return {"passes": recorded, "refused": []}  # all was done but for saying so
    refused: list[str] = []
    count, started = 0, time.perf_counter()
    for arrival in core_door.arrivals(_files(job), job.payload.get("said", {}), job.id, job.attempts, voice.tell):
        if arrival.refused:
            refused.append(arrival.refused)
            continue
        actions.add_arrival(job.scan_object, arrival, job.who_id, job.turn, count, time.perf_counter() - started)
        count, started = count + 1, time.perf_counter()
    if not count:
        raise core_door.InputError("\n".join(refused))
    _delete_uploads(job)
    return {"passes": count, "refused": refused}


def _take_bundle(job: Job, voice: Voice, path: Path, name: str) -> dict[str, Any]:
    """Make the object what a bundle tells; it comes alone."""
    if len(_files(job)) > 1:
        raise core_door.InputError(f"{name} is a bundle, a whole object: bring it by itself.")
    actions.need_empty(job.scan_object)
    document, folder = core_door.opened_bundle(path, name, job.id, voice.tell)
    own = core_door.renamed(document, job.id)
    actions.take_bundle(job.scan_object_id, own, folder, job.who_id, job.turn)
    _delete_uploads(job)
    return {"passes": len(own["captures"]), "refused": []}


def _files(job: Job) -> list[tuple[Path, str]]:
    return [(Path(file["upload"]), file["name"]) for file in job.payload.get("files", [])]


def _delete_uploads(job: Job) -> None:
    for path, _ in _files(job):
        actions.delete_upload(path)


def _drop(job: Job) -> None:
    """Remove what a stopped or refused import left; passes that were recorded stay."""
    with actions.acting_job(job.scan_object_id, job.turn):
        core_door.drop_arrival(job.id, Step.objects.filter(job=job.id).count())
    _delete_uploads(job)


def _still_there(job: Job) -> bool:
    files = _files(job)
    return bool(files) and all(path.is_file() for path, _ in files)


IMPORT = JobKind(
    "import", run_import, _drop, _delete_uploads, _still_there,
    "The uploaded files are not kept any more: import them once more.",
)  # fmt: skip
