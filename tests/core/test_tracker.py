"""The tracker frame by frame, devices that stream, captures that grow, results that are remembered."""

import gc
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scenes import QUICK, knot_field, knot_model, rendered_state, ring_of_views

from lucid_relic.alignment.place_frame import looked_through
from lucid_relic.alignment.tracker import LostFrame, TrackedFrame, Tracker
from lucid_relic.alignment.views import Views
from lucid_relic.capture.device import ControlChannel
from lucid_relic.capture.hand import HandPlan, VirtualHandScanner
from lucid_relic.capture.stream import PlayedStream
from lucid_relic.demo.shapes import box
from lucid_relic.errors import Cancelled, InputError
from lucid_relic.geometry.rigid import difference, inverse, small_motion
from lucid_relic.io.capture_folder import HEAD_NAME, LINES_NAME, CaptureFolder
from lucid_relic.io.capture_writer import CaptureWriter
from lucid_relic.memo import array_bytes, remember, remembered, remembered_bytes
from lucid_relic.progress import silent, watched
from lucid_relic.types import Camera

CAMERA = Camera.centred(120, 90, 165.0)


def test_frames_are_placed_as_they_are_pushed_and_a_lost_one_carries_no_pose() -> None:
    views = ring_of_views(48, 160.0, (25.0,), (0, 0, 25))
    scan = rendered_state(knot_field, views, CAMERA, noise_mm=0.02).passes[0]
    crate = rendered_state(lambda p: box(p, (0, 0, 24), (24, 8, 24), 1), views[6:7], CAMERA)
    scan.source.images[6] = crate.passes[0].source.images[0]
    still = replace(scan, frame_poses=np.repeat(np.eye(4)[None], 48, axis=0), posed=False)
    tracker = Tracker(still)
    for index in range(12):
        answer = tracker.push(index)
        if index == 6:
            assert isinstance(answer, LostFrame) and not hasattr(answer, "pose") and answer.reason
            continue
        assert isinstance(answer, TrackedFrame)
        off = views[0] @ answer.pose @ inverse(views[index])
        assert difference(off, np.eye(4))[0] < 1.0 and answer.residual_mm < 0.2
    assert tracker.placed == [0, 1, 2, 3, 4, 5, 7, 8, 9, 10, 11]


def test_a_trembling_hand_is_followed() -> None:
    views = trembling(ring_of_views(30, 160.0, (25.0,), (0, 0, 25)), mm=5.0, degrees=1.5)
    scan = rendered_state(knot_field, views, CAMERA, noise_mm=0.1).passes[0]
    tracker = Tracker(replace(scan, frame_poses=np.repeat(np.eye(4)[None], 30, axis=0), posed=False))
    answers = [tracker.push(index) for index in range(30)]
    off = [difference(views[0] @ a.pose @ inverse(views[a.frame]), np.eye(4))[0] for a in answers]
    assert max(off) < 2.0 and not any(a.found for a in answers)


def trembling(views: np.ndarray, mm: float, degrees: float) -> np.ndarray:
    """Views that a hand holds, which is off by so much from frame to frame."""
    rng = np.random.default_rng(8)
    shakes = rng.normal(size=(len(views), 6)) * [*[np.radians(degrees)] * 3, *[mm] * 3]
    return np.stack([view @ small_motion(shake) for view, shake in zip(views, shakes, strict=True)])


def test_a_body_that_looks_alike_from_two_sides_is_not_taken_for_its_other_side() -> None:
    views = ring_of_views(48, 160.0, (25.0,), (0, 0, 25))
    # The hand goes once round a body that half a turn maps onto itself, then is a quarter of a turn further at once.
    path = np.concatenate([views[::2], views[12:14]])
    scan = rendered_state(both_halves, path, CAMERA, noise_mm=0.05).passes[0]
    tracker = Tracker(replace(scan, frame_poses=np.repeat(np.eye(4)[None], 26, axis=0), posed=False))
    answers = [tracker.push(index) for index in range(26)]
    assert all(isinstance(a, TrackedFrame) for a in answers[:24])
    assert all(isinstance(a, LostFrame) for a in answers[24:]), "no frame says which of two sides it sees"


def both_halves(p: np.ndarray) -> np.ndarray:
    """Two knots, each the other turned by 180° about z."""
    here, there = p - np.float32([16, 0, 0]), p * np.float32([-1, -1, 1]) - np.float32([16, 0, 0])
    return np.minimum(knot_field(here), knot_field(there))


def test_what_neighbours_looked_through_speaks_against_a_pose() -> None:
    views = ring_of_views(48, 160.0, (25.0,), (0, 0, 25))[:4]
    scan = rendered_state(knot_field, views, CAMERA, noise_mm=0.05).passes[0]
    seen = Views(scan)
    near = [(views[i], seen[i]) for i in range(3)]
    assert looked_through(seen[3], views[3], near) == 0.0
    aside = views[3].copy()
    aside[:3, 3] += 6.0
    assert looked_through(seen[3], aside, near) > 0.02


def device() -> VirtualHandScanner:
    return VirtualHandScanner(knot_model(2.0), HandPlan(frames=9), QUICK)


def test_a_stream_gives_the_planned_frames_and_stops_when_told() -> None:
    control = ControlChannel()
    stream = PlayedStream(device(), frames_per_s=200)
    shots = []
    for shot in stream.frames(control):
        shots.append(shot)
        if len(shots) == 5:
            control.stop()
    assert len(shots) == 5 and np.array_equal(shots[3].depth, device().shoot(3).depth)
    assert stream.manifest()["tracking"] == "shape"
    assert len(list(stream.frames(ControlChannel()))) == 9


