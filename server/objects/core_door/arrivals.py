"""Files that came in and become passes: each in its own folder, under a key that follows from the job."""

import os
import shutil
import uuid
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.errors import InputError, StepNotPossible
from lucid_relic.io.arrivals import Said, arrive, is_arrival, readable_suffixes
from lucid_relic.io.tum import Lens
from lucid_relic.progress import Progress, part_of
from lucid_relic.types import UNITS_MM, PassState, ScanState
from objects.core_door.captures import drop_parts, is_whole, open_pass
from objects.core_door.folders import capture_path, part_path
from objects.core_door.sweeps import is_sweeps, sweeps_arrive

__all__ = [
    "UNITS_MM",
    "Arrival",
    "arrival_key",
    "arrivals",
    "check_said",
    "copied_pass",
    "drop_arrival",
    "readable_suffixes",
]


@dataclass(frozen=True)
class Arrival:
    """A pass that came in and is settled under its key, or a file that was refused with a sentence."""

    key: str = ""
    title: str = ""
    frames: int = 0
    points: int = 0
    triangles: int = 0
    refused: str = ""


def arrival_key(job: Any, number: int) -> str:
    """The key of the pass that a job brings in as its n-th: the same however often the job is begun."""
    return str(uuid.uuid5(uuid.UUID(str(job)), f"pass {number}"))


def check_said(said: dict[str, Any]) -> dict[str, Any]:
    """What a person said of files, as it is kept with a job; raises `InputError` for a camera that cannot be."""
    _said(said)
    return said


def _said(said: dict[str, Any]) -> Said:
    camera = said.get("camera")
    lens = Lens(**camera) if camera else None
    if lens is not None:
        lens.camera((lens.width, lens.height))  # raises for one that cannot be
    return Said(said.get("unit") or "", lens, said.get("depth_unit_mm") or 0.0)


def arrivals(
    files: list[tuple[Path, str]], said: dict[str, Any], job: Any, attempt: int, progress: Progress
) -> Iterator[Arrival]:
    """What becomes of uploaded files, given as path and the name a person knows, one pass or refusal after the other.

    A pass is settled in its place before it is given. Files lie beside each other under their names, so that a mesh
    finds its material. A pass that an earlier attempt settled is not made again.
    """
    drop_parts(str(job))
    work = part_path(str(job), attempt)
    try:
        beside = _beside(files, work / "files")
        scans = [path for path in beside if is_arrival(path.name)]
        number = 0
        for k, path in enumerate(scans):
            part = part_of(progress, k / len(scans), (k + 1) / len(scans))
            try:
                if is_sweeps(path):
                    folders = [sweeps_arrive(path, work / str(k), part)]
                else:
                    folders = arrive(path, work / str(k), _said(said), part)
            except (InputError, StepNotPossible) as refusal:
                yield Arrival(refused=str(refusal))
                continue
            for folder in folders:
                key = arrival_key(job, number)
                if not is_whole(key):
                    shutil.rmtree(capture_path(key), ignore_errors=True)
                    os.replace(folder, capture_path(key))
                yield _arrival(key)
                number += 1
        if not scans:
            names = ", ".join(path.name for path in beside[:3])
            able = ", ".join(s.lstrip(".") for s in readable_suffixes())
            yield Arrival(refused=f"{names}: no scan among these files; passes are read from {able}")
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _beside(files: list[tuple[Path, str]], folder: Path) -> list[Path]:
    """The files in one folder under their own names, linked."""
    folder.mkdir(parents=True)
    out: list[Path] = []
    for path, name in files:
        target = folder / name
        if target in out:
            target = folder / f"{target.stem} {len(out) + 1}{target.suffix}"
        if not path.exists():
            raise InputError(f"{name}: the file is not here any more; send it once more.")
        os.link(path, target)
        out.append(target)
    return out


def copied_pass(state: ScanState, title: str, key: str) -> PassState:
    """A pass of another object's state under a key of its own: its files linked, not copied, since they never change."""
    scan = next(p for p in state.passes if p.title == title)
    if not is_whole(key):
        shutil.rmtree(capture_path(key), ignore_errors=True)
        shutil.copytree(capture_path(scan.source.key), capture_path(key), copy_function=os.link)
    return replace(scan, source=open_pass(key).source, T_object_pass=np.eye(4), placed=False)


def _arrival(key: str) -> Arrival:
    scan = open_pass(key)
    if scan.cloud is None:
        return Arrival(key, scan.title, scan.frame_count)
    surface = scan.cloud.surface
    return Arrival(key, scan.title, 0, len(scan.cloud), 0 if surface is None else len(surface.faces))


def drop_arrival(job: Any, number: int) -> None:
    """Remove what a job left that was stopped: the parts under way, and the pass that was settled and not recorded."""
    drop_parts(str(job))
    shutil.rmtree(capture_path(arrival_key(job, number)), ignore_errors=True)
