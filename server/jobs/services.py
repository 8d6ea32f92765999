"""Starting, stopping and rescuing jobs."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from uuid import UUID, uuid4

from django.conf import settings
from django.db import transaction
from django.db.models import F, QuerySet
from django.utils import timezone

from jobs.models import Job
from objects import core_door, quota, room
from objects.actions import ADDED, acting
from objects.errors import Busy, NoRoom, NotAllowed, OverQuota
from objects.models import Capture, OwnRecipe, ScanObject, Step
from objects.selectors import current_steps, objects_of
from objects.turn import Turn

LAST_DELIVERIES = 60  # that are looked through for what was chosen last
NOT_AGAIN = "Only a failed or stopped job can be run again."
LOST = "The worker was lost {losses} times over it. What was finished is safe. {next}"


@dataclass(frozen=True)
class Wishes:
    """What a person wants of a job under way."""

    cancel: bool
    finish: bool
    pause: bool = False
    back: int = 0
    shots: int = 0


def jobs_of(person: Any) -> QuerySet[Job]:
    """Jobs on the objects that a person sees, newest first."""
    return Job.objects.filter(scan_object__in=objects_of(person)).select_related("scan_object")


def start(
    scan_object: ScanObject, who: Any, kind: str, title: str, payload: dict[str, Any], batch: bool = False
) -> Job:
    """Queue a job; an object does one thing at a time. Raises `Busy` or `NoRoom`."""
    room.need()
    quota.need(scan_object.owner)
    with acting(scan_object.pk, who) as locked:
        if "capture" in payload:
            Capture.objects.create(
                id=payload["capture"], scan_object=locked, title=payload["title"], planned=payload.get("planned", 0),
                instrument=payload["plan"].get("instrument", ""),
            )  # fmt: skip
        job = Job.objects.create(scan_object=locked, who=who, kind=kind, title=title, payload=payload, batch=batch)
        transaction.on_commit(lambda: _hand_over(job))
    return job


def _hand_over(job: Job) -> None:
    """Give a queued job to the workers; the desk finds its own by itself."""
    from jobs.kinds import KINDS
    from jobs.tasks import run_job

    if not KINDS[job.kind].at_desk:
        run_job.enqueue(str(job.id))


def start_recipe(scan_object: ScanObject, who: Any, name: str, parameters: dict[str, dict[str, Any]]) -> Job:
    """Queue a recipe that ships or a person's own; `parameters` maps operations to what differs from the recipe."""
    recipe = _recipe(name, who)
    known = {s["operation"] for s in recipe["steps"]}
    for operation, given in parameters.items():
        if operation not in known:
            raise core_door.InputError(
                f"The recipe {core_door.quoted(name)} has no operation {core_door.quoted(operation)}."
            )
        if not isinstance(given, dict):
            raise core_door.InputError(
                f"The parameters of {core_door.quoted(operation)} must be an object of names and values."
            )
    steps = [
        core_door.check_operation(s["operation"], {**s["parameters"], **parameters.get(s["operation"], {})})
        for s in recipe["steps"]
    ]
    return start(scan_object, who, "recipe", f"{recipe['title']} recipe", {"steps": steps})


def _recipe(name: str, who: Any) -> dict[str, Any]:
    """Title and steps of a recipe, by the name of one that ships or the id of a person's own."""
    found = next((r for r in core_door.recipes() if r["name"] == name), None)
    if found is not None:
        return found
    try:
        own = OwnRecipe.objects.filter(owner=who, pk=UUID(name)).first()
    except ValueError:
        own = None
    if own is None:
        raise core_door.InputError(f"There is no recipe {core_door.quoted(name)}.")
    return {"title": own.title, "steps": own.steps}


def start_batch(object_ids: list[Any], who: Any, name: str) -> tuple[list[Job], list[dict[str, Any]]]:
    """Queue a recipe on many objects; those on which it cannot be run are named with why, the others go on."""
    recipe = _recipe(name, who)
    steps = [core_door.check_operation(s["operation"], s["parameters"]) for s in recipe["steps"]]
    started: list[Job] = []
    refused = []
    for scan_object in objects_of(who).filter(pk__in=object_ids).select_related("head"):
        try:
            if scan_object.head is None or not scan_object.head.summary["passes"]:
                raise core_door.InputError("It has no pass yet. Capture or bring one in first.")
            title = f"{recipe['title']} recipe"
            started.append(start(scan_object, who, "recipe", title, {"steps": steps}, batch=True))
        except (core_door.InputError, Busy, NotAllowed, NoRoom, OverQuota) as why:
            refused.append({"id": scan_object.pk, "title": scan_object.title, "why": str(why)})
    return started, refused


