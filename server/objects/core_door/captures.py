"""Capture folders: taken by a device, imported, read.

A folder under its key is whole and never changes. What is under way lies beside it under the key and the number of the
attempt at its job; the next attempt takes it over by renaming it, so that an older one that is still alive writes into
the void.
"""

import json
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.capture.device import PlannedDevice
from lucid_relic.capture.faults import Troubled
from lucid_relic.capture.traits import ScannerTraits
from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner, tracked_by
from lucid_relic.demo.objects import DEMO_OBJECTS, demo_model
from lucid_relic.desk.shots import ShotPlacer
from lucid_relic.io.arrivals import source_of
from lucid_relic.io.capture_folder import MANIFEST_NAME, CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.io.points_folder import POINTS_NAME
from lucid_relic.operations.chosen import own_title
from lucid_relic.types import PassState, ScanState
from objects.core_door.cache import cached
from objects.core_door.desk import device_of, title_of
from objects.core_door.folders import UNDER_WAY, capture_path, frame_file, part_path, parts_of
from objects.core_door.sweeps import SweepDevice


def open_pass(key: str) -> PassState:
    """A capture's pass as it was taken or came in."""
    return source_of(capture_path(key), key).as_pass()


def set_up_of(scan: PassState) -> dict[str, Any] | None:
    """How a pass was set up at the desk; None for one that was taken elsewhere."""
    if not isinstance(scan.source, CaptureFolder):
        return None
    return json.loads((scan.source.root / MANIFEST_NAME).read_text()).get("set_up")


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


class PassUnderWay:
    """A pass on a stand-in that is being taken into the folder of one attempt."""

    def __init__(self, device: Troubled, writer: CaptureWriter, key: str, coloured: bool) -> None:
        self._device, self._writer, self._key, self._coloured = device, writer, key, coloured
        self.planned = device.frame_count()

    @property
    def count(self) -> int:
        """How many frames there are."""
        return self._writer.count

    def shoot(self) -> dict[str, Any]:
        """Take the next frame; what the device told of it. Raises `DeviceFault` when it cannot be taken just now."""
        shot = self._device.shoot(self.count)
        colour = shot.colour if self._coloured else None
        more = self._placed(shot.depth, colour)
        self._writer.add(shot.depth, colour, clipped=round(shot.clipped, 4), **shot.fields, **more)
        return shot.fields

    def _placed(self, depth: np.ndarray, colour: np.ndarray | None) -> dict[str, Any]:
        """Further fields of a frame that say where it was taken from."""
        return {}

    def step_back(self) -> None:
        """Throw the newest frame away, and what was drawn of it."""
        self._writer.drop_last()
        cached(frame_file(self._key, self.count)).unlink(missing_ok=True)


class ShotsUnderWay(PassUnderWay):
    """A pass of single shots: each is placed on the former ones; `shoot` raises `StepNotPossible` for one that is refused."""

    def __init__(self, device: Troubled, writer: CaptureWriter, key: str, coloured: bool) -> None:
        super().__init__(device, writer, key, coloured)
        self._placer = ShotPlacer(device.camera)
        if self.count:
            folder = CaptureFolder(writer.root)
            for index, frame in enumerate(folder.manifest.frames):
                self._placer.know(folder.depth(index), folder.colour(index), frame.pose)

    def _placed(self, depth: np.ndarray, colour: np.ndarray | None) -> dict[str, Any]:
        return {"pose": self._placer.place(depth, colour).tolist()}

    def step_back(self) -> None:
        super().step_back()
        self._placer.forget_last()


@contextmanager
def attempt_at(key: str, attempt: int) -> Iterator[Path | None]:
    """The folder of an attempt at a capture, with what earlier ones left; None when all was taken before.

    The capture is whole, and in its place, when the block ends without an error, however many frames were taken.
    """
    target = part_path(key, attempt)
    _take_over(key, target)
    yield None if (target / MANIFEST_NAME).exists() else target
    CaptureFolder(target, key).need_depth()
    settle_capture(key, attempt)


@contextmanager
def turntable_pass(
    model_name: str, plan: dict[str, Any], seed: int, key: str, attempt: int,
    fault: Callable[[], str] = lambda: "", besides: dict[str, Any] | None = None,
) -> Iterator[PassUnderWay | None]:  # fmt: skip
    """The virtual turntable into a capture folder, frame by frame; None when all was taken before.

    It goes on behind the frames that an earlier attempt took; see `attempt_at`. fault tells what is provoked just now;
    besides goes into the manifest.
    """
    with attempt_at(key, attempt) as target:
        if target is None:
            yield None
            return
        device, title = _device(model_name, plan, seed)
        manifest = {**device.manifest(), **(besides or {}), "set_up": plan}
        if plan.get("held_by") in ("shape", "markers"):
            manifest = tracked_by(manifest, plan["held_by"])
        writer = CaptureWriter(target, manifest)
        kind = ShotsUnderWay if plan.get("shots") else PassUnderWay
        yield kind(Troubled(device, title, fault), writer, key, plan.get("colour", True))
        writer.finish()


def _device(model_name: str, plan: dict[str, Any], seed: int) -> tuple[PlannedDevice, str]:
    """The device of a plan and what it is called."""
    if plan.get("instrument") == "line":
        return SweepDevice(model_name, plan, seed), title_of("line")
    if plan.get("instrument"):
        return device_of(plan, model_name, seed), title_of(plan["instrument"])
    demo = DEMO_OBJECTS.get(model_name)
    known = {f.name: plan[f.name] for f in fields(TurntablePlan) if f.name in plan}
    traits = demo.traits if demo else ScannerTraits()
    return VirtualScanner(demo_model(model_name), TurntablePlan(**known), traits, seed), "Head"


def _take_over(key: str, target: Path) -> None:
    """Make the newest unfinished attempt's folder this one's."""
    target.parent.mkdir(parents=True, exist_ok=True)
    for part in reversed(parts_of(key)):
        if not target.exists():
            os.replace(part, target)
        elif part != target:
            shutil.rmtree(part, ignore_errors=True)


def prepare_model(model_name: str) -> None:
    """Build a demo object's model now, so that its first pass starts at once."""
    demo_model(model_name)


def with_new_pass(state: ScanState, key: str, first: int = 0, last: int | None = None) -> ScanState:
    """The state with a capture added as its last pass, of which the frames first to last are in; the others stay out."""
    scan = open_pass(key)
    index = np.arange(scan.frame_count)
    wanted = (index >= first) & (index <= (scan.frame_count - 1 if last is None else last))
    return with_pass_added(state, scan if wanted.all() else replace(scan, frame_in=scan.frame_in & wanted))


def with_pass_added(state: ScanState, scan: PassState) -> ScanState:
    """A pass put behind the others, under a title of its own; the first one is where the object is."""
    title = own_title(scan.title, [p.title for p in state.passes])
    return replace(state, passes=(*state.passes, replace(scan, title=title, placed=not state.passes)))


def drop_parts(key: str) -> None:
    """Delete what attempts at a capture left."""
    for part in parts_of(key):
        shutil.rmtree(part, ignore_errors=True)


def drop_capture(key: str) -> None:
    """Delete a capture's folder and what attempts at it left."""
    drop_parts(key)
    shutil.rmtree(capture_path(key), ignore_errors=True)


def capture_key(path: Path) -> str:
    """The key of a capture's folder, whole or under way."""
    name = path.name.removeprefix(UNDER_WAY)
    return name if name == path.name else name.rsplit("-", 1)[0]
