"""`lucid-relic bundle`: passes as an object in one file, and the passes of such a file."""

import argparse
import json
import re
import shutil
import tempfile
from pathlib import Path
from typing import Any
from uuid import uuid4

from lucid_relic.errors import InputError
from lucid_relic.inspection.findings import findings
from lucid_relic.inspection.summary import summarise_state
from lucid_relic.io.array_store import ArrayStore
from lucid_relic.io.bundle import open_bundle, write_bundle
from lucid_relic.io.results import finite
from lucid_relic.io.snapshots import save_state
from lucid_relic.types import ScanState
from lucid_relic_cli.inputs import INPUTS, add_said, open_passes, said
from lucid_relic_cli.progress_line import progress_line


def add_to(commands: argparse._SubParsersAction) -> None:
    """Add this command's options."""
    p = commands.add_parser("bundle", help="an object as one file: out of passes, or into them")
    ways = p.add_subparsers(dest="way", required=True)
    out = ways.add_parser("out", help="put passes into a bundle, which the shelf opens")
    out.add_argument("captures", nargs="+", metavar="CAPTURE", help=f"{INPUTS}, one a pass")
    out.add_argument("--out", required=True, metavar="FILE")
    out.add_argument("--title", default="", help="of the object (default: the name of the file)")
    out.add_argument("--json", action="store_true", help="print JSON")
    add_said(out)
    out.set_defaults(run=run_out)
    inside = ways.add_parser("in", help="check a bundle and unpack the passes of it")
    inside.add_argument("bundle", metavar="FILE")
    inside.add_argument("--out", required=True, metavar="DIR", help="a new folder: one capture folder a pass")
    inside.add_argument("--json", action="store_true", help="print JSON")
    inside.set_defaults(run=run_in)


def run_out(options: argparse.Namespace) -> None:
    """Write a bundle of passes, with one state that holds them."""
    target = Path(options.out)
    scratch = Path(tempfile.mkdtemp(prefix="lucid-relic-"))
    try:
        passes = open_passes(options.captures, scratch, said(options))
        state = ScanState(tuple(passes))
        store = ArrayStore(scratch / "store")
        names = {scan.source.key: str(uuid4()) for scan in passes}
        summary = finite(summarise_state(state))
        manifest = finite(save_state(state, store))
        for entry in (*manifest["passes"], *summary["passes"]):
            entry["capture"] = names[entry["capture"]]
        head = str(uuid4())
        document = {
            "object": {"title": options.title or target.stem, "notes": "", "head": head},
            "captures": [
                {"id": names[s.source.key], "title": s.title, "frames": s.frame_count, "planned": s.frame_count}
                for s in passes
            ],
            "snapshots": [{"id": head, "manifest": manifest, "summary": summary, "findings": findings(summary)}],
            "steps": [_step(passes, head)],
        }
        folders = {names[s.source.key]: Path(s.source.root) for s in passes}  # type: ignore[attr-defined]
        draft = scratch / "bundle.zip"
        write_bundle(draft, document, store, folders, progress_line())
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(draft, target)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    _tell(options, {"file": str(target), "passes": [s.title for s in passes], "bytes": target.stat().st_size})


def _step(passes: list[Any], head: str) -> dict[str, Any]:
    frames = sum(scan.frame_count for scan in passes)
    title = f"{len(passes)} passes, {frames} frames" if len(passes) > 1 else f"Capture “{passes[0].title}”"
    return {"operation": "add_pass", "title": title, "stage": "capture", "parameters": {}, "report": {"frames": frames},
            "seconds": 0.0, "before": None, "after": head, "undone": None}  # fmt: skip


def run_in(options: argparse.Namespace) -> None:
    """Unpack the passes of a bundle that is whole, each into a folder named after it, and say what else is in it."""
    source, target = Path(options.bundle), Path(options.out)
    if target.exists() and any(target.iterdir()):
        raise InputError(f"{target}: this folder is not empty")
    scratch = Path(tempfile.mkdtemp(prefix="lucid-relic-"))
    try:
        document = open_bundle(source, scratch / "bundle", source.name, progress_line())
        target.mkdir(parents=True, exist_ok=True)
        folders: list[str] = []
        for number, row in enumerate(document["captures"]):
            title = re.sub(r"[^A-Za-z0-9]+", "-", str(row.get("title", ""))).strip("-").lower() or "pass"
            name = title if title not in folders else f"{title}-{number + 1}"
            shutil.move(scratch / "bundle" / "captures" / row["id"], target / name)
            folders.append(name)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    told = document["object"]
    steps = [f"{s.get('title', s.get('operation', ''))}" for s in document["steps"]]
    _tell(
        options,
        {"title": str(told.get("title", "")), "passes": folders, "states": len(document["snapshots"]), "steps": steps},
    )


def _tell(options: argparse.Namespace, facts: dict[str, Any]) -> None:
    print(json.dumps(facts) if options.json else "\n".join(f"{name}: {value}" for name, value in facts.items()))
