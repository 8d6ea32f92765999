"""Frames of a pass left out by number and taken back, those that were lost found again."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import QUICK, knot_model, write_frames

from lucid_relic.capture.virtual import TurntablePlan, VirtualScanner
from lucid_relic.errors import ParameterError, StepNotPossible
from lucid_relic.geometry.rigid import difference
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.operations import get_operation
from lucid_relic.operations.clean.leave_out import FramesParameters, leave_out, take_back
from lucid_relic.progress import silent
from lucid_relic.types import ScanState


@pytest.fixture(scope="module")
def placed(tmp_path_factory: pytest.TempPathFactory) -> ScanState:
    """A turn of twelve stops, placed frame by frame."""
    root: Path = tmp_path_factory.mktemp("turn")
    write_frames(root, VirtualScanner(knot_model(1.5), TurntablePlan(stops=12), QUICK, seed=6))
    place = get_operation("place_frames")
    state, _ = place.run(ScanState((CaptureFolder(root).as_pass(),)), place.parameters(), silent)
    return state


def test_frames_are_left_out_by_range_and_taken_back(placed: ScanState) -> None:
    params = FramesParameters.from_dict({"pass": "upright", "frames": "2-4,7"})
    assert params.as_dict() == {"pass": "upright", "frames": [[2, 4], 7]}
    without, report = leave_out(placed, params, silent)
    assert np.flatnonzero(~without.passes[0].frame_in).tolist() == [2, 3, 4, 7] == report["changed"]
    assert get_operation("leave_out").headline_of(report) == "8 of 12 frames in" and placed.passes[0].frame_in.all()
    # The only pass needs no name.
    again, report = take_back(without, FramesParameters.from_dict({"frames": [[3, 7]]}), silent)
    assert np.flatnonzero(~again.passes[0].frame_in).tolist() == [2] and report["changed"] == [3, 4, 7]


def test_a_frame_that_was_lost_is_looked_for_where_the_others_are(placed: ScanState) -> None:
    scan = placed.passes[0]
    true = scan.frame_poses[5]
    fit, inside, poses = scan.fit_mm.copy(), scan.frame_in.copy(), scan.frame_poses.copy()
    fit[5], inside[5], poses[5] = np.nan, False, np.eye(4)
    lost = placed.with_pass(0, replace(scan, fit_mm=fit, frame_in=inside, frame_poses=poses, turntable=None))
    back, report = take_back(lost, FramesParameters(frames=(5,)), silent)
    assert report["still_lost"] == [] and back.passes[0].frame_in.all()
    assert difference(back.passes[0].frame_poses[5], true)[0] < 0.5


def test_what_cannot_be_left_out_is_said(placed: ScanState) -> None:
    for values, why in (
        ({"pass": "tipped", "frames": [1]}, "no pass “tipped”"),
        ({"frames": [12]}, "frames 0 to 11, no frame 12"),
        ({}, "Name the frames"),
        ({"frames": "4-2"}, "runs backwards"),
    ):
        with pytest.raises(ParameterError, match=why):
            leave_out(placed, FramesParameters.from_dict(values), silent)
    with pytest.raises(StepNotPossible, match="no frame of “upright” would be left"):
        leave_out(placed, FramesParameters(frames=tuple(range(12))), silent)
    two = replace(placed, passes=(placed.passes[0], replace(placed.passes[0], title="other")))
    with pytest.raises(ParameterError, match="there are several"):
        leave_out(two, FramesParameters(frames=(1,)), silent)
