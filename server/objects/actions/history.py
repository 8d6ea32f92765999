"""The run sheet: steps recorded, undone and redone."""

from typing import Any

from objects import core_door
from objects.actions.guard import acting, acting_job
from objects.actions.pictures import refresh_picture_soon
from objects.errors import NothingThere
from objects.models import ScanObject, Snapshot, Step
from objects.selectors import current_steps


def record_step(
    scan_object_id: Any, state: Any, checked: dict[str, Any], report: dict[str, Any], seconds: float,
    who_id: int | None, job_id: Any,
) -> Step:  # fmt: skip
    """Save a new state as a snapshot, append the step and move the head, all in one transaction."""
    manifest, summary, findings = core_door.save(state)
    with acting_job(scan_object_id) as scan_object:
        snapshot = Snapshot.objects.create(
            scan_object=scan_object, manifest=manifest, summary=summary, findings=findings
        )
        step = Step.objects.create(
            scan_object=scan_object, operation=checked["operation"], title=checked["title"],
            stage=checked["stage"], parameters=checked["parameters"], before_id=scan_object.head_id,
            after=snapshot, report=report, seconds=seconds, who_id=who_id, job=job_id,
        )  # fmt: skip
        scan_object.head = snapshot
        scan_object.save(update_fields=["head"])
    return step


def undo(object_id: Any, who: Any) -> Step:
    """Move the head to before the last step; nothing is overwritten."""
    with acting(object_id, who) as scan_object:
        done, _ = current_steps(scan_object)
        if not done:
            raise NothingThere("There is nothing to undo.")
        _move(scan_object, done[-1].before)
    refresh_picture_soon(scan_object)
    return done[-1]


def redo(object_id: Any, who: Any) -> Step:
    """Move the head to after the step that was undone last."""
    with acting(object_id, who) as scan_object:
        _, ahead = current_steps(scan_object)
        if not ahead:
            raise NothingThere("There is nothing to redo.")
        _move(scan_object, ahead[0].after)
    refresh_picture_soon(scan_object)
    return ahead[0]


def _move(scan_object: ScanObject, target: Snapshot | None) -> None:
    scan_object.head = target
    scan_object.save(update_fields=["head"])
