"""Changing objects: every act is one function, and leaves a step where data changed."""

import shutil
from typing import Any

from django.conf import settings
from django.db import transaction

from objects import core_door
from objects.models import Capture, ScanObject, Snapshot, Step
from objects.selectors import current_steps


class NothingThere(Exception):
    """There is nothing to undo or redo."""


def create_object(owner: Any, title: str, notes: str = "", demo_model: str = "") -> ScanObject:
    """A new, empty object."""
    return ScanObject.objects.create(owner=owner, title=title, notes=notes, demo_model=demo_model)


def delete_object(scan_object: ScanObject) -> None:
    """Delete an object with its captures; stored arrays stay, they may be shared."""
    keys = [str(c.id) for c in scan_object.captures.all()]
    picture = picture_path(scan_object)
    scan_object.delete()
    for key in keys:
        core_door.drop_capture(key)
    picture.unlink(missing_ok=True)


def picture_path(scan_object: ScanObject) -> Any:
    """Where the object's shelf picture lies."""
    return settings.DATA / "pictures" / f"{scan_object.id}.png"


def record_step(
    scan_object_id: Any, state: Any, checked: dict[str, Any], report: dict[str, Any], seconds: float,
    who_id: int | None, job_id: Any,
) -> Step:  # fmt: skip
    """Save a new state as a snapshot, append the step and move the head, all in one transaction."""
    manifest, summary, findings = core_door.save(state)
    with transaction.atomic():
        scan_object = ScanObject.objects.select_for_update().get(pk=scan_object_id)
        snapshot = Snapshot.objects.create(
            scan_object=scan_object, manifest=manifest, summary=summary, findings=findings
        )
        step = Step.objects.create(
            scan_object=scan_object, operation=checked["operation"], title=checked["title"],
            stage=checked["stage"], parameters=checked["parameters"], before_id=scan_object.head_id,
            after=snapshot, report=report, seconds=seconds, who_id=who_id, job=job_id,
        )  # fmt: skip
        scan_object.head = snapshot
        scan_object.save(update_fields=["head", "changed"])
    return step


def refresh_picture(scan_object: ScanObject) -> None:
    """Draw the shelf picture of the head anew; an object without surface has none."""
    head = scan_object.head
    if head is None or not (head.manifest["mesh"] or head.manifest["passes"]):
        picture_path(scan_object).unlink(missing_ok=True)
        return
    core_door.write_picture(head.manifest, picture_path(scan_object))


def complete_capture(capture: Capture, who_id: int | None, job_id: Any, seconds: float) -> Step:
    """Make a finished capture a pass of its object."""
    scan_object = capture.scan_object
    head = scan_object.head.manifest if scan_object.head else None
    state = core_door.with_new_pass(core_door.load(head), str(capture.id))
    capture.state = Capture.State.COMPLETE
    capture.save(update_fields=["state", "frames", "title"])
    checked = {
        "operation": "add_pass",
        "title": f"Capture “{capture.title}”, {capture.frames} frames",
        "stage": "capture",
        "parameters": {},
    }
    step = record_step(scan_object.id, state, checked, {"frames": capture.frames}, seconds, who_id, job_id)
    scan_object.refresh_from_db()
    refresh_picture(scan_object)
    return step


def undo(scan_object: ScanObject) -> Step:
    """Move the head to before the last step; nothing is overwritten."""
    done, _ = current_steps(scan_object)
    if not done:
        raise NothingThere("There is nothing to undo.")
    return _move(scan_object, done[-1], done[-1].before)


def redo(scan_object: ScanObject) -> Step:
    """Move the head to after the step that was undone last."""
    _, ahead = current_steps(scan_object)
    if not ahead:
        raise NothingThere("There is nothing to redo.")
    return _move(scan_object, ahead[0], ahead[0].after)


def _move(scan_object: ScanObject, step: Step, target: Snapshot | None) -> Step:
    scan_object.head = target
    scan_object.save(update_fields=["head", "changed"])
    refresh_picture(scan_object)
    return step


def delete_upload(path: Any) -> None:
    """Remove an uploaded file or a folder left by one."""
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
