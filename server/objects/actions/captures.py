"""Captures that become passes."""

from typing import Any

from objects import core_door
from objects.actions.guard import acting_job
from objects.actions.history import record_step
from objects.actions.pictures import refresh_picture
from objects.models import Capture, Step


def complete_capture(capture: Capture, who_id: int | None, job_id: Any, seconds: float) -> Step:
    """Make a finished capture a pass of its object, in one transaction; the picture comes after it."""
    checked = {
        "operation": "add_pass",
        "title": f"Capture “{capture.title}”, {capture.frames} frames",
        "stage": "capture",
        "parameters": {},
    }
    with acting_job(capture.scan_object_id) as scan_object:
        head = scan_object.head.manifest if scan_object.head else None
        state = core_door.with_new_pass(core_door.load(head), str(capture.id))
        capture.state = Capture.State.COMPLETE
        capture.save(update_fields=["state", "frames", "title", "planned"])
        step = record_step(scan_object.id, state, checked, {"frames": capture.frames}, seconds, who_id, job_id)
    scan_object.refresh_from_db()
    refresh_picture(scan_object)
    return step
