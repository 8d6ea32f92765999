"""Capture folders: taken by a device, imported, read."""

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.conf import settings

from lucid_relic.capture.virtual import ScannerTraits, TurntablePlan, VirtualScanner
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.io.capture_folder import CaptureFolder, CaptureWriter, unpack_capture
from lucid_relic.progress import Progress
from lucid_relic.types import PassState, ScanState


def capture_path(key: str) -> Path:
    """Folder of a capture."""
    return settings.DATA / "captures" / key


def open_pass(key: str) -> PassState:
    """A capture's pass as it was taken or imported, or as far as it is under way."""
    return CaptureFolder(capture_path(key), key).as_pass()


def photograph(key: str, index: int) -> Path | None:
    """The photograph of a frame, under whatever name its manifest gives it; None when the frame has none."""
    frames = CaptureFolder(capture_path(key), key).manifest.frames
    name = frames[index].colour if index < len(frames) else None
    path = None if name is None else capture_path(key) / name
    return path if path is not None and path.is_file() else None


def import_capture(archive: Path, key: str, progress: Progress) -> tuple[str, int]:
    """Unpack and check an uploaded .zip; returns title and frame count, leaves nothing when refused."""
    target = capture_path(key)
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        unpack_capture(archive, target, lambda f, m: progress(0.5 * f, m))
        folder = CaptureFolder(target, key)
        folder.check(lambda f, m: progress(0.5 + 0.5 * f, m))
    except BaseException:
        shutil.rmtree(target, ignore_errors=True)
        raise
    return folder.manifest.title, len(folder.manifest.frames)


@contextmanager
def turntable_pass(model_name: str, plan: dict[str, Any], seed: int, key: str) -> Iterator[Iterator[int]]:
    """The virtual turntable into a capture folder: an iterator that gives the number of frames after each one.

    The capture is complete when the block ends without an error, however many frames were taken.
    """
    demo = DEMO_OBJECTS.get(model_name)
    traits = demo.traits if demo else ScannerTraits()
    device = VirtualScanner(demo_model(model_name), TurntablePlan(**plan), traits, seed)
    writer = CaptureWriter(capture_path(key), device.manifest())

    def frames() -> Iterator[int]:
        for index in range(device.frame_count()):
            shot = device.shoot(index)
            writer.add(shot.depth, shot.colour, clipped=round(shot.clipped, 4), **shot.fields)
            yield index + 1

    yield frames()
    writer.finish()


def prepare_model(model_name: str) -> None:
    """Build a demo object's model now, so that its first pass starts at once."""
    demo_model(model_name)


def with_new_pass(state: ScanState, key: str) -> ScanState:
    """The state with a capture added as its last pass."""
    scan = open_pass(key)
    if not state.passes:
        scan = replace(scan, placed=True)
    return replace(state, passes=(*state.passes, scan))


def drop_capture(key: str) -> None:
    """Delete a capture's folder."""
    shutil.rmtree(capture_path(key), ignore_errors=True)
