"""Is it seen enough? Coverage of an object's placed passes, or of one that is being taken, for the view."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.capture.instruments import instrument
from lucid_relic.desk.coverage import Judged, glance, judge
from lucid_relic.errors import StepNotPossible
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.results import finite
from lucid_relic.operations import get_operation
from lucid_relic.planning.coverage import ENOUGH, enough_for
from lucid_relic.progress import silent
from lucid_relic.types import ScanState
from lucid_relic.view.packing import pack_preview
from objects.core_door.folders import while_it_settles
from objects.core_door.states import load

USES = tuple(ENOUGH)


def coverage_of_object(manifest: dict[str, Any], use: str, name: str, head: dict[str, Any]) -> bytes:
    """Coverage of the placed passes of a state, what is thin and missing, and what to take next with an instrument."""
    judged = judge(load(manifest), enough_for(use), instrument(name), silent)
    return _packed(judged, {"whole": True}, head)


def coverage_of_capture(key: str, use: str, head: dict[str, Any]) -> bytes:
    """Coverage of a pass so far, while it is taken or waits to be accepted; raises `StepNotPossible` at its first frame."""
    return while_it_settles(key, lambda path: _of_folder(path, key, use, head))


def _of_folder(path: Path, key: str, use: str, head: dict[str, Any]) -> bytes:
    scan = CaptureFolder(path, key).as_pass()
    if not scan.posed and scan.turntable is None:
        raise StepNotPossible("Where the frames of this pass were taken from is known only when it is placed.")
    cut = get_operation("stand_cut")
    state, _ = cut.run(ScanState((replace(scan, placed=True),)), cut.parameters(), silent)
    return _packed(glance(state, enough_for(use), silent), {"whole": False, "frames": scan.frame_count}, head)


def _packed(judged: Judged, more: dict[str, Any], head: dict[str, Any]) -> bytes:
    mesh = judged.mesh
    level = judged.coverage.level(judged.need)
    total, count = np.zeros(len(mesh.vertices)), np.zeros(len(mesh.vertices))
    for corner in range(3):
        np.add.at(total, mesh.faces[:, corner], level)
        np.add.at(count, mesh.faces[:, corner], 1)
    arrays: dict[str, np.ndarray] = {
        "vertices": mesh.vertices.astype(np.float32), "faces": mesh.faces.astype(np.uint32),
        "level": np.round(255 * total / np.maximum(count, 1)).astype(np.uint8),
    }  # fmt: skip
    figures = {**judged.figures(), "times": judged.need.times, "sides": judged.need.sides, **more}
    return pack_preview(finite(figures), [("coverage", {}, arrays)], head)
