"""Reading objects; every query is limited to what a person may see."""

from typing import Any

from django.db.models import QuerySet

from objects.models import Capture, ScanObject, Snapshot, Step

STAGES = ("capture", "clean", "align", "fuse", "mend", "colour", "set", "deliver")


def objects_of(user: Any) -> QuerySet[ScanObject]:
    """The objects a person owns."""
    return ScanObject.objects.filter(owner=user).select_related("head")


def snapshots_of(user: Any) -> QuerySet[Snapshot]:
    """The snapshots of a person's objects."""
    return Snapshot.objects.filter(scan_object__owner=user)


def captures_of(user: Any) -> QuerySet[Capture]:
    """The captures of a person's objects."""
    return Capture.objects.filter(scan_object__owner=user)


def current_steps(scan_object: ScanObject) -> tuple[list[Step], list[Step]]:
    """The steps that led to the head, in order, and those that redo would bring back."""
    steps = list(scan_object.steps.all())
    by_after = {s.after_id: s for s in steps}
    done, at = [], scan_object.head_id
    while at in by_after:
        done.append(by_after[at])
        at = by_after[at].before_id
    ahead, at = [], scan_object.head_id
    while True:
        following = [s for s in steps if s.before_id == at]
        if not following:
            break
        ahead.append(following[-1])
        at = following[-1].after_id
    return done[::-1], ahead


def stage_states(steps: list[Step], findings: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """For the thread of stages: done, current or waiting, with how many findings wait there."""
    reached = {s.stage for s in steps}
    open_in = {stage: sum(f["stage"] == stage for f in findings) for stage in STAGES}
    out, current_seen = [], False
    for stage in STAGES:
        done = stage in reached and not open_in[stage]
        state = "done" if done else "waiting"
        if not done and not current_seen:
            state, current_seen = "current", True
        out.append({"name": stage, "state": state, "findings": open_in[stage]})
    return out
