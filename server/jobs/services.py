"""Starting, stopping and rescuing jobs."""

from collections.abc import Collection
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from jobs.models import Job
from objects import core_door
from objects.actions import acting
from objects.errors import Busy
from objects.models import Capture, ScanObject


def start(scan_object: ScanObject, who: Any, kind: str, title: str, payload: dict[str, Any]) -> Job:
    """Queue a job; an object does one thing at a time."""
    from jobs.tasks import run_job

    with acting(scan_object.pk, who) as locked:
        job = Job.objects.create(scan_object=locked, who=who, kind=kind, title=title, payload=payload)
        transaction.on_commit(lambda: run_job.enqueue(str(job.id)))
    return job


def start_recipe(scan_object: ScanObject, who: Any, name: str, parameters: dict[str, dict[str, Any]]) -> Job:
    """Queue a built-in recipe; `parameters` maps operations to what differs from the recipe."""
    recipe = next((r for r in core_door.recipes() if r["name"] == name), None)
    if recipe is None:
        raise core_door.InputError(f"There is no recipe “{name}”.")
    steps = [
        core_door.check_operation(s["operation"], {**s["parameters"], **parameters.get(s["operation"], {})})
        for s in recipe["steps"]
    ]
    return start(scan_object, who, "recipe", f"{recipe['title']} recipe", {"steps": steps})


def start_operation(scan_object: ScanObject, who: Any, name: str, parameters: dict[str, Any]) -> Job:
    """Queue one operation."""
    checked = core_door.check_operation(name, parameters)
    return start(scan_object, who, "operation", checked["title"], {"steps": [checked]})


def start_capture(scan_object: ScanObject, who: Any, plan: dict[str, Any], model: str, seed: int) -> Job:
    """Queue a pass on the virtual turntable."""
    capture = Capture.objects.create(scan_object=scan_object, title=plan["title"], planned=plan["stops"])
    payload = {"capture": str(capture.id), "plan": plan, "model": model, "seed": seed}
    try:
        return start(scan_object, who, "capture", f"Capture “{plan['title']}”", payload)
    except Busy:
        capture.delete()
        raise


def cancel(job: Job) -> Job:
    """Ask a job to stop; a queued one stops at once."""
    Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(
        state=Job.State.CANCELLED, message="Stopped before it began", finished=timezone.now(), changed=timezone.now()
    )
    Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(cancel_wish=True, changed=timezone.now())
    job.refresh_from_db()
    return job


def finish_capture(job: Job) -> Job:
    """Ask a running capture to end here and keep what it has."""
    Job.objects.filter(pk=job.pk, kind="capture", state=Job.State.RUNNING).update(finish_wish=True)
    job.refresh_from_db()
    return job


def run_again(job: Job) -> Job:
    """Queue a failed or stopped job once more; steps that it finished are not repeated."""
    from jobs.kinds import KINDS
    from jobs.tasks import run_job

    if not KINDS[job.kind].repeatable or job.state not in (Job.State.FAILED, Job.State.CANCELLED):
        raise Busy("Only a failed or stopped job can be run again.")
    with acting(job.scan_object_id, job.who):
        Job.objects.filter(pk=job.pk).update(
            state=Job.State.QUEUED,
            attempts=0,
            cancel_wish=False,
            error="",
            message="Waiting",
            fraction=0,
            step=0,
        )
        transaction.on_commit(lambda: run_job.enqueue(str(job.id)))
    job.refresh_from_db()
    return job


def claim(job_id: str) -> Job | None:
    """Take a queued job for this worker, or None when somebody else has it or it was stopped."""
    now = timezone.now()
    taken = Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(
        state=Job.State.RUNNING, started=now, lease_until=_lease(), changed=now
    )
    if not taken:
        return None
    job = Job.objects.get(pk=job_id)
    Job.objects.filter(pk=job_id).update(attempts=job.attempts + 1)
    return job


def _lease() -> Any:
    return timezone.now() + timedelta(seconds=settings.JOB_LEASE_SECONDS)


def beat(job_id: Any, **fields: Any) -> tuple[bool, bool]:
    """Extend the lease and write progress; returns (cancel wished, finish wished)."""
    Job.objects.filter(pk=job_id).update(lease_until=_lease(), changed=timezone.now(), **fields)
    return Job.objects.values_list("cancel_wish", "finish_wish").get(pk=job_id)


def end(job_id: Any, state: str, message: str, error: str = "", result: dict[str, Any] | None = None) -> None:
    """Write how a job ended."""
    fields: dict[str, Any] = {"result": result} if result is not None else {}
    if state == Job.State.DONE:
        fields["fraction"] = 1.0
    now = timezone.now()
    Job.objects.filter(pk=job_id).update(
        state=state, message=message, error=error, finished=now, changed=now, seconds_left=None,
        lease_until=None, **fields,
    )  # fmt: skip


def rescue(everything: bool = False, spare: Collection[Any] = ()) -> int:
    """Queue jobs again whose worker is gone (lease run out); returns how many.

    `everything` takes all running jobs, for the start of the only worker of an installation; jobs in `spare` stay.
    """
    from jobs.tasks import run_job

    lost = Job.objects.filter(state=Job.State.RUNNING)
    if not everything:
        lost = lost.filter(lease_until__lt=timezone.now()).exclude(pk__in=spare)
    count = 0
    for job in lost:
        if job.cancel_wish:
            end(job.id, Job.State.CANCELLED, "Stopped on request")
        elif job.attempts >= settings.JOB_ATTEMPTS:
            end(
                job.id,
                Job.State.FAILED,
                "Interrupted",
                "The worker was lost three times. What was finished is safe; try again.",
            )
        else:
            job.state, job.message = Job.State.QUEUED, "Interrupted; starting again"
            job.save(update_fields=["state", "message", "changed"])
            run_job.enqueue(str(job.id))
            count += 1
    waiting = Job.objects.filter(state=Job.State.QUEUED) if everything else Job.objects.none()
    for job in waiting:
        run_job.enqueue(str(job.id))
    return count
