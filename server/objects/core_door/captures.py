"""Capture folders: taken by a device, imported, read.

A folder under its key is whole and never changes. What is under way lies beside it under the key and the number of the
attempt at its job; the next attempt takes it over by renaming it, so that an older one that is still alive writes into
the void.
"""

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.conf import settings

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.virtual import ScannerTraits, TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.io.arrivals import source_of
from lucid_relic.io.capture_folder import MANIFEST_NAME, CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.points_folder import POINTS_NAME
from lucid_relic.operations.chosen import own_title
from lucid_relic.types import PassState, ScanState

UNDER_WAY = ".part-"


def capture_path(key: str) -> Path:
    """Folder of a whole capture."""
    return settings.DATA / "captures" / key


def _parts(key: str) -> list[Path]:
    """What attempts at a capture left, the newest last."""
    found = settings.DATA.glob(f"captures/{UNDER_WAY}{key}-*")
    return sorted(found, key=lambda path: int(path.name.rsplit("-", 1)[1]))


def part_path(key: str, attempt: int) -> Path:
    """Folder in which an attempt takes or unpacks a capture."""
    return settings.DATA / "captures" / f"{UNDER_WAY}{key}-{attempt}"


def shown_path(key: str) -> Path:
    """Folder of a capture as far as it is: whole, or under way."""
    whole = capture_path(key)
    return whole if whole.exists() else next(reversed(_parts(key)), whole)


def open_pass(key: str) -> PassState:
    """A capture's pass as it was taken or came in."""
    return source_of(capture_path(key), key).as_pass()


def is_whole(key: str) -> bool:
    """Whether a capture was taken to its end, whatever became of its step."""
    return any((capture_path(key) / name).is_file() for name in (MANIFEST_NAME, POINTS_NAME))


def settle_capture(key: str, attempt: int) -> None:
    """Put what an attempt finished in its place."""
    os.replace(part_path(key, attempt), capture_path(key))


def capture_facts(key: str) -> tuple[str, int]:
    """Title and frame count of a whole capture."""
    manifest = CaptureFolder(capture_path(key), key).manifest
    return manifest.title, len(manifest.frames)


@contextmanager
def turntable_pass(model_name: str, plan: dict[str, Any], seed: int, key: str, attempt: int) -> Iterator[Iterator[int]]:
    """The virtual turntable into a capture folder: an iterator that gives the number of frames after each one.

    It goes on behind the frames that an earlier attempt took. The capture is whole when the block ends without an
    error, however many frames were taken.
    """
    demo = DEMO_OBJECTS.get(model_name)
    traits = demo.traits if demo else ScannerTraits()
    target = part_path(key, attempt)
    _take_over(key, target)
    if (target / MANIFEST_NAME).exists():
        yield iter(())
    else:
        device = VirtualScanner(demo_model(model_name), TurntablePlan(**plan), traits, seed)
        writer = CaptureWriter(target, device.manifest())
        yield _frames(device, writer)
        writer.finish()
    CaptureFolder(target, key).need_depth()
    settle_capture(key, attempt)


def _frames(device: PlannedDevice, writer: CaptureWriter) -> Iterator[int]:
    for index in range(writer.count, device.frame_count()):
        shot = device.shoot(index)
        writer.add(shot.depth, shot.colour, clipped=round(shot.clipped, 4), **shot.fields)
        yield index + 1


def _take_over(key: str, target: Path) -> None:
    """Make the newest unfinished attempt's folder this one's."""
    target.parent.mkdir(parents=True, exist_ok=True)
    for part in reversed(_parts(key)):
        if not target.exists():
            os.replace(part, target)
        elif part != target:
            shutil.rmtree(part, ignore_errors=True)


def prepare_model(model_name: str) -> None:
    """Build a demo object's model now, so that its first pass starts at once."""
    demo_model(model_name)


def with_new_pass(state: ScanState, key: str) -> ScanState:
    """The state with a capture added as its last pass."""
    return with_pass_added(state, open_pass(key))


def with_pass_added(state: ScanState, scan: PassState) -> ScanState:
    """A pass put behind the others, under a title of its own; the first one is where the object is."""
    title = own_title(scan.title, [p.title for p in state.passes])
    return replace(state, passes=(*state.passes, replace(scan, title=title, placed=not state.passes)))


def drop_parts(key: str) -> None:
    """Delete what attempts at a capture left."""
    for part in _parts(key):
        shutil.rmtree(part, ignore_errors=True)


def drop_capture(key: str) -> None:
    """Delete a capture's folder and what attempts at it left."""
    drop_parts(key)
    shutil.rmtree(capture_path(key), ignore_errors=True)


def capture_key(path: Path) -> str:
    """The key of a capture's folder, whole or under way."""
    name = path.name.removeprefix(UNDER_WAY)
    return name if name == path.name else name.rsplit("-", 1)[0]
