"""Passes by hand: followed, steered, shown, stepped back, taken over after a kill, and placed by the poses they found."""

import json
from dataclasses import replace

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from django.db import transaction
from live_service import Service, asked_of, frames, fresh, wait_for

from jobs import services
from jobs.models import Job
from lucid_relic.errors import LucidRelicError, ParameterError, StepNotPossible
from lucid_relic.view.packing import unpack_arrays
from lucid_relic.view.pass_view import frame_view
from objects import actions, core_door
from objects.core_door.captures import open_pass
from objects.core_door.hand import HandUnderWay, hand_pass, hand_scene, steer
from objects.models import Capture

pytestmark = pytest.mark.django_db(transaction=True)
PLAN = {"instrument": "hand", "title": "by hand", "hold": True, "use": "print"}


def told(taking_key: str, since: int = -1) -> tuple[dict, dict]:
    head, arrays = unpack_arrays(hand_scene(taking_key, since, {"id": 1}))
    return head, arrays


def take(taking: HandUnderWay, count: int) -> None:
    for _ in range(count):
        assert taking.take()


@pytest.fixture(scope="module")
def taken():
    """What was told at the stations of one steered pass, and where its capture lies."""
    key, said = "5a8d3a2c-0000-4000-8000-000000000001", {}
    with pytest.raises(KeyError, match="cable"), hand_pass("owl", PLAN, 3, key, 1) as first:
        take(first, 9)
        said["begun"] = told(key)
        raise KeyError("cable")
    with hand_pass("owl", PLAN, 3, key, 2) as taking:
        said["went on at"] = taking.count
        steer(key, {"around_deg": 24.0, "up_deg": 8.0})
        take(taking, 12)
        said["steered"] = told(key)
        steer(key, {}, covered=True)
        take(taking, 2)
        said["covered"] = told(key, since=10_000)
        steer(key, {}, covered=False)
        take(taking, 3)
        said["found"] = told(key)
        hand_scene(key, -1, {}, plainly=True)
        steer(key, {}, back_to=taking.count - 1)
        taking.do_wishes()
        said["plainly"] = told(key)
        steer(key, {}, take_next=True)
        with pytest.raises(ParameterError, match="no such frames"):
            steer(key, {}, back_to=400)
        with pytest.raises(ParameterError, match="not a way"):
            steer(key, {"sideways": 3.0})
        with pytest.raises(ParameterError, match="no such frames"):
            steer(key, {}, drop=(9, 4))
        steer(key, {}, drop=(4, 8))
        taking.do_wishes()
        said["taken out"] = told(key)[0]["figures"]
        steer(key, {}, bring_back=(5, 7))
        taking.do_wishes()
        said["brought back"] = told(key)[0]["figures"]
        steer(key, {}, back_to=14)
        taking.do_wishes()
        said["back"] = taking.count
        take(taking, 2)
    return key, said


def test_the_bench_is_told_what_is_seen_held_and_missing(taken) -> None:
    head, arrays = taken[1]["steered"]
    figures = head["figures"]
    assert figures["state"] == "held" and figures["counts"] == {"in": 21, "lost": 0, "found": 0}
    assert 0.05 < figures["enough"] < 0.9 and figures["nexts"] and figures["line"]
    assert figures["slot_mm"][0] < figures["distance_mm"] < figures["slot_mm"][1] and max(figures["hill"]) == 1
    kinds = [layer["kind"] for layer in head["layers"]]
    assert figures["edition"] > taken[1]["begun"][0]["figures"]["edition"]
    assert kinds == ["hand", "model"] and arrays["0.photo"].shape[2] == 3 and arrays["0.head"].shape == (16,)
    assert len(arrays["1.vertices"]) == len(arrays["1.level"]) > 500 and arrays["1.faces"].max() < len(
        arrays["1.level"]
    )
    # A page that cannot draw that much has it with about a quarter of the triangles, over the same object.
    plain = taken[1]["plainly"][1]
    assert len(plain["1.faces"]) < 0.4 * len(taken[1]["found"][1]["1.faces"])
    assert np.ptp(plain["1.vertices"], axis=0) == pytest.approx(np.ptp(arrays["1.vertices"], axis=0), rel=0.15)
    # The model comes only when it is a newer one than the bench has, and nothing of a head that is lost.
    head, arrays = taken[1]["covered"]
    assert [layer["kind"] for layer in head["layers"]] == ["hand"] and arrays["0.head"].size == 0


def test_a_loss_is_said_and_found_again_and_a_step_back_forgets(taken) -> None:
    said = taken[1]
    assert said["went on at"] == 9 and said["begun"][0]["figures"]["frames"] == 9
    assert said["covered"][0]["figures"]["reason"] == "dark" and "covered" in said["covered"][0]["figures"]["line"]
    assert said["found"][0]["figures"]["counts"] == {"in": 24, "lost": 2, "found": 1} and said["back"] == 15


