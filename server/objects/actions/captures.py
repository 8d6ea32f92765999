"""Captures that become passes, and what is left of those that do not."""

from functools import partial
from typing import Any

from objects import core_door
from objects.actions.guard import acting_job
from objects.actions.history import FinishedStep, record_step
from objects.models import Capture, ScanObject, Step
from objects.turn import Turn


def complete_capture(capture: Capture, who_id: int | None, turn: Turn | None, seconds: float) -> Step:
    """Make a capture whose folder is settled a pass of its object: row, snapshot and step in one transaction.

    A job's capture becomes a pass once, however often this is asked.
    """
    known = turn and Step.objects.filter(job=turn.job).first()
    if known:
        return known
    head = ScanObject.objects.select_related("head").get(pk=capture.scan_object_id).head
    state = core_door.with_new_pass(core_door.load(head and head.manifest), str(capture.id))
    checked = {
        "operation": "add_pass",
        "title": f"Capture “{capture.title}”, {capture.frames} frames",
        "stage": "capture",
        "parameters": {},
    }
    done = FinishedStep(checked, {"frames": capture.frames}, seconds, who_id, turn)
    capture.state = Capture.State.COMPLETE
    save = partial(capture.save, update_fields=["state", "frames", "title", "planned"])
    return record_step(capture.scan_object_id, head and head.id, state, done, save)


def add_arrival(
    scan_object: ScanObject, arrival: core_door.Arrival, who_id: int | None, turn: Turn, number: int, seconds: float
) -> Step:
    """Make what came in, as the n-th of its job, a pass of its object: row, snapshot and step in one transaction."""
    known = Step.objects.filter(job=turn.job, number=number).first()
    if known:
        return known
    head = ScanObject.objects.select_related("head").get(pk=scan_object.pk).head
    state = core_door.with_new_pass(core_door.load(head and head.manifest), arrival.key)
    title = state.passes[-1].title
    what = f"Capture “{title}”" if arrival.frames else f"Mesh “{title}”" if arrival.triangles else f"Points “{title}”"
    checked = {"operation": "add_pass", "title": what[:160], "stage": "capture", "parameters": {}}
    report = {"frames": arrival.frames, "points": arrival.points, "triangles": arrival.triangles}
    capture = Capture(
        id=arrival.key, scan_object=scan_object, title=title[:120], frames=arrival.frames, planned=arrival.frames,
        state=Capture.State.COMPLETE,
    )  # fmt: skip
    done = FinishedStep(checked, report, seconds, who_id, turn, number)
    return record_step(scan_object.pk, head and head.id, state, done, partial(capture.save, force_insert=True))


def drop_capture(object_id: Any, capture_id: str, turn: Turn) -> None:
    """Remove what a stopped or refused capture or import left behind, and nothing that a committed step names."""
    with acting_job(object_id, turn):
        if Step.objects.filter(job=turn.job).exists():
            return
        Capture.objects.filter(pk=capture_id, state=Capture.State.LIVE).delete()
        core_door.drop_capture(capture_id)
