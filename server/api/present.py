"""From rows to what the interface shows."""

from datetime import timedelta
from typing import Any

from django.conf import settings

from jobs.models import Job
from objects import core_door
from objects.models import Capture, ScanObject, Snapshot, Step
from objects.selectors import (
    OWNER,
    current_steps,
    objects_of,
    path_to,
    role_of,
    roles_of,
    stage_states,
    steps_by_end,
    thrown_away_by,
    told_findings,
)

NOTHING: dict[str, Any] = {"passes": [], "mesh": None, "upright": False}


def shelf(person: Any) -> list[dict[str, Any]]:
    """All objects that a person sees, read in a handful of queries however many there are."""
    rows = objects_of(person) | thrown_away_by(person)
    objects = list(rows.distinct().select_related("owner").prefetch_related("accepted"))
    roles = roles_of(person)
    # Steps that lead to what is shown are those that are not undone.
    done = Step.objects.filter(scan_object__in=objects, undone=None).order_by()
    reached: dict[Any, set[str]] = {}
    for pk, stage in done.values_list("scan_object_id", "stage").distinct():
        reached.setdefault(pk, set()).add(stage)
    heads = Snapshot.objects.defer("manifest").in_bulk([o.head_id for o in objects if o.head_id])
    jobs: dict[Any, Job] = {}
    for job in Job.objects.under_way().filter(scan_object__in=objects):
        jobs.setdefault(job.scan_object_id, job)
    return [
        shelf_item(o, roles.get(o.pk, OWNER), heads.get(o.head_id), jobs.get(o.pk), reached.get(o.pk, set()))
        for o in objects
    ]


def shelf_item(
    scan_object: ScanObject, role: str, head: Snapshot | None, job: Job | None, reached: set[str]
) -> dict[str, Any]:
    """One object on the shelf."""
    summary = head.summary if head else NOTHING
    findings = told_findings(scan_object, head)[0]
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
        "created": scan_object.created,
        "tags": scan_object.tags,
        "standing": _standing(summary, job),
        "archived": scan_object.archived is not None,
        "deleted": scan_object.deleted,
        "gone": scan_object.deleted and scan_object.deleted + timedelta(days=settings.KEEP_DELETED_DAYS),
    }


def _standing(summary: dict[str, Any], job: Job | None) -> str:
    if job is not None:
        return "computing"
    if not summary["passes"]:
        return "empty"
    mesh = summary["mesh"]
    if not mesh:
        return "captured"
    return "ready" if mesh["watertight"] and mesh["textured"] else "surface"


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


def bench(scan_object: ScanObject, person: Any, at: Any = None) -> dict[str, Any]:
    """All that the bench shows of an object, as it is or as it was at one of its snapshots."""
    done, ahead = current_steps(scan_object)
    shown = at or scan_object.head_id
    head = Snapshot.objects.defer("manifest").filter(pk=shown, scan_object=scan_object).first()
    summary = head.summary if head else NOTHING
    findings, accepted = told_findings(scan_object, head)
    return {
        "id": scan_object.id,
        "title": scan_object.title,
        "notes": scan_object.notes,
        "role": role_of(scan_object, person),
        "snapshot": head.id if head else None,
        "set_up": scan_object.set_up,
        "passes": summary["passes"],
        "mesh": summary["mesh"],
        "glance": bool(at and summary["mesh"] and core_door.wants_glance(summary["mesh"]["triangles"])),
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
        "accepted": accepted,
        "looked": head is None or head.looked is not None or shown != scan_object.head_id,
        "steps": [_step(s, False) for s in done] + [_step(s, True) for s in ahead],
        "branches": _branches(scan_object, [*done, *ahead]),
        "looking_back": shown != scan_object.head_id,
        "stages": stage_states({s.stage for s in done}, findings),
        "job": scan_object.jobs.under_way().first(),
        "held": Capture.objects.filter(scan_object=scan_object, state=Capture.State.HELD).order_by("created").first(),
    }


def _takes(summary: dict[str, Any], done: list[Any]) -> list[dict[str, Any]]:
    """The takes of a state, each with when it was fused."""
    fused = {s.report.get("take"): s.created for s in done if s.operation == "fuse"}
    return [{**take, "created": fused.get(take["name"])} for take in summary.get("takes", [])]


def _branches(scan_object: ScanObject, own: list[Step]) -> list[dict[str, Any]]:
    """The branches of an object, the one that is worked on first."""
    rows = list(scan_object.branches.all())
    if len(rows) < 2:
        paths = {b.pk: own for b in rows}
    else:
        by_after = steps_by_end(scan_object)
        paths = {b.pk: path_to(b.tip_id, by_after) for b in rows}
    tips = Snapshot.objects.filter(pk__in=[b.tip_id for b in rows]).values_list("pk", "summary__mesh__triangles")
    meshes = {pk: bool(triangles) for pk, triangles in tips}
    mine = {s.pk for s in own}
    out = []
    for branch in sorted(rows, key=lambda b: (b.pk != scan_object.branch_id, -b.pk)):
        path = paths[branch.pk]
        shared = [s for s in path if s.pk in mine]
        out.append({
            "id": branch.pk, "name": branch.name, "current": branch.pk == scan_object.branch_id, "steps": len(path),
            "own": len(path) - len(shared), "parts_at": shared[-1].title if shared else "",
            "last": path[-1].title if path else "", "tip": branch.tip_id, "surface": meshes.get(branch.tip_id, False),
            "created": branch.created,
        })  # fmt: skip
    return out


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
        "known": step.known,
        "who": step.who.username if step.who else "",
        "version": step.version,
        "before": step.before_id,
        "after": step.after_id,
        "created": step.created,
    }
