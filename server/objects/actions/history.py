"""The run sheet: steps recorded, undone and redone."""

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from django.utils import timezone

from objects import core_door
from objects.actions import branches
from objects.actions.guard import acting, acting_job
from objects.errors import NothingThere, Superseded
from objects.models import ScanObject, Snapshot, Step
from objects.selectors import current_steps
from objects.turn import Turn

ADDED = "add_pass"  # what a capture or a file gave; no operation


@dataclass(frozen=True)
class FinishedStep:
    """What is to be recorded of a step: what ran, what it reports, and at whose turn; number counts within its job."""

    checked: dict[str, Any]
    report: dict[str, Any]
    seconds: float
    who_id: int | None
    turn: Turn | None
    number: int = 0


def record_step(
    object_id: Any, before_id: Any, state: Any, done: FinishedStep, within: Callable[[], object] | None = None
) -> Step:
    """Save a new state as a snapshot, append the step and move the head, all in one transaction with `within`.

    Raises `Superseded` when the head is not `before_id` any more or it is not this attempt's turn. What is stored is
    safe from the collection until the snapshot names it. The step's seconds count storing too.
    """
    begun = time.perf_counter()
    with core_door.storing():
        manifest, summary, findings = core_door.save(state)
        with acting_job(object_id, done.turn) as scan_object:
            if scan_object.head_id != before_id:
                raise Superseded
            if within is not None:
                within()
            snapshot = Snapshot.objects.create(
                scan_object=scan_object, manifest=manifest, summary=summary, findings=findings
            )
            key = ""
            if done.checked["operation"] != ADDED:
                before = Snapshot.objects.filter(pk=before_id).values_list("manifest", flat=True).first()
                key = core_door.key_of_step(before, done.checked["operation"], done.checked["parameters"])
            whole = replace(done, seconds=done.seconds + time.perf_counter() - begun)
            return _append(scan_object, before_id, snapshot, whole, key)


def recalled_step(object_id: Any, before_id: Any, done: FinishedStep) -> Step | None:
    """Record a step whose result is known, as the same was worked out of the same before; None when it was not.

    Raises what `record_step` raises.
    """
    manifest = Snapshot.objects.filter(pk=before_id).values_list("manifest", flat=True).first()
    key = core_door.key_of_step(manifest, done.checked["operation"], done.checked["parameters"])
    found = Step.objects.filter(scan_object_id=object_id, key=key).select_related("after").first()
    if found is None:
        return None
    with acting_job(object_id, done.turn) as scan_object:
        if scan_object.head_id != before_id:
            raise Superseded
        same = Snapshot.objects.create(
            scan_object=scan_object, manifest=found.after.manifest, summary=found.after.summary,
            findings=found.after.findings, looked=found.after.looked,
        )  # fmt: skip
        return _append(scan_object, before_id, same, replace(done, report=found.report, seconds=0.0), key, known=True)


def add_again(object_id: Any, before_id: Any, after_id: Any, done: FinishedStep) -> Step:
    """Record once more that a pass was added, as it came into another branch."""
    before = Snapshot.objects.get(pk=before_id).manifest if before_id else None
    state = core_door.with_pass_again(core_door.load(before), Snapshot.objects.get(pk=after_id).manifest)
    return record_step(object_id, before_id, state, done)


def _append(
    scan_object: ScanObject, before_id: Any, after: Snapshot, done: FinishedStep, key: str, known: bool = False
) -> Step:
    step = Step.objects.create(
        scan_object=scan_object, operation=done.checked["operation"], title=done.checked["title"],
        stage=done.checked["stage"], parameters=done.checked["parameters"], before_id=before_id, after=after,
        report=done.report, seconds=done.seconds, who_id=done.who_id, job=done.turn and done.turn.job,
        number=done.number, version=core_door.VERSION, key=key, known=known,
    )  # fmt: skip
    branches.move_head(scan_object, after)
    return step


def undo(object_id: Any, who: Any) -> Step:
    """Move the head to before the last step; nothing is overwritten."""
    with acting(object_id, who) as scan_object:
        branches.tend(scan_object)
        done, _ = current_steps(scan_object)
        if not done:
            raise NothingThere("There is nothing to undo.")
        Step.objects.filter(pk=done[-1].pk).update(undone=timezone.now())
        branches.move_head(scan_object, done[-1].before)
    return done[-1]


def redo(object_id: Any, who: Any) -> Step:
    """Move the head to after the step that was undone last."""
    with acting(object_id, who) as scan_object:
        _, ahead = current_steps(scan_object)
        if not ahead:
            raise NothingThere("There is nothing to redo.")
        Step.objects.filter(pk=ahead[0].pk).update(undone=None)
        branches.move_head(scan_object, ahead[0].after)
    return ahead[0]
