"""Captures that become passes, and what is left of those that do not."""

from collections.abc import Callable
from functools import partial
from typing import Any

from django.http import Http404

from objects import core_door
from objects.actions.guard import acting, acting_job
from objects.actions.history import FinishedStep, record_step
from objects.errors import NothingThere, Refused
from objects.models import Capture, ScanObject, Step
from objects.selectors import objects_of
from objects.turn import Turn

NOT_HELD = "This pass was accepted or thrown away already."


def complete_capture(capture: Capture, who_id: int | None, turn: Turn | None, seconds: float) -> Step:
    """Make a capture whose folder is settled a pass of its object: row, snapshot and step in one transaction.

    A job's capture becomes a pass once, however often this is asked.
    """
    known = turn and Step.objects.filter(job=turn.job).first()
    return known or _complete(capture, who_id, turn, seconds, {}, 0, None)


def hold_capture(capture: Capture, turn: Turn) -> None:
    """Keep a capture whose folder is settled until somebody accepts it or throws it away."""
    with acting_job(capture.scan_object_id, turn):
        capture.state = Capture.State.HELD
        capture.save(update_fields=["state", "frames", "planned"])


def accept_capture(capture_id: Any, who: Any, first: int = 0, last: int | None = None) -> Step:
    """Make a held capture a pass of its object, with the frames first to last; the others stay out of it.

    Raises `Busy` when the object has a job under way, `NothingThere` when the capture is not held.
    """
    capture = _held(capture_id, who)
    end = capture.frames - 1 if last is None else last
    if not 0 <= first <= end < capture.frames:
        raise Refused(f"Keep frames of 1 to {capture.frames}, the first before the last.")
    kept = {"first": first + 1, "last": end + 1} if end - first + 1 < capture.frames else {}
    return _complete(capture, who.id, None, 0.0, kept, first, end)


def throw_away_capture(capture_id: Any, who: Any) -> None:
    """Delete a held capture; raises what `accept_capture` raises."""
    capture = _held(capture_id, who)
    with acting(capture.scan_object_id, who, while_busy=True):
        if not Capture.objects.filter(pk=capture.pk, state=Capture.State.HELD).delete()[0]:
            raise NothingThere(NOT_HELD)
    core_door.drop_capture(str(capture.pk))


def _held(capture_id: Any, who: Any) -> Capture:
    capture = Capture.objects.filter(pk=capture_id, scan_object__in=objects_of(who)).first()
    if capture is None:
        raise Http404
    with acting(capture.scan_object_id, who):
        if capture.state != Capture.State.HELD:
            raise NothingThere(NOT_HELD)
    return capture


def _complete(
    capture: Capture, who_id: int | None, turn: Turn | None, seconds: float, kept: dict[str, int], first: int,
    last: int | None,
) -> Step:  # fmt: skip
    head = ScanObject.objects.select_related("head").get(pk=capture.scan_object_id).head
    state = core_door.with_new_pass(core_door.load(head and head.manifest), str(capture.id), first, last)
    frames = kept["last"] - kept["first"] + 1 if kept else capture.frames
    checked = {
        "operation": "add_pass",
        "title": f"Capture “{capture.title}”, {frames} frames",
        "stage": "capture",
        "parameters": kept,
    }
    done = FinishedStep(checked, {"frames": frames}, seconds, who_id, turn)
    capture.state = Capture.State.COMPLETE
    save = partial(capture.save, update_fields=["state", "frames", "title", "planned"])
    return record_step(capture.scan_object_id, head and head.id, state, done, save)


def add_arrival(
    scan_object: ScanObject, arrival: core_door.Arrival, who_id: int | None, turn: Turn, number: int, seconds: float
) -> Step:
    """Make what came in, as the n-th of its job, a pass of its object: row, snapshot and step in one transaction."""
    what = "Capture" if arrival.frames else "Mesh" if arrival.triangles else "Points"
    report = {"frames": arrival.frames, "points": arrival.points, "triangles": arrival.triangles}
    return _add(
        scan_object, arrival.key, what, report, who_id, turn, number, seconds,
        lambda state: core_door.with_new_pass(state, arrival.key),
    )  # fmt: skip


def add_copy(
    scan_object: ScanObject, scan: Any, key: str, who_id: int | None, turn: Turn, number: int, seconds: float
) -> Step:
    """Make a pass of another object, copied under a key of its own, a pass of this one."""
    report = {"frames": scan.frame_count, "points": 0 if scan.cloud is None else len(scan.cloud), "triangles": 0}
    return _add(
        scan_object, key, "Brought over", report, who_id, turn, number, seconds,
        lambda state: core_door.with_pass_added(state, scan),
    )  # fmt: skip


def _add(
    scan_object: ScanObject, key: str, what: str, report: dict[str, int], who_id: int | None, turn: Turn, number: int,
    seconds: float, added: Callable[[Any], Any],
) -> Step:  # fmt: skip
    known = Step.objects.filter(job=turn.job, number=number).first()
    if known:
        return known
    head = ScanObject.objects.select_related("head").get(pk=scan_object.pk).head
    state = added(core_door.load(head and head.manifest))
    title = state.passes[-1].title
    checked = {"operation": "add_pass", "title": f"{what} “{title}”"[:160], "stage": "capture", "parameters": {}}
    capture = Capture(
        id=key, scan_object=scan_object, title=title[:120], frames=report["frames"], planned=report["frames"],
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
