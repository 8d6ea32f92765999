"""The run sheet: steps recorded, undone and redone."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.utils import timezone

from objects import core_door
from objects.actions.guard import acting, acting_job
from objects.errors import NothingThere, Superseded
from objects.models import ScanObject, Snapshot, Step
from objects.selectors import current_steps
from objects.turn import Turn


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
    safe from the collection until the snapshot names it.
    """
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
            step = Step.objects.create(
                scan_object=scan_object, operation=done.checked["operation"], title=done.checked["title"],
                stage=done.checked["stage"], parameters=done.checked["parameters"], before_id=before_id,
                after=snapshot, report=done.report, seconds=done.seconds, who_id=done.who_id,
                job=done.turn and done.turn.job, number=done.number,
            )  # fmt: skip
            _move(scan_object, snapshot)
    return step


def undo(object_id: Any, who: Any) -> Step:
    """Move the head to before the last step; nothing is overwritten."""
    with acting(object_id, who) as scan_object:
        done, _ = current_steps(scan_object)
        if not done:
            raise NothingThere("There is nothing to undo.")
        Step.objects.filter(pk=done[-1].pk).update(undone=timezone.now())
        _move(scan_object, done[-1].before)
    return done[-1]


def redo(object_id: Any, who: Any) -> Step:
    """Move the head to after the step that was undone last."""
    with acting(object_id, who) as scan_object:
        _, ahead = current_steps(scan_object)
        if not ahead:
            raise NothingThere("There is nothing to redo.")
        Step.objects.filter(pk=ahead[0].pk).update(undone=None)
        _move(scan_object, ahead[0].after)
    return ahead[0]


def _move(scan_object: ScanObject, target: Snapshot | None) -> None:
    scan_object.head = target
    scan_object.save(update_fields=["head"])