def test_frames_are_taken_out_of_a_pass_and_brought_back(taken) -> None:
    before, after = taken[1]["taken out"], taken[1]["brought back"]
    assert before["out"] == [[4, 8]] and before["runs"][:2] == [[0, 3], [9, 20]]
    assert after["out"] == [[4, 4], [8, 8]] and after["counts"]["in"] == before["counts"]["in"] + 3
    # What stays out has no pose in the capture, and why.
    scan = open_pass(taken[0])
    assert np.flatnonzero(~scan.frame_in).tolist() == [4, 8] and scan.source.manifest.frames[4].lost == "taken out"


def test_the_capture_stands_upright_and_is_placed_by_the_poses_it_found(taken) -> None:
    scan = open_pass(taken[0])
    assert scan.posed and scan.tracking == "shape" and scan.frame_count == 17
    eyes = scan.frame_poses[scan.frames_used(), :3, 3]
    look = scan.frame_poses[scan.frames_used(), :3, 2]
    assert (eyes[:, 2] > 80).all() and (look[:, 2] < -0.2).all()  # above the table, looking down
    # A frame that was lost has no points, told in the types that a browser reads.
    types = [
        {a.dtype for a in unpack_arrays(frame_view(s, 3).packed())[1].values()}
        for s in (scan, replace(scan, frame_in=np.zeros(17, bool)))
    ]
    assert types[0] == types[1]
    with pytest.raises(StepNotPossible, match="not taken just now"):
        steer(taken[0], {"around_deg": 3.0})


def test_what_a_head_in_a_hand_cannot_do_is_refused() -> None:
    for more, why in (({"shots": True}, "no single shots"), ({"held_by": "axis"}, "no axis")):
        with pytest.raises(LucidRelicError, match=why):
            core_door.check_set_up({**PLAN, **more})
    assert core_door.frames_of(PLAN) == 0 and core_door.by_hand(PLAN) and not core_door.by_hand({})


def test_a_pass_held_by_markers_tells_how_many_and_keeps_where_they_were_seen() -> None:
    key = "5a8d3a2c-0000-4000-8000-000000000002"
    with hand_pass("bell", {**PLAN, "held_by": "markers"}, 3, key, 1) as taking:
        take(taking, 5)
        head, arrays = told(key)
        steer(key, {}, covered=True)
        take(taking, 1)
    markers = head["figures"]["markers"]
    assert markers["held"] >= markers["wanted"] == 6 and markers["seen"] >= markers["held"]
    assert len(arrays["0.dots"]) == markers["known"]
    scan = open_pass(key)
    assert scan.tracking == "markers" and scan.frame_in.tolist() == [True] * 5 + [False]
    assert len(scan.source.marks(4)) == markers["seen"] and len(scan.source.marks(5)) == 0


def test_a_recorded_sweep_at_the_desk_outlives_a_kill_and_is_accepted() -> None:
    keeper = get_user_model().objects.create_user("mira", password="tide-and-slate-7")
    scan_object = actions.create_object(keeper, "Owl", "", "owl")
    service = Service()
    service.start()
    try:
        with transaction.atomic():
            job = services.start_capture(scan_object, keeper, {**PLAN, "sweep": "jump"}, "owl", 3)
        wait_for(lambda: frames(job) >= 8)
        service.kill()
        service.start()
        stood = frames(job)
        wait_for(lambda: frames(job) > stood)
        still = {"moves": {}, "take_next": False, "covered": None, "back_to": None}
        ask = {
            "kind": "hand",
            "id": 4,
            "capture": job.payload["capture"],
            "since": -1,
            "plainly": False,
            "steer": still,
        }
        # It goes on as long as somebody looks on.
        seen = wait_for(lambda: (seen := asked_of(ask)) and "sweep is over" in fresh(job).waiting and seen)
        assert unpack_arrays(seen)[0]["figures"]["frames"] > stood
        services.finish_capture(job)
        wait_for(lambda: fresh(job).state == Job.State.DONE)
    finally:
        service.kill()
    held = Capture.objects.get()
    assert held.state == Capture.State.HELD and held.frames == held.planned > stood
    manifest = json.loads((core_door.capture_path(str(held.pk)) / "capture.json").read_text())
    assert all(("pose" in f) != ("lost" in f) for f in manifest["frames"])
    assert np.isfinite([f["pose"] for f in manifest["frames"] if "pose" in f]).all()
    actions.accept_capture(held.pk, keeper, 0, held.frames - 1)
    told_of = fresh(scan_object).head.summary["passes"][0]
    assert told_of["frames"] == held.frames and open_pass(str(held.pk)).posed