def start_operation(scan_object: ScanObject, who: Any, name: str, parameters: dict[str, Any]) -> Job:
    """Queue one operation."""
    checked = core_door.check_operation(name, parameters)
    return start(scan_object, who, "operation", checked["title"], {"steps": [checked]})


def start_replay(scan_object: ScanObject, who: Any, changes: dict[int, dict[str, Any] | None], name: str) -> Job:
    """Queue the steps from the first changed one on, as a branch; None in place of numbers leaves a step out.

    Raises `InputError` for what cannot be changed, before anything is done.
    """
    done, ahead = current_steps(scan_object)
    path = [*done, *ahead]
    unknown = set(changes) - {s.pk for s in path}
    if unknown or not changes:
        raise core_door.InputError("Name steps of the branch that is worked on to change.")
    first = next(n for n, step in enumerate(path) if step.pk in changes)
    steps = [s for s in (_again(step, changes) for step in path[first:]) if s]
    if not steps:
        raise core_door.InputError("Nothing is left to do again; undo does that.")
    changed = path[first]
    payload = {
        "from": changed.before_id and str(changed.before_id), "steps": steps,
        "name": name or _branch_name(scan_object, changed.title),
        "back": {"branch": scan_object.branch_id, "head": str(scan_object.head_id)},
    }  # fmt: skip
    return start(scan_object, who, "replay", f"Replay from “{changed.title}”"[:160], payload)


def _again(step: Step, changes: dict[int, dict[str, Any] | None]) -> dict[str, Any] | None:
    """A step as it is done again; None when it is left out."""
    changed = changes.get(step.pk, {})
    if changed is None:
        return None
    if step.operation == ADDED:
        if changed:
            raise core_door.InputError(f"“{step.title}” has no numbers to change; leave it out, or capture anew.")
        kept = {"operation": step.operation, "title": step.title, "stage": step.stage, "parameters": step.parameters}
        return {**kept, "after": str(step.after_id)}
    return core_door.check_operation(step.operation, {**step.parameters, **changed})


def _branch_name(scan_object: ScanObject, title: str) -> str:
    taken = set(scan_object.branches.values_list("name", flat=True))
    own = f"Other {title[:1].lower()}{title[1:40]}"
    return next(n for n in [own, *(f"{own} {k}" for k in range(2, 10_000))] if n not in taken)


def go_on_without(job: Job, who: Any) -> Job:
    """Queue what a replay that stuck left over, without the step that it stuck at."""
    at = job.result.get("stuck")
    if at is None or job.kind != "replay":
        raise core_door.InputError("This job did not stick at a step.")
    steps = job.payload["steps"][at + 1 :]
    if not steps:
        raise core_door.InputError("The step that could not be done again was the last one: nothing is left over.")
    return start(job.scan_object, who, "recipe", f"{job.title}, going on"[:160], {"steps": steps})


def start_capture(scan_object: ScanObject, who: Any, plan: dict[str, Any], model: str, seed: int) -> Job:
    """Queue a pass on the virtual turntable."""
    planned = core_door.frames_of(plan) if plan.get("instrument") else plan["stops"]
    payload = {
        "capture": str(uuid4()), "title": plan["title"], "planned": planned, "plan": plan, "model": model,
        "seed": seed,
    }  # fmt: skip
    return start(scan_object, who, "capture", f"Capture “{plan['title']}”", payload)


def start_placing(scan_object: ScanObject, who: Any, title: str) -> Job:
    """Queue what places a pass that was accepted on what is there: its frames, its stand cut, its fit."""
    there = scan_object.head.summary["passes"]
    loose = [p["title"] for p in there if p["rms_mm"] is None and not p.get("points")]
    steps = [core_door.check_operation(name, given) for name, given in core_door.placing_steps(loose, len(there) < 2)]
    return start(scan_object, who, "recipe", f"Place “{title}”", {"steps": steps})


