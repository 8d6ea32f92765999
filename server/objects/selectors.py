"""Reading objects; every query is limited to what a person may see."""

from collections.abc import Mapping, Sequence
from typing import Any

from django.db.models import Q, QuerySet
from django.utils import timezone

from accounts.visitors import Visitor
from objects.models import AcceptedFinding, Capture, LookLink, ScanObject, Share, Snapshot, Step

STAGES = ("capture", "clean", "align", "fuse", "mend", "colour", "set", "deliver")


OWNER, WORK, LOOK = "owner", str(Share.Role.WORK), str(Share.Role.LOOK)


def objects_of(person: Any) -> QuerySet[ScanObject]:
    """The objects that a person owns or was given a share of, or that a visitor's links show; none that is thrown away."""
    there = ScanObject.objects.filter(deleted=None)
    if isinstance(person, Visitor):
        return there.filter(pk__in=links_that_hold().filter(pk__in=person.links).values("scan_object"))
    shared = Share.objects.filter(person=person).values("scan_object")
    return there.filter(Q(owner=person) | Q(pk__in=shared))


def thrown_away_by(person: Any) -> QuerySet[ScanObject]:
    """What a person threw away and may still take back."""
    if isinstance(person, Visitor):
        return ScanObject.objects.none()
    return ScanObject.objects.filter(owner=person).exclude(deleted=None)


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
    """The steps that led to the head, in order, and those of the branch that redo would bring back."""
    by_after = steps_by_end(scan_object)
    tip = scan_object.branch.tip_id if scan_object.branch else None
    done = path_to(scan_object.head_id, by_after)
    whole = path_to(tip, by_after)
    on_it = [s.pk for s in whole[: len(done)]] == [s.pk for s in done]
    return done, whole[len(done) :] if on_it else []


def steps_by_end(scan_object: ScanObject) -> dict[Any, Step]:
    """All steps of an object by the snapshot that they led to."""
    return {s.after_id: s for s in scan_object.steps.select_related("who")}


def links_of(scan_object: ScanObject) -> dict[Any, Step]:
    """The same with nothing of the steps but where they lead from and to."""
    return {s.after_id: s for s in scan_object.steps.only("id", "before_id", "after_id", "scan_object_id")}


def path_to(snapshot_id: Any, by_after: dict[Any, Step]) -> list[Step]:
    """The steps from the beginning to a snapshot, in order."""
    path = []
    while snapshot_id in by_after:
        path.append(by_after[snapshot_id])
        snapshot_id = by_after[snapshot_id].before_id
    return path[::-1]


OFTEN = 3  # times of a step as it is to be done, of which the least is taken
LATELY = 30  # steps of an operation whose seconds say what it usually takes


def usual_seconds(object_id: Any, steps: Sequence[Mapping[str, Any]]) -> list[float | None]:
    """What steps took, each with its `operation` and `parameters`: the last times on this object, with the same numbers and
    after the same step if it was ever so done; else in the middle of the last times on any; None of what was never done.
    """
    told = ("operation", "parameters", "seconds", "known", "before_id", "after_id")
    mine = list(Step.objects.filter(scan_object_id=object_id).order_by("-id").values(*told))
    led = {row["after_id"]: row for row in mine}
    out: list[float | None] = []
    for previous, step in zip([None, *steps], steps, strict=False):
        own = [r for r in mine if r["operation"] == step["operation"] and not r["known"] and r["seconds"] > 0]
        # What else ran then only made it longer; how the computer does now the pace tells.
        out.append(min(_nearest(own, step, previous, led)) if own else _lately(step["operation"]))
    return out


def _nearest(
    own: list[dict[str, Any]], step: Mapping[str, Any], previous: Mapping[str, Any] | None, led: Mapping[Any, Any]
) -> list[float]:
    """The seconds of those recorded steps, newest first, that are most like another one after a previous one."""
    likeness = [(_same(row, step), _same(led.get(row["before_id"]), previous)) for row in own]
    best = max(likeness)
    return [row["seconds"] for row, like in zip(own, likeness, strict=True) if like == best][:OFTEN]


def _same(row: Mapping[str, Any] | None, step: Mapping[str, Any] | None) -> bool:
    """Whether a recorded step did what another one is to do."""
    return bool(row and step) and all(row[name] == step[name] for name in ("operation", "parameters"))


def _lately(operation: str) -> float | None:
    computed = Step.objects.filter(operation=operation, known=False, seconds__gt=0).order_by("-id")
    lately = sorted(computed.values_list("seconds", flat=True)[:LATELY])
    return lately[len(lately) // 2] if lately else None


# What findings of earlier versions may lack:
BARE = {"kind": "", "about": "", "title": "", "detail": "", "figure": "", "operation": None, "place": None}
NEAR_SHARE = 0.04  # of the object's size within which a finding is the one that was accepted


def told_findings(scan_object: ScanObject, shown: Snapshot | None) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """What is wrong with a state and not accepted, each with a name of its own; and what is, with the word why."""
    if shown is None:
        return [], []
    found = named_findings(shown)
    size = _size(shown.summary)
    told, accepted = [], []
    left = list(scan_object.accepted.all())
    for finding in found:
        by = next((a for a in left if _means(a, finding, size)), None)
        if by is None:
            told.append(finding)
        else:
            left.remove(by)
            who = by.who.username if by.who else ""
            accepted.append({**finding, "id": by.pk, "word": by.word, "who": who, "created": by.created})
    return told, accepted


def named_findings(shown: Snapshot) -> list[dict[str, Any]]:
    """All findings of a state, from its figures and from a closer look, none twice, each with a name of its own."""
    out: dict[str, dict[str, Any]] = {}
    for finding in [*shown.findings, *(shown.looked or [])]:
        whole = {**BARE, **finding}
        place = ",".join(f"{v:.1f}" for v in whole["place"] or ())
        name = f"{whole['kind']}|{whole['about']}|{place or whole['title']}"
        out.setdefault(name, {**whole, "name": name})
    return list(out.values())


def _size(summary: dict[str, Any]) -> float:
    """How large an object is (mm); 100 as long as nobody knows."""
    mesh = summary.get("mesh")
    return max(mesh["size_mm"]) if mesh else 100.0


def _means(accepted: AcceptedFinding, finding: dict[str, Any], size: float) -> bool:
    """Whether a finding is the one that was accepted: of that kind and pass, at that place, or of just that figure."""
    if (accepted.kind, accepted.about) != (finding["kind"], finding["about"]):
        return False
    if accepted.place is None or finding["place"] is None:
        return True
    apart = sum((a - b) ** 2 for a, b in zip(accepted.place, finding["place"], strict=True)) ** 0.5
    same = bool(accepted.figure) and accepted.figure == finding["figure"]
    return same or apart <= NEAR_SHARE * size


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
