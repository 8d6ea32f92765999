"""Whole objects as rows: told for a bundle, and made of one."""

from pathlib import Path
from typing import Any

from django.utils.dateparse import parse_datetime

from objects import core_door
from objects.actions.guard import acting_job
from objects.errors import Refused
from objects.models import Capture, ScanObject, Snapshot, Step
from objects.turn import Turn

NOT_EMPTY = (
    "This bundle is a whole object of its own: drop it on the shelf, not into an object that has passes already."
)
OF_CAPTURE = ("title", "frames", "planned", "instrument")
OF_STEP = ("operation", "title", "stage", "parameters", "report", "seconds")


def bundle_document(scan_object: ScanObject) -> dict[str, Any]:
    """All rows of an object, as plain JSON: what it is, its complete captures, its snapshots and its steps in order."""
    captures = scan_object.captures.filter(state=Capture.State.COMPLETE).order_by("created")
    return {
        "object": {
            "title": scan_object.title,
            "notes": scan_object.notes,
            "demo_model": scan_object.demo_model,
            "set_up": scan_object.set_up,
            "head": str(scan_object.head_id) if scan_object.head_id else None,
        },
        "captures": [{"id": str(c.pk), **{name: getattr(c, name) for name in OF_CAPTURE}} for c in captures],
        "snapshots": [
            {"id": str(s.pk), "manifest": s.manifest, "summary": s.summary, "findings": s.findings}
            for s in scan_object.snapshots.order_by("created")
        ],
        "steps": [
            {
                **{name: getattr(step, name) for name in OF_STEP},
                "before": str(step.before_id) if step.before_id else None,
                "after": str(step.after_id),
                "undone": step.undone.isoformat() if step.undone else None,
            }
            for step in scan_object.steps.all()
        ],
    }


def need_empty(scan_object: ScanObject) -> None:
    """Raise `Refused` when an object has steps already: a bundle is an object of its own."""
    if scan_object.steps.exists():
        raise Refused(NOT_EMPTY)


def take_bundle(object_id: Any, document: dict[str, Any], folder: Path, who_id: int | None, turn: Turn) -> None:
    """Make an empty object what a bundle tells: files in their places, then all rows in one transaction.

    Raises `Refused` when the object has steps already.
    """
    told = document["object"]
    with core_door.storing():
        core_door.place_bundle(document, folder)
        with acting_job(object_id, turn) as scan_object:
            need_empty(scan_object)
            for row in document["captures"]:
                facts = {name: row[name] for name in OF_CAPTURE if name in row}
                Capture.objects.create(id=row["id"], scan_object=scan_object, state=Capture.State.COMPLETE, **facts)
            for row in document["snapshots"]:
                kept = {name: row[name] for name in ("manifest", "summary", "findings") if name in row}
                Snapshot.objects.create(id=row["id"], scan_object=scan_object, **kept)
            for row in document["steps"]:
                facts = {name: row[name] for name in OF_STEP if name in row}
                undone = parse_datetime(row["undone"]) if row.get("undone") else None
                Step.objects.create(
                    scan_object=scan_object, before_id=row["before"], after_id=row["after"], who_id=who_id,
                    undone=undone, **facts,
                )  # fmt: skip
            scan_object.title = str(told.get("title") or scan_object.title)[:120]
            scan_object.notes = str(told.get("notes", ""))
            scan_object.demo_model = str(told.get("demo_model", ""))[:40]
            scan_object.set_up = told.get("set_up") or {}
            scan_object.head_id = told.get("head")
            scan_object.save(update_fields=["title", "notes", "demo_model", "set_up", "head"])