def start_import(
    scan_object: ScanObject, who: Any, files: list[tuple[str, str]], said: dict[str, Any] | None = None
) -> Job:
    """Queue the import of uploaded files, each its path and what the person calls it; `said` is what they say of them."""
    payload = {"files": [{"upload": path, "name": name} for path, name in files], "said": said or {}}
    title = f"Import “{files[0][1][:100]}”" if len(files) == 1 else f"Import {len(files)} files"
    return start(scan_object, who, "import", title, payload)


def start_bring(scan_object: ScanObject, who: Any, source_id: Any, titles: list[str]) -> Job:
    """Queue the copying of passes of another object, which the person sees too, as they are now."""
    source = objects_of(who).filter(pk=source_id).select_related("head").first()
    if source is None or source.head is None:
        raise core_door.InputError("There is no such object, or it has no passes yet.")
    known = [p["title"] for p in source.head.summary["passes"]]
    unknown = [t for t in titles if t not in known]
    if unknown:
        raise core_door.InputError(
            f"{source.title} has no pass {core_door.quoted(unknown[0])}; it has: {', '.join(known) or 'none'}."
        )
    payload = {"snapshot": str(source.head_id), "passes": titles}
    return start(scan_object, who, "bring", f"Bring over from “{source.title[:80]}”", payload)


def start_delivery(scan_object: ScanObject, who: Any, wishes: list[dict[str, Any]], told: dict[str, Any]) -> Job:
    """Queue what some receivers get of an object as it is now."""
    if scan_object.head_id is None:
        raise core_door.InputError("There is nothing to deliver yet: capture or bring in a scan first.")
    title = wishes[0]["title"] if len(wishes) == 1 else f"Deliver to {len(wishes)} receivers"
    payload = {"snapshot": str(scan_object.head_id), "wishes": wishes, "told": told}
    return start(scan_object, who, "deliver", title, payload)


def last_wishes(who: Any) -> dict[str, dict[str, Any]]:
    """What a person chose last for each receiver, of whatever object; nothing of somebody who only looks by a link."""
    out: dict[str, dict[str, Any]] = {}
    if who.pk is None:
        return out
    for payload in Job.objects.filter(who=who, kind="deliver").values_list("payload", flat=True)[:LAST_DELIVERIES]:
        for wish in payload["wishes"]:
            out.setdefault(wish["receiver"], wish["values"])
    return out


def cancel(job: Job) -> Job:
    """Ask a job to stop; a queued one stops at once."""
    from jobs.kinds import KINDS

    now = timezone.now()
    stopped = Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(
        state=Job.State.CANCELLED, message="Stopped before it began", finished=now, changed=now
    )
    if stopped:
        KINDS[job.kind].forget(job)
    Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(cancel_wish=True, changed=now)
    job.refresh_from_db()
    return job


def finish_capture(job: Job) -> Job:
    """Ask a running capture to end here and keep what it has."""
    return _wish(job, finish_wish=True)


def pause(job: Job) -> Job:
    """Ask a running capture to stand still before its next stop."""
    return _wish(job, pause_wish=True)


def go_on(job: Job) -> Job:
    """Let a capture that stands still go on."""
    return _wish(job, pause_wish=False)


def step_back(job: Job) -> Job:
    """Ask a running capture to throw its newest frame away and stand still there."""
    return _wish(job, pause_wish=True, back_wish=F("back_wish") + 1)


def shoot(job: Job) -> Job:
    """Ask a pass of single shots for the next one."""
    return _wish(job, shot_wish=F("shot_wish") + 1)


def _wish(job: Job, **wish: Any) -> Job:
    running = Job.objects.filter(pk=job.pk, kind="capture", state=Job.State.RUNNING)
    if not running.update(**wish, changed=timezone.now()):
        raise Busy("Only a capture that is under way can be ended, paused or stepped back.")
    job.refresh_from_db()
    return job


def can_run_again(job: Job) -> bool:
    """Whether a job that did not end well has all it needs to be run once more."""
    from jobs.kinds import KINDS

    return job.state in (Job.State.FAILED, Job.State.CANCELLED) and KINDS[job.kind].repeatable(job)


