"""Tracking by shape: many small steps, large ones, frames that show something else, and a hand pass settled."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import QUICK, knot_field, knot_model, rendered_state, ring_of_views

from lucid_relic.alignment import keyframes as keyframes_module
from lucid_relic.alignment.keyframes import FEWEST, keyframes
from lucid_relic.alignment.settle import settle
from lucid_relic.alignment.track import find_lost, track
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.demo.shapes import box
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import difference, inverse, is_rigid
from lucid_relic.io.capture_folder import CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.progress import silent
from lucid_relic.types import Camera, PassState

CAMERA = Camera.centred(120, 90, 165.0)


def unposed(scan: PassState) -> PassState:
    still = np.repeat(np.eye(4)[None], scan.frame_count, axis=0)
    return replace(scan, frame_poses=still, posed=False, tracking="shape")


def errors(found: PassState, truth: np.ndarray, middle: tuple[float, ...] = (0, 0, 25)) -> np.ndarray:
    """(n, 2) degrees and mm at the object's middle by which the used frames are off, against the first."""
    first, out = int(found.frames_used()[0]), []
    gauge = truth[first] @ inverse(found.frame_poses[first])
    for i in found.frames_used():
        off = gauge @ found.frame_poses[i] @ inverse(truth[i])
        out.append((difference(off, np.eye(4))[0], np.linalg.norm(off[:3, :3] @ middle + off[:3, 3] - middle)))
    return np.array(out)


@pytest.fixture(scope="module")
def round_walk() -> PassState:
    """48 frames once round the lump, 7.5° apart."""
    views = ring_of_views(48, 160.0, (25.0,), (0, 0, 25))
    return rendered_state(knot_field, views, CAMERA, noise_mm=0.02).passes[0]


def test_a_long_walk_stays_on_its_path(round_walk: PassState) -> None:
    tracked = track(unposed(round_walk), silent)
    assert not tracked.lost and all(is_rigid(p) for p in tracked.scan.frame_poses)
    off = errors(tracked.scan, round_walk.frame_poses)
    assert off[:, 0].max() < 1.5 and off[:, 1].max() < 0.8


def test_stops_far_apart_are_found_by_shape(round_walk: PassState) -> None:
    every = np.zeros(48, bool)
    every[::3] = True  # 22.5° apart
    tracked = track(unposed(replace(round_walk, frame_in=every)), silent)
    assert len(tracked.lost) <= 1
    assert errors(tracked.scan, round_walk.frame_poses)[:, 0].max() < 2.0


def test_frames_of_something_else_are_lost_and_the_rest_goes_on(round_walk: PassState) -> None:
    crate = rendered_state(lambda p: box(p, (0, 0, 24), (24, 8, 24), 1), round_walk.frame_poses[10:12], CAMERA)
    source = type(round_walk.source).__new__(type(round_walk.source))
    source.images = list(round_walk.source.images)
    source.images[10:12] = crate.passes[0].source.images
    some = np.arange(48) < 20
    tracked = track(unposed(replace(round_walk, source=source, frame_in=some)), silent)
    assert set(tracked.lost) == {10, 11}
    assert errors(tracked.scan, round_walk.frame_poses)[:, 0].max() < 1.0


def test_lost_frames_are_found_among_settled_ones(round_walk: PassState) -> None:
    lost = [20, 21, 40]
    inside = np.ones(48, bool)
    inside[lost] = False
    poses = round_walk.frame_poses.copy()
    poses[lost] = np.eye(4)
    found = find_lost(replace(round_walk, frame_poses=poses, frame_in=inside), lost, silent)
    assert not found.lost and found.scan.frame_in.all()
    assert errors(found.scan, round_walk.frame_poses)[:, 0].max() < 0.3


def test_nothing_alike_is_refused_with_what_to_do(round_walk: PassState) -> None:
    crate = rendered_state(lambda p: box(p, (0, 0, 24), (24, 8, 24), 1), round_walk.frame_poses[:1], CAMERA)
    source = type(round_walk.source).__new__(type(round_walk.source))
    source.images = [round_walk.source.images[0], crate.passes[0].source.images[0]]
    two = replace(
        round_walk, source=source, frame_poses=round_walk.frame_poses[:2], frame_in=np.ones(2, bool),
        fit_mm=np.zeros(2, np.float32),
    )  # fmt: skip
    with pytest.raises(StepNotPossible, match="turntable angles or poses"):
        track(unposed(two), silent)


def test_a_hand_pass_is_settled_by_its_keyframes(tmp_path: Path) -> None:
    scanner = VirtualHandScanner(knot_model(), HandPlan(frames=56, turns=0.45), QUICK, seed=4)
    writer = CaptureWriter(tmp_path, scanner.manifest())
    for index in range(56):
        shot = scanner.shoot(index)
        writer.add(shot.depth, shot.colour, **shot.fields)
    writer.finish()
    tracked = track(CaptureFolder(tmp_path).as_pass(), silent)
    assert not tracked.lost
    keys = keyframes(tracked.scan)
    assert FEWEST < 56 and len(keys) < 45 and {0, 55} <= set(keys)
    result = settle((tracked.scan,), silent, cleaned=False)
    # Frames between keyframes follow them and are told like all others.
    assert len(result.frames_before_mm[0]) == 56 and np.isfinite(result.passes[0].fit_mm).all()
    # Truth is the simulator's; only this judge reads it.
    off = errors(result.passes[0], scanner.truth_poses())
    assert len(off) == 56 and off[:, 0].max() < 0.4 and off[:, 1].max() < 0.25


def test_frames_that_follow_are_read_like_their_keyframes(round_walk: PassState, monkeypatch) -> None:
    # Nothing of any frame is kept; settle is asked to look at all of it, of followers too.
    monkeypatch.setattr(keyframes_module, "FEWEST", 10)
    monkeypatch.setattr(keyframes_module, "STEP_DEG", 12.0)
    monkeypatch.setattr(keyframes_module, "STEP_SHARE", 1.0)
    nothing = np.zeros((48, 120 * 90 // 8), np.uint8)
    scan = replace(round_walk, keep=nothing)
    assert len(keyframes(scan)) < 30
    result = settle((scan,), silent, cleaned=False)
    assert (result.passes[0].fit_mm > 0).all() and (result.frames_before_mm[0] > 0).all()
    assert errors(result.passes[0], round_walk.frame_poses)[:, 0].max() < 0.3
