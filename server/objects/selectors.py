"""Reading objects; every query is limited to what a person may see."""

from typing import Any

from django.db.models import Q, QuerySet
from django.utils import timezone

from accounts.visitors import Visitor
from objects.models import Capture, LookLink, ScanObject, Share, Snapshot, Step

STAGES = ("capture", "clean", "align", "fuse", "mend", "colour", "set", "deliver")


OWNER, WORK, LOOK = "owner", str(Share.Role.WORK), str(Share.Role.LOOK)


def objects_of(person: Any) -> QuerySet[ScanObject]:
    """The objects that a person owns or was given a share of, or that a visitor's links show."""
    if isinstance(person, Visitor):
        return ScanObject.objects.filter(pk__in=links_that_hold().filter(pk__in=person.links).values("scan_object"))
    shared = Share.objects.filter(person=person).values("scan_object")
    return ScanObject.objects.filter(Q(owner=person) | Q(pk__in=shared))


def links_that_hold() -> QuerySet[LookLink]:
    """Links that did not expire and were not taken back."""
    return LookLink.objects.filter(taken_back=False, expires__gt=timezone.now())


def role_of(scan_object: ScanObject, person: Any) -> str:
    """What a person who sees an object may do with it: owner, work or look."""
    if isinstance(person, Visitor):
        return LOOK
    if scan_object.owner_id == person.id:
        return OWNER
    return next((s.role for s in scan_object.shares.all() if s.person_id == person.id), LOOK)


def roles_of(person: Any) -> dict[Any, str]:
    """What a person may do with the objects that others share with them, by the object's id."""
    if isinstance(person, Visitor):
        return {pk: LOOK for pk in objects_of(person).values_list("pk", flat=True)}
    return dict(Share.objects.filter(person=person).values_list("scan_object_id", "role"))


def snapshots_of(person: Any) -> QuerySet[Snapshot]:
    """The snapshots of the objects that a person sees."""
    return Snapshot.objects.filter(scan_object__in=objects_of(person))


def captures_of(person: Any) -> QuerySet[Capture]:
    """The captures of the objects that a person sees."""
    return Capture.objects.filter(scan_object__in=objects_of(person))


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


def stage_states(reached: set[str], findings: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """For the thread of stages, of which some were reached: done, current or waiting, and how many findings wait there."""
    open_in = {stage: sum(f["stage"] == stage for f in findings) for stage in STAGES}
    out, current_seen = [], False
    for stage in STAGES:
        done = stage in reached and not open_in[stage]
        state = "done" if done else "waiting"
        if not done and not current_seen:
            state, current_seen = "current", True
        out.append({"name": stage, "state": state, "findings": open_in[stage]})
    return out
