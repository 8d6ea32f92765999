"""Bundles: whole objects as one file, written, checked, and put in place."""

import os
import shutil
from pathlib import Path
from typing import Any
from uuid import UUID, uuid5

from django.conf import settings

from lucid_relic.io.bundle import is_bundle, open_bundle, write_bundle
from lucid_relic.progress import Progress
from objects.core_door.folders import capture_path
from objects.core_door.states import store

__all__ = ["is_bundle", "link_captures", "opened_bundle", "pack_bundle", "place_bundle", "renamed"]


def pack_bundle(document: dict[str, Any], path: Path, progress: Progress) -> None:
    """Write an object's document with all that it names."""
    folders = {row["id"]: capture_path(row["id"]) for row in document["captures"]}
    write_bundle(path, document, store(), folders, progress)


def opened_bundle(path: Path, name: str, job: Any, progress: Progress) -> tuple[dict[str, Any], Path]:
    """The document of a bundle that was sent, and the folder that it was unpacked into and found whole."""
    folder = settings.DATA / "cache" / f".making-bundle-{job}"
    shutil.rmtree(folder, ignore_errors=True)
    return open_bundle(path, folder, name, progress), folder


def renamed(document: dict[str, Any], job: UUID) -> dict[str, Any]:
    """A document whose captures and snapshots have names of their own here, the same ones for every attempt of a job."""
    names = {row["id"]: str(uuid5(job, row["id"])) for key in ("captures", "snapshots") for row in document[key]}
    own = lambda name: names.get(name)  # noqa: E731
    captures = [{**row, "id": own(row["id"])} for row in document["captures"]]
    snapshots = []
    for row in document["snapshots"]:
        passes = [{**entry, "capture": own(entry["capture"])} for entry in row["manifest"]["passes"]]
        shown = [{**entry, "capture": own(entry["capture"])} for entry in row["summary"].get("passes", [])]
        manifest, summary = {**row["manifest"], "passes": passes}, {**row["summary"], "passes": shown}
        snapshots.append({**row, "id": own(row["id"]), "manifest": manifest, "summary": summary})
    steps = [
        {**s, "before": own(s["before"]) if s["before"] else None, "after": own(s["after"])} for s in document["steps"]
    ]
    branches = [{**b, "tip": own(b["tip"]) if b.get("tip") else None} for b in document.get("branches", [])]
    told = {**document["object"], "head": own(document["object"].get("head"))}
    return {
        **document,
        "object": told,
        "captures": captures,
        "snapshots": snapshots,
        "steps": steps,
        "branches": branches,
        "was": names,
    }


def link_captures(names: dict[str, str]) -> None:
    """Give captures other names as well, by their old one; both share their files, which never change."""
    for was, now in names.items():
        if capture_path(was).is_dir() and not capture_path(now).exists():
            shutil.copytree(capture_path(was), capture_path(now), copy_function=os.link)


def place_bundle(document: dict[str, Any], folder: Path) -> None:
    """Put the arrays and captures of an unpacked bundle where this installation keeps them; what is there stays."""
    for name in document["arrays"]:
        store().take(folder / "arrays" / f"{name}.npy", name)
    for was, now in document["was"].items():
        source, target = folder / "captures" / was, capture_path(now)
        if source.is_dir() and not target.exists():
            target.parent.mkdir(parents=True, exist_ok=True)
            os.replace(source, target)
    shutil.rmtree(folder, ignore_errors=True)