def test_a_pause_holds_the_stream_without_losing_a_frame() -> None:
    control, got, more = ControlChannel(), [], threading.Event()

    def run() -> None:
        for shot in PlayedStream(device(), frames_per_s=400).frames(control):
            got.append(shot.fields["time_s"])
            if len(got) == 2:
                control.pause()
                more.set()

    thread = threading.Thread(target=run)
    thread.start()
    assert more.wait(20)
    thread.join(0.5)
    assert thread.is_alive() and control.paused and len(got) == 2
    control.go_on()
    thread.join(20)
    assert not thread.is_alive() and got == sorted(got) and len(got) == 9
    waiting = ControlChannel()
    waiting.pause()
    threading.Timer(0.1, waiting.stop).start()
    assert list(PlayedStream(device()).frames(waiting)) == [], "a paused pass must end when it is stopped"


def test_a_capture_grows_by_lines_and_can_be_read_meanwhile(tmp_path: Path) -> None:
    scanner = device()
    writer = CaptureWriter(tmp_path / "pass", scanner.manifest())
    with pytest.raises(InputError, match="frames is empty"):
        CaptureFolder(tmp_path / "pass")
    sizes = []
    for index in range(6):
        shot = scanner.shoot(index)
        before = (tmp_path / "pass" / LINES_NAME).stat().st_size
        writer.add(shot.depth, shot.colour, **shot.fields)
        sizes.append((tmp_path / "pass" / LINES_NAME).stat().st_size - before)
        growing = CaptureFolder(tmp_path / "pass")
        assert len(growing.manifest.frames) == index + 1
        assert np.allclose(growing.depth(index), shot.depth, atol=QUICK.depth_unit_mm)
    assert max(sizes) < 1.2 * min(sizes), "a frame must cost the same however many there are"
    with (tmp_path / "pass" / LINES_NAME).open("ab") as lines:
        lines.write(b'{"depth": "dep')
    assert len(CaptureFolder(tmp_path / "pass").manifest.frames) == 6, "a line that is being written is left for later"
    writer.finish()
    whole = CaptureFolder(tmp_path / "pass")
    assert len(whole.manifest.frames) == 6 and not (tmp_path / "pass" / HEAD_NAME).exists()
    whole.check()


def test_one_waits_only_for_the_same_result() -> None:
    owner, made = type("Owner", (), {})(), []
    begun, go_on = threading.Event(), threading.Event()

    def long() -> str:
        begun.set()
        assert go_on.wait(20)
        made.append("long")
        return "long"

    answers: list[str] = []
    asking = [threading.Thread(target=lambda: answers.append(remembered(owner, "long", long))) for _ in range(2)]
    for thread in asking:
        thread.start()
    assert begun.wait(20)
    assert remembered(owner, "short", lambda: "short") == "short", "another result does not wait for the long one"
    go_on.set()
    for thread in asking:
        thread.join(20)
    assert answers == ["long", "long"] and made == ["long"], "who asks for the same gets what is made once"
    with pytest.raises(InputError):
        remembered(owner, "bad", _refuse)
    assert remembered(owner, "bad", lambda: "good") == "good", "what failed is tried again"


def _refuse() -> str:
    raise InputError("no")


def test_what_lies_farther_than_an_image_can_tell_is_not_measured(tmp_path: Path) -> None:
    writer = CaptureWriter(tmp_path / "pass", {**device().manifest(), "depth_unit_mm": 0.01})
    farthest = 65535 * 0.01
    depth = np.zeros((QUICK.height, QUICK.width), np.float32)
    depth[0, :4] = farthest, farthest + 0.01, 1200.0, -1.0
    writer.add(depth, None)
    assert CaptureFolder(tmp_path / "pass").depth(0)[0, :4] == pytest.approx([farthest, 0.0, 0.0, 0.0], abs=1e-3)


def test_results_live_as_long_as_what_they_follow_from() -> None:
    class Owner:
        pass

    owner, made = Owner(), []
    make = lambda: made.append(1) or np.zeros(1000)  # noqa: E731
    first = remembered(owner, "x", make)
    assert remembered(owner, "x", make) is first and len(made) == 1
    remember(owner, "y", {"a": [np.zeros(10, np.float32)]})
    assert remembered_bytes(owner) == 8000 + 40
    other = Owner()
    assert remembered(other, "x", make) is not first and len(made) == 2
    name = id(owner)
    del owner, first
    gc.collect()
    from lucid_relic import memo

    assert name not in memo._kept and id(other) in memo._kept
    assert array_bytes("text") == 0


def test_a_watched_loop_is_told_about_and_can_be_stopped() -> None:
    def slow(board: np.ndarray) -> str:
        for k in range(40):
            board[0] = k
            if board[1]:
                return "stopped"
            threading.Event().wait(0.05)
        return "done"

    told = []
    assert watched(slow, lambda f, m: told.append((f, m)), 40, "Working") == "done"
    assert len(told) >= 3 and told == sorted(told) and all(0 <= f <= 1 for f, _ in told)
    stopped = []

    def stop(fraction: float, message: str) -> None:
        raise Cancelled

    def noting(board: np.ndarray) -> str:
        stopped.append(slow(board))
        return stopped[0]

    with pytest.raises(Cancelled):
        watched(noting, stop, 40, "Working")
    assert stopped == ["stopped"]
    with pytest.raises(ZeroDivisionError):
        watched(lambda board: 1 // 0, silent, 1, "x")
