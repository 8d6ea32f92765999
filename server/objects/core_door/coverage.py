"""Is it seen enough? Coverage of an object's placed passes, or of one that is being taken, for the view."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from lucid_relic.capture.instruments import instrument
from lucid_relic.desk.coverage import UPRIGHT, Judged, Lay, glance, judge
from lucid_relic.errors import StepNotPossible
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.results import finite
from lucid_relic.operations import get_operation
from lucid_relic.planning.coverage import ENOUGH, enough_for
from lucid_relic.progress import silent
from lucid_relic.types import PassState, ScanState
from lucid_relic.view.packing import pack_preview
from objects.core_door.captures import set_up_of
from objects.core_door.folders import while_it_settles
from objects.core_door.states import load

USES = tuple(ENOUGH)


def coverage_of_object(manifest: dict[str, Any], use: str, name: str, head: dict[str, Any]) -> bytes:
    """Coverage of the placed passes of a state, what is thin and missing, and what to take next with an instrument."""
    state = load(manifest)
    lays = [(scan, _lay(scan)) for scan in state.passes if not scan.off]
    waiting = [(scan.title, lay) for scan, lay in lays if lay is not None and not scan.placed]
    first = next((lay for scan, lay in lays if scan.placed), None)
    judged = judge(state, enough_for(use), instrument(name), silent, waiting if first else (), first or UPRIGHT)
    told = [{"title": title, "common": o.common, "gain": o.gain} for title, o in judged.waiting]
    return _packed(judged, {"whole": True, "waiting": told}, head)


def _lay(scan: PassState) -> Lay | None:
    """How the object lay on the table for a pass; None for one that was taken in another way, or elsewhere."""
    set_up = set_up_of(scan)
    if scan.turntable is None or not set_up or set_up.get("path"):
        return None
    tip, about, down = (set_up.get(name) for name in ("tip_deg", "tip_about_deg", "elevation_deg"))
    if down is None:
        down = instrument(set_up.get("instrument") or "desk").elevation_deg
    return Lay(tip or 0.0, about or 0.0, down)


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
    corners, each = mesh.faces.ravel(), len(mesh.vertices)
    count = np.maximum(np.bincount(corners, minlength=each), 1)

    def at_vertices(of_faces: np.ndarray) -> np.ndarray:
        return np.round(255 * np.bincount(corners, np.repeat(of_faces, 3), each) / count).astype(np.uint8)

    arrays: dict[str, np.ndarray] = {
        "vertices": mesh.vertices.astype(np.float32), "faces": mesh.faces.astype(np.uint32),
        "level": at_vertices(judged.coverage.level(judged.need)),
    }  # fmt: skip
    # What each pass to come, and after these each that waits to be placed, would see again and make enough.
    outlooks = (*judged.outlooks, *(o for _, o in judged.waiting))
    for k, outlook in enumerate(outlooks):
        arrays[f"shared_{k}"], arrays[f"fresh_{k}"] = at_vertices(outlook.shared), at_vertices(outlook.fresh)
    lays = [{"turned": o.R_plate_object.ravel().tolist(), "down_deg": o.lay.down_deg} for o in outlooks]
    figures = {**judged.figures(), "times": judged.need.times, "sides": judged.need.sides, "lays": lays, **more}
    return pack_preview(finite(figures), [("coverage", {}, arrays)], head)
