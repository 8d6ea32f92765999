"""From rows to what the interface shows."""

from typing import Any

from jobs.models import Job
from objects import core_door
from objects.actions import picture_path
from objects.models import ScanObject
from objects.selectors import current_steps, stage_states


def shelf_item(scan_object: ScanObject) -> dict[str, Any]:
    """One object on the shelf."""
    done, _ = current_steps(scan_object)
    head = scan_object.head
    summary = head.summary if head else {"passes": [], "mesh": None}
    findings = head.findings if head else []
    job = scan_object.jobs.under_way().first()
    picture = picture_path(scan_object)
    return {
        "id": scan_object.id,
        "title": scan_object.title,
        "notes": scan_object.notes,
        "size_mm": max(summary["mesh"]["size_mm"]) if summary["mesh"] else None,
        "passes": len(summary["passes"]),
        "state": _in_words(summary, findings, job),
        "stages": stage_states(done, findings),
        "picture": f"/api/objects/{scan_object.id}/picture?v={int(picture.stat().st_mtime)}"
        if picture.exists()
        else None,
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


def bench(scan_object: ScanObject) -> dict[str, Any]:
    """All that the bench shows of an object."""
    done, ahead = current_steps(scan_object)
    head = scan_object.head
    summary = head.summary if head else {"passes": [], "mesh": None, "upright": False}
    findings = head.findings if head else []
    return {
        "id": scan_object.id,
        "title": scan_object.title,
        "notes": scan_object.notes,
        "snapshot": head.id if head else None,
        "passes": summary["passes"],
        "mesh": summary["mesh"],
        "points": summary.get("points", 0),
        "upright": summary["upright"],
        "fused": summary.get("voxel_mm") is not None,
        "findings": findings,
        "steps": [_step(s, False) for s in done] + [_step(s, True) for s in ahead],
        "stages": stage_states(done, findings),
        "job": scan_object.jobs.under_way().first(),
    }


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
