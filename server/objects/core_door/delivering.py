"""Delivering: an object as its receiver needs it, made in a job and kept in the cache until it is fetched."""

import hashlib
import json
import shutil
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from django.conf import settings

from lucid_relic.delivery.receivers import RECEIVERS, Told, receiver
from lucid_relic.errors import ParameterError
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import ScanState
from objects.core_door.bundles import pack_bundle
from objects.core_door.cache import cached, made
from objects.core_door.states import load

BUNDLE = "bundle"  # the receiver that gets the whole object, rows and all, from whoever keeps them
RECEIVER_NAMES = (*(r.name for r in RECEIVERS), BUNDLE)


def receivers(summary: Mapping[str, Any], last: Mapping[str, dict[str, Any]]) -> list[dict[str, Any]]:
    """Every receiver with its parameters, what was chosen last for it, and what a state's summary says of its needs."""
    surface = bool(summary.get("mesh"))
    told: list[dict[str, Any]] = [
        {
            "name": r.name,
            "title": r.title,
            "help": r.help,
            "parameters": r.parameters.describe(),
            "values": {**r.parameters().as_dict(), **_still_known(r, last.get(r.name, {}))},
            "checks": r.checks(summary) if surface else [],
        }
        for r in RECEIVERS
    ]
    return [*told, {**OTHER_COMPUTER, "parameters": [], "values": {}, "checks": []}]


OTHER_COMPUTER = {
    "name": BUNDLE,
    "title": "To another computer",
    "help": "Everything as one file: passes, states, steps and settings. Drop it on the shelf there",
}


def _still_known(r: Any, values: Mapping[str, Any]) -> dict[str, Any]:
    """What was chosen once, but for what an older version called otherwise."""
    known = {p["name"] for p in r.parameters.describe()}
    return {name: value for name, value in values.items() if name in known}


def check_wishes(name: str, values: dict[str, Any]) -> dict[str, Any]:
    """The wishes of a receiver, checked and whole; raises `ParameterError`."""
    if name == BUNDLE:
        if values:
            raise ParameterError("A bundle holds everything: there is nothing to choose.")
        return {"receiver": BUNDLE, "title": OTHER_COMPUTER["title"], "values": {}}
    found = receiver(name)
    return {"receiver": found.name, "title": found.title, "values": found.parameters.from_dict(values).as_dict()}


def delivery_file(manifest: Mapping[str, Any], wishes: Sequence[Mapping[str, Any]], told: Mapping[str, Any]) -> str:
    """Name in the cache of what some receivers get of a state: the same for the same wishes."""
    facts = json.dumps([manifest, list(wishes), dict(told)], sort_keys=True, default=str)
    return f"delivery-{hashlib.blake2b(facts.encode(), digest_size=16).hexdigest()}"


def make_delivery(
    manifest: dict[str, Any], summary: Mapping[str, Any], wishes: Sequence[Mapping[str, Any]], told: dict[str, Any],
    document: dict[str, Any] | None, progress: Progress,
) -> dict[str, Any]:  # fmt: skip
    """Write what receivers get, document being all rows of the object where one of them gets a bundle: the name in the cache, the name a person gets, bytes, and the files inside."""
    file = delivery_file(manifest, wishes, told)
    inside: list[str] = []
    name = ""

    def write(path: Path) -> None:
        nonlocal inside, name
        with tempfile.TemporaryDirectory(dir=path.parent) as scratch:
            files = _written(manifest, summary, wishes, told, document, Path(scratch), progress)
            inside = [str(f.relative_to(scratch)) for f in files]
            if len(files) == 1:
                name = files[0].name
                shutil.move(files[0], path)
                return
            name = f"{told['stem']}.zip" if len(wishes) > 1 else f"{told['stem']}-{wishes[0]['receiver']}.zip"
            progress(0.98, "Packing")
            with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as bundle:
                for one in files:
                    bundle.write(one, str(one.relative_to(scratch)))

    # Made anew every time it is asked for in a job: names inside are told only then.
    cached(file).unlink(missing_ok=True)
    path = made(file, write)
    return {"file": file, "name": name, "bytes": path.stat().st_size, "files": inside}


def _written(
    manifest: dict[str, Any], summary: Mapping[str, Any], wishes: Sequence[Mapping[str, Any]], told: dict[str, Any],
    document: dict[str, Any] | None, folder: Path, progress: Progress,
) -> list[Path]:  # fmt: skip
    progress(0.0, "Opening the object")
    state = load(manifest) if any(w["receiver"] != BUNDLE for w in wishes) else ScanState()
    viewer = settings.WEB_DIST / "turning.js"
    script = viewer.read_text(encoding="utf-8") if viewer.exists() else ""
    facts = Told(told["title"], told["stem"], told["notes"], summary, told["steps"], script, told.get("checked", ()))
    files: list[Path] = []
    for n, wish in enumerate(wishes):
        own = folder / wish["receiver"] if len(wishes) > 1 else folder
        own.mkdir(exist_ok=True)
        step = part_of(progress, n / len(wishes), (n + 1) / len(wishes))
        if wish["receiver"] == BUNDLE:
            assert document is not None
            files.append(own / f"{told['stem']}-bundle.zip")
            pack_bundle(document, files[-1], step)
            continue
        one = receiver(wish["receiver"])
        files += one.make(state, one.parameters.from_dict(wish["values"]), facts, own, step)
    return files
