"""Whole objects as rows: told for a bundle, and made of one."""

from pathlib import Path
from typing import Any
from uuid import uuid4

from django.db import transaction
from django.utils.dateparse import parse_datetime

from objects import core_door
from objects.actions.guard import acting, acting_job
from objects.actions.history import ADDED
from objects.errors import Refused
from objects.models import AcceptedFinding, Branch, Capture, ScanObject, Snapshot, Step
from objects.turn import Turn

NOT_EMPTY = (
    "This bundle is a whole object of its own: drop it on the shelf, not into an object that has passes already."
)
OF_CAPTURE = ("title", "frames", "planned", "instrument")
OF_STEP = ("operation", "title", "stage", "parameters", "report", "seconds", "version")
OF_ACCEPTED = ("kind", "about", "figure", "place", "title", "word")


def bundle_document(scan_object: ScanObject) -> dict[str, Any]:
    """All rows of an object, as plain JSON: what it is, its complete captures, its snapshots and its steps in order."""
    captures = scan_object.captures.filter(state=Capture.State.COMPLETE).order_by("created")
    return {
        "object": {
            "title": scan_object.title,
            "notes": scan_object.notes,
            "demo_model": scan_object.demo_model,
            "set_up": scan_object.set_up,
            "tags": scan_object.tags,
            "head": str(scan_object.head_id) if scan_object.head_id else None,
        },
        "captures": [{"id": str(c.pk), **{name: getattr(c, name) for name in OF_CAPTURE}} for c in captures],
        "snapshots": [
            {"id": str(s.pk), "manifest": s.manifest, "summary": s.summary, "findings": s.findings}
            for s in scan_object.snapshots.order_by("created")
        ],
        "branches": [
            {
                "name": b.name,
                "kept": b.kept,
                "tip": str(b.tip_id) if b.tip_id else None,
                "current": b.pk == scan_object.branch_id,
            }
            for b in scan_object.branches.all()
        ],
        "accepted": [{name: getattr(row, name) for name in OF_ACCEPTED} for row in scan_object.accepted.all()],
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
            _fill(scan_object, document, who_id)
            scan_object.title = str(told.get("title") or scan_object.title)[:120]
            scan_object.save(update_fields=["title"])


def duplicate_object(object_id: Any, who: Any) -> ScanObject:
    """An object of a person's own that is like another one, with all its passes, steps and branches.

    Its captures are the same files on disk until one of both is deleted.
    """
    with acting(object_id, who, while_busy=True) as source:
        pass  # whoever may work on it may have a copy
    document = core_door.renamed(bundle_document(source), uuid4())
    core_door.link_captures(document["was"])
    try:
        with core_door.storing(), transaction.atomic():
            title = f"{source.title[:110]}, copy"
            made = ScanObject.objects.create(owner=who, title=title, room_bytes=source.room_bytes)
            _fill(made, document, who.pk, own=True)
    except BaseException:
        for row in document["captures"]:
            core_door.drop_capture(row["id"])
        raise
    return made


def _key(row: dict[str, Any], manifests: dict[str, Any]) -> str:
    """What names the result of a step here; nothing of one that another version of the program made."""
    if row["operation"] == ADDED or row.get("version") != core_door.VERSION:
        return ""
    before = manifests[row["before"]] if row["before"] else None
    return core_door.key_of_step(before, row["operation"], row["parameters"])


def _fill(scan_object: ScanObject, document: dict[str, Any], who_id: int | None, own: bool = False) -> None:
    """Make an empty object what a document tells, but for its title.

    Results of own steps are known; what a file from elsewhere says that a step gave is not taken for one.
    """
    told = document["object"]
    for row in document["captures"]:
        facts = {name: row[name] for name in OF_CAPTURE if name in row}
        Capture.objects.create(id=row["id"], scan_object=scan_object, state=Capture.State.COMPLETE, **facts)
    for row in document["snapshots"]:
        kept = {name: row[name] for name in ("manifest", "summary", "findings") if name in row}
        Snapshot.objects.create(id=row["id"], scan_object=scan_object, **kept)
    manifests = {row["id"]: row["manifest"] for row in document["snapshots"]}
    for row in document["steps"]:
        facts = {name: row[name] for name in OF_STEP if name in row}
        undone = parse_datetime(row["undone"]) if row.get("undone") else None
        Step.objects.create(
            scan_object=scan_object, before_id=row["before"], after_id=row["after"], who_id=who_id,
            undone=undone, key=_key(row, manifests) if own else "", **facts,
        )  # fmt: skip
    for row in document.get("branches", []):
        branch = Branch.objects.create(
            scan_object=scan_object, name=str(row["name"])[:60], kept=bool(row.get("kept")), tip_id=row["tip"]
        )
        if row.get("current"):
            scan_object.branch = branch
    for row in document.get("accepted", []):
        AcceptedFinding.objects.create(
            scan_object=scan_object, who_id=who_id, **{name: row.get(name) for name in OF_ACCEPTED}
        )
    scan_object.notes = str(told.get("notes", ""))
    scan_object.demo_model = str(told.get("demo_model", ""))[:40]
    scan_object.set_up = told.get("set_up") or {}
    scan_object.tags = [str(tag)[:40] for tag in told.get("tags") or []][:20]
    scan_object.head_id = told.get("head")
    scan_object.save(update_fields=["notes", "demo_model", "set_up", "head", "branch", "tags"])
