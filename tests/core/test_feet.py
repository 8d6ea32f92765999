"""Bases that nothing saw end at the plate; what one can look under does not."""

from pathlib import Path

import numpy as np
import pytest
from scenes import write_capture

from lucid_relic.capture.model import ScanModel
from lucid_relic.capture.virtual import TurntablePlan
from lucid_relic.demo.shapes import box, mesh_of, revolved, smooth_union, sphere
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.operations.registry import Report
from lucid_relic.progress import silent
from lucid_relic.types import ScanState


def drum(p: np.ndarray) -> np.ndarray:
    """A drum of 44 mm across with a knob on its side."""
    return smooth_union(revolved(p, [(0, 40), (22, 40), (22, 0), (0, 0)]), sphere(p, (22, 0, 26), 6), 2)


def stool(p: np.ndarray) -> np.ndarray:
    """A slab on four legs of 10 mm, 30 mm apart and more."""
    legs = [box(p, (x, y, 10), (5, 5, 10), 1) for x in (-26, 26) for y in (-20, 20)]
    return smooth_union(box(p, (0, 0, 24), (33, 27, 6), 2), np.minimum.reduce(legs), 1)


def closed(root: Path, model: ScanModel) -> tuple[ScanState, Report]:
    write_capture(root, model, TurntablePlan(stops=16), seed=3)
    state = ScanState((CaptureFolder(root).as_pass(),))
    report: Report = {}
    for name in ("place_frames", "stand_cut", "find_fit", "trim_fuzz", "fuse", "close"):
        step = get_operation(name)
        state, report = step.run(state, step.parameters(**({"voxel_mm": 1.0} if name == "fuse" else {})), silent)
    return state, report


def test_a_flat_base_that_was_never_seen_is_closed_at_the_plate(tmp_path: Path) -> None:
    model = ScanModel.plain(mesh_of(drum, (-32, -32, -2), (36, 32, 46), 1.0))
    state, report = closed(tmp_path / "drum", model)
    assert report["feet_on_plates"] == 1
    # It was 7 % too small: a membrane from rim to rim.
    assert report["volume_mm3"] == pytest.approx(model.mesh.volume_mm3(), rel=0.015)
    up = state.passes[0].T_object_pass[:3, :3] @ state.passes[0].plate[:3]
    base = state.mesh.vertices[np.unique(state.mesh.faces[state.mesh.made_up])] @ up
    assert np.percentile(base, 95) - base.min() < 1.5, "what was made up lies in the plate"


def test_every_leg_has_a_foot_and_the_room_between_them_has_none(tmp_path: Path) -> None:
    state, report = closed(tmp_path / "stool", ScanModel.plain(mesh_of(stool, (-40, -34, -2), (40, 34, 36), 1.0)))
    assert report["feet_on_plates"] == 4
    up = state.passes[0].T_object_pass[:3, :3] @ state.passes[0].plate[:3]
    heights = state.mesh.vertices @ up
    middle = np.linalg.norm(np.cross(state.mesh.vertices - state.mesh.vertices.mean(axis=0), up), axis=1) < 10
    assert heights[middle].min() > heights.min() + 10, "nothing stands on the plate under the middle of the slab"


def test_nothing_is_a_foot_without_a_plate(tmp_path: Path) -> None:
    write_capture(
        tmp_path, ScanModel.plain(mesh_of(drum, (-32, -32, -2), (36, 32, 46), 1.0)), TurntablePlan(stops=8), seed=3
    )
    state = ScanState((CaptureFolder(tmp_path).as_pass(),))
    for name in ("place_frames", "find_fit", "fuse"):
        step = get_operation(name)
        state, _ = step.run(state, step.parameters(**({"voxel_mm": 1.5} if name == "fuse" else {})), silent)
    close = get_operation("close")
    assert close.run(state, close.parameters(), silent)[1]["feet_on_plates"] == 0
