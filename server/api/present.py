"""From rows to what the interface shows."""

from typing import Any
from uuid import UUID

from django.db.models import TextField
from django.db.models.functions import Cast

from jobs.models import Job
from objects import core_door
from objects.models import Capture, ScanObject, Snapshot, Step
from objects.selectors import OWNER, current_steps, objects_of, role_of, roles_of, stage_states

NOTHING: dict[str, Any] = {"passes": [], "mesh": None, "upright": False}


def shelf(person: Any) -> list[dict[str, Any]]:
    """All objects that a person sees, read in a handful of queries however many there are."""
    objects = list(objects_of(person).select_related("owner"))
    roles = roles_of(person)
    # The stage of the step that led to a snapshot, and what was before it; ids as texts, which thousands of rows are
    # read as twice as fast.
    led_by: dict[str | None, tuple[str, str | None]] = {}
    steps = Step.objects.filter(scan_object__in=objects_of(person))
    texts = steps.annotate(was=Cast("before", TextField()), now=Cast("after", TextField()))
    for stage, before, after in texts.values_list("stage", "was", "now"):
        led_by[after] = (stage, before)
    heads = Snapshot.objects.defer("manifest").in_bulk([o.head_id for o in objects if o.head_id])
    jobs: dict[Any, Job] = {}
    for job in Job.objects.under_way().filter(scan_object__in=objects):
        jobs.setdefault(job.scan_object_id, job)
    return [
        shelf_item(o, roles.get(o.pk, OWNER), heads.get(o.head_id), jobs.get(o.pk), _reached(o.head_id, led_by))
        for o in objects
    ]


def _reached(head: UUID | None, led_by: dict[str | None, tuple[str, str | None]]) -> set[str]:
    """The stages of the steps that led to a snapshot."""
    stages = set()
    at = head.hex if head else None
    while at in led_by:
        stage, at = led_by[at]
        stages.add(stage)
    return stages


def shelf_item(
    scan_object: ScanObject, role: str, head: Snapshot | None, job: Job | None, reached: set[str]
) -> dict[str, Any]:
    """One object on the shelf."""
    summary = head.summary if head else NOTHING
    findings = head.findings if head else []
    has_picture = bool(summary["mesh"] or summary["passes"])
    return {
        "id": scan_object.id,
        "title": scan_object.title,
        "notes": scan_object.notes,
        "size_mm": max(summary["mesh"]["size_mm"]) if summary["mesh"] else None,
        "passes": len(summary["passes"]),
        "state": _in_words(summary, findings, job),
        "stages": stage_states(reached, findings),
        "picture": f"/api/objects/{scan_object.id}/picture?v={scan_object.head_id}" if has_picture else None,
        "room_bytes": scan_object.room_bytes,
        "role": role,
        "owner": "" if role == OWNER else scan_object.owner.username,
        "changed": scan_object.changed,
    }


def _in_words(summary: dict[str, Any], findings: list[dict[str, Any]], job: Job | None) -> str:
    if job is not None:
        return (
            f"{job.title.lower()}, {job.fraction:.0%}"
            if job.state == Job.State.RUNNING
            else f"{job.title.lower()}, waiting"
        )
    if not summary["passes"]:
        return "not captured yet"
    if summary["mesh"] and summary["mesh"]["watertight"] and summary["mesh"]["textured"]:
        return "ready to deliver"
    count = len(findings)
    return f"{len(summary['passes'])} {'pass' if len(summary['passes']) == 1 else 'passes'} · {count} finding{'' if count == 1 else 's'}"


def bench(scan_object: ScanObject, person: Any) -> dict[str, Any]:
    """All that the bench shows of an object."""
    done, ahead = current_steps(scan_object)
    head = Snapshot.objects.defer("manifest").filter(pk=scan_object.head_id).first()
    summary = head.summary if head else NOTHING
    findings = head.findings if head else []
    return {
        "id": scan_object.id,
        "title": scan_object.title,
        "notes": scan_object.notes,
        "role": role_of(scan_object, person),
        "snapshot": head.id if head else None,
        "set_up": scan_object.set_up,
        "passes": summary["passes"],
        "mesh": summary["mesh"],
        "points": summary.get("points", 0),
        "upright": summary["upright"],
        "fused": summary.get("voxel_mm") is not None,
        "takes": _takes(summary, done),
        "of_take": summary.get("of_take"),
        "adjust": summary.get("adjust"),
        "roughness": summary.get("roughness", core_door.USUAL_ROUGHNESS),
        "lengths": summary.get("lengths", []),
        "scale": summary.get("scale"),
        "findings": findings,
        "steps": [_step(s, False) for s in done] + [_step(s, True) for s in ahead],
        "stages": stage_states({s.stage for s in done}, findings),
        "job": scan_object.jobs.under_way().first(),
        "held": Capture.objects.filter(scan_object=scan_object, state=Capture.State.HELD).order_by("created").first(),
    }


def _takes(summary: dict[str, Any], done: list[Any]) -> list[dict[str, Any]]:
    """The takes of a state, each with when it was fused."""
    fused = {s.report.get("take"): s.created for s in done if s.operation == "fuse"}
    return [{**take, "created": fused.get(take["name"])} for take in summary.get("takes", [])]


def _step(step: Any, undone: bool) -> dict[str, Any]:
    return {
        "id": step.id,
        "operation": step.operation,
        "title": step.title,
        "stage": step.stage,
        "seconds": step.seconds,
        "parameters": step.parameters,
        "report": step.report,
        "headline": core_door.headline(step.operation, step.report),
        "undone": undone,
        "created": step.created,
    }
