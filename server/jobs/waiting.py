"""The order in which jobs that wait are done, and who takes them."""

from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from jobs import memory
from jobs.models import Job
from jobs.services import claim, jobs_of
from objects.actions import asked_to_work


def claim_for_desk(slot: int) -> Job | None:
    """The oldest waiting job of the desk, claimed; None when none waits."""
    mine = Job.objects.filter(state=Job.State.QUEUED, kind__in=_at_desk()).order_by("created")
    return next((job for job in (claim(job.pk, slot) for job in mine) if job is not None), None)


def claim_next(slot: int) -> Job | None:
    """The job that is to be done next of those that fit beside what runs, claimed for the worker of a slot.

    None when none waits, or when none of those that wait fits: see `anything_waits`. First come those that somebody
    looks at, then the order that was drawn, then the older ones; those of a batch let others pass.
    """
    free = memory.free_mb()
    for job in _waiting():
        needs = memory.forecast_mb(job)
        if needs > free and _others_run():
            Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(
                message=memory.WAITS.format(needs=needs / 1000)
            )
            continue
        claimed = claim(job.pk, slot)
        if claimed is not None:
            return claimed
    return None


def anything_waits() -> bool:
    """Whether a job waits for a worker."""
    return _waiting().exists()


def _waiting() -> QuerySet[Job]:
    waiting = Job.objects.filter(state=Job.State.QUEUED).exclude(kind__in=_at_desk())
    return waiting.select_related("scan_object__head").order_by("rank", "batch", "created")


def _at_desk() -> list[str]:
    """The kinds of jobs that the desk does, not a worker."""
    from jobs.kinds import KINDS

    return [kind.name for kind in KINDS.values() if kind.at_desk]


def _others_run() -> bool:
    return Job.objects.filter(state=Job.State.RUNNING).exclude(kind__in=_at_desk()).exists()


def let_first(object_id: Any) -> None:
    """Let what waits of an object that somebody opens be done before what nobody looks at."""
    waiting = Job.objects.filter(scan_object=object_id, state=Job.State.QUEUED).exclude(rank__lte=0, batch=False)
    waiting.update(batch=False, rank=0, changed=timezone.now())


def in_order(who: Any, job_ids: list[Any]) -> list[Job]:
    """Give jobs that wait, and that a person may change, the order of a list; returns all that wait of theirs, in order."""
    with transaction.atomic():
        mine = {j.pk: j for j in jobs_of(who).filter(state=Job.State.QUEUED, pk__in=job_ids)}
        for number, pk in enumerate(i for i in job_ids if i in mine):
            asked_to_work(mine[pk].scan_object_id, who)
            Job.objects.filter(pk=pk, state=Job.State.QUEUED).update(rank=number + 1, changed=timezone.now())
    return list(jobs_of(who).filter(state=Job.State.QUEUED).order_by("rank", "batch", "created"))