def run_again(job: Job) -> Job:
    """Queue a failed or stopped job once more; steps and frames that it finished are not repeated."""
    from jobs.kinds import KINDS

    room.need()
    with acting(job.scan_object_id, job.scan_object.owner, while_busy=True) as locked:
        job.refresh_from_db()
        if not can_run_again(job):
            ended_badly = job.state in (Job.State.FAILED, Job.State.CANCELLED)
            raise Busy(KINDS[job.kind].instead if ended_badly else NOT_AGAIN)
        if locked.jobs.under_way().exists():
            raise Busy
        Job.objects.filter(pk=job.pk).update(
            payload=_renewed(job.payload), state=Job.State.QUEUED, losses=0, cancel_wish=False, finish_wish=False,
            pause_wish=False, error="", message="Waiting", fraction=0, step=0, finished=None, changed=timezone.now(),
        )  # fmt: skip
        transaction.on_commit(lambda: _hand_over(job))
    job.refresh_from_db()
    return job


def _renewed(payload: dict[str, Any]) -> dict[str, Any]:
    """A job's payload; with a capture of another name when the first was thrown away: its frames are still in caches."""
    thrown_away = "capture" in payload and not Capture.objects.filter(pk=payload["capture"]).exists()
    return {**payload, "capture": str(uuid4())} if thrown_away else payload


def claim(job_id: str | UUID, slot: int = 0) -> Job | None:
    """Take a queued job for the worker of a slot, or None when somebody else has it or it was stopped."""
    now = timezone.now()
    with transaction.atomic():
        taken = Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(
            state=Job.State.RUNNING, started=now, lease_until=_lease(), changed=now, slot=slot, back_wish=0, shot_wish=0, waiting="",
            attempts=F("attempts") + 1,
        )  # fmt: skip
        return Job.objects.get(pk=job_id) if taken else None


def _lease() -> Any:
    return timezone.now() + timedelta(seconds=settings.JOB_LEASE_SECONDS)


def _at_turn(turn: Turn) -> Any:
    return Job.objects.filter(pk=turn.job, attempts=turn.attempt, state=Job.State.RUNNING)


def beat(turn: Turn, **fields: Any) -> Wishes | None:
    """Extend the lease and write progress; None when it is not this attempt's turn any more."""
    if not _at_turn(turn).update(lease_until=_lease(), changed=timezone.now(), **fields):
        return None
    wishes = _at_turn(turn).values_list("cancel_wish", "finish_wish", "pause_wish", "back_wish", "shot_wish").first()
    return Wishes(*wishes) if wishes else None


def end(
    turn: Turn, state: str, message: str, error: str = "", result: dict[str, Any] | None = None,
    log: list[Any] | None = None,
) -> bool:  # fmt: skip
    """Write how a job ended; False when it is not this attempt's turn any more."""
    fields: dict[str, Any] = {"result": result} if result is not None else {}
    if log is not None:
        fields["log"] = log
    if state == Job.State.DONE:
        fields["fraction"] = 1.0
    now = timezone.now()
    return bool(_at_turn(turn).update(
        state=state, message=message, error=error, finished=now, changed=now, seconds_left=None,
        lease_until=None, waiting="", **fields,
    ))  # fmt: skip


def rescue(slot: int | None = None, spare: Collection[Any] = ()) -> int:
    """Queue jobs again whose worker is gone; returns how many.

    At the start of a worker `slot` is its own: what runs there was left by the one before it. Besides, all whose lease
    ran out are lost, but for jobs in `spare`.
    """
    running = Job.objects.filter(state=Job.State.RUNNING)
    lost = running.filter(lease_until__lt=timezone.now()).exclude(pk__in=spare)
    if slot is not None:
        lost = lost | running.filter(slot=slot)
    queued = sum(_rescued(job) for job in lost)
    if slot is not None:
        for job in Job.objects.filter(state=Job.State.QUEUED):
            _hand_over(job)
    return queued


def _rescued(job: Job) -> bool:
    """End or queue again one job whose worker is gone."""
    from jobs.kinds import KINDS

    kind = KINDS[job.kind]
    if job.cancel_wish:
        kind.clean_up(job)
        end(job.turn, Job.State.CANCELLED, "Stopped on request")
        return False
    if job.losses + 1 >= settings.JOB_ATTEMPTS:
        following = "Run it again from the queue." if kind.repeatable(job) else kind.instead
        end(job.turn, Job.State.FAILED, "Interrupted", LOST.format(losses=job.losses + 1, next=following))
        return False
    queued = _at_turn(job.turn).update(
        state=Job.State.QUEUED, losses=F("losses") + 1, message="Interrupted; starting again", changed=timezone.now()
    )
    if queued:
        _hand_over(job)
    return bool(queued)
