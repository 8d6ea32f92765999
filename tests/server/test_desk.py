"""The desk in a real live service: passes that pause, step back, outlive faults and kills; checks; who drives."""

import json
import time
import uuid

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from django.db import transaction
from django.test import Client
from live_service import Service, frames, fresh, wait_for

from instruments import checks, desk
from instruments.models import Check, Stand
from jobs import services, supervise
from jobs.models import Job
from live import desk as desk_of_live
from lucid_relic.desk.guided_checks import Glance
from lucid_relic.io.capture_folder import CaptureFolder
from objects import actions, core_door
from objects.errors import Busy, NothingThere, Refused
from objects.models import Capture, ScanObject

pytestmark = pytest.mark.django_db(transaction=True)
PLAN = {
    "title": "upright", "stops": 6, "instrument": "desk", "exposure_ms": [8.0], "elevation_deg": 24.0, "tip_deg": 0.0,
    "tip_about_deg": 0.0, "hold": True,
}  # fmt: skip


@pytest.fixture(scope="module")
def service(django_db_setup):
    """It serves all tests of this file; those that kill it start it again."""
    running = Service()
    running.start()
    yield running
    running.kill()


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


@pytest.fixture
def scan_object(keeper) -> ScanObject:
    return actions.create_object(keeper, "Tile", "", "tile")


def begin(scan_object: ScanObject, pause: float = 0.05, **plan) -> Job:
    """A pass without a real table's waits."""
    with transaction.atomic():
        job = services.start_capture(scan_object, scan_object.owner, {**PLAN, **plan}, "tile", 3)
        Job.objects.filter(pk=job.pk).update(payload={**job.payload, "pause": pause})
    return job


def test_a_pass_needs_no_worker_and_is_the_objects_only_when_it_is_accepted(service, scan_object, keeper) -> None:
    """No worker runs here at all: whatever recipes wait for, a pass does not."""
    job = begin(scan_object, start_deg=90.0)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    held = Capture.objects.get()
    assert held.state == Capture.State.HELD and held.frames == 6 and fresh(scan_object).head is None
    for first, last in ((3, 1), (0, 6), (-1, 2)):
        with pytest.raises(Refused, match="Keep frames of 1 to 6"):
            actions.accept_capture(held.pk, keeper, first, last)
    step = actions.accept_capture(held.pk, keeper, 1, 4)
    told = fresh(scan_object).head.summary["passes"][0]
    assert told["frames_in"] == [False, True, True, True, True, False] and "4 frames" in step.title
    with pytest.raises(NothingThere):
        actions.throw_away_capture(held.pk, keeper)
    taken = CaptureFolder(core_door.capture_path(str(held.pk)))
    assert len(taken.manifest.frames) == 6  # none is lost
    assert taken.as_pass().turntable.degrees.tolist() == [90, 150, 210, 270, 330, 390]


def test_pause_step_back_go_on_and_throw_away(service, scan_object, keeper) -> None:
    job = begin(scan_object, pause=0.3)
    wait_for(lambda: frames(job) >= 2)
    services.pause(job)
    wait_for(lambda: "Paused" in fresh(job).waiting)
    stood = frames(job)
    services.step_back(job)
    wait_for(lambda: frames(job) == stood - 1)
    time.sleep(0.6)
    assert frames(job) == stood - 1 and fresh(job).state == Job.State.RUNNING
    services.go_on(job)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    held = Capture.objects.get()
    assert held.frames == 6 and fresh(job).waiting == ""
    manifest = json.loads((core_door.capture_path(str(held.pk)) / "capture.json").read_text())
    assert [f["turntable_deg"] for f in manifest["frames"]] == [0, 60, 120, 180, 240, 300]
    actions.throw_away_capture(held.pk, keeper)
    assert not Capture.objects.exists() and not core_door.capture_path(str(held.pk)).exists()
    with pytest.raises(Busy):
        services.pause(fresh(job))


def test_stopped_and_kept_or_thrown_away_while_it_stands_still(service, scan_object) -> None:
    job = begin(scan_object)
    wait_for(lambda: frames(job) >= 2)
    services.pause(job)
    wait_for(lambda: fresh(job).waiting)
    services.finish_capture(job)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    kept = Capture.objects.get()
    assert kept.state == Capture.State.HELD and 2 <= kept.frames < 6
    other = begin(scan_object)
    wait_for(lambda: frames(other) >= 1)
    services.cancel(other)
    wait_for(lambda: fresh(other).state == Job.State.CANCELLED)
    assert list(Capture.objects.values_list("pk", flat=True)) == [kept.pk]


@pytest.mark.parametrize("fault, says", [("cable", "put its cable in"), ("table", "does not turn")])
def test_a_fault_is_told_and_the_pass_goes_on_when_it_is_put_right(service, scan_object, keeper, fault, says) -> None:
    job = begin(scan_object, pause=0.15)
    wait_for(lambda: frames(job) >= 2)
    desk.provoke("desk", keeper, fault)
    wait_for(lambda: says in fresh(job).waiting)
    stood = frames(job)
    time.sleep(0.5)
    assert frames(job) == stood
    desk.provoke("desk", keeper, "")
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    assert Capture.objects.get().frames == 6


def test_a_cold_lamp_is_told_at_the_end(service, scan_object, keeper) -> None:
    desk.provoke("desk", keeper, "lamp")
    job = begin(scan_object, stops=3)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    assert "still warming up" in fresh(job).error


def test_killed_in_the_midst_of_a_pass_the_next_service_goes_on_behind_the_last_frame(service, scan_object) -> None:
    job = begin(scan_object, pause=0.3)
    wait_for(lambda: frames(job) >= 2)
    service.kill()
    parts = next(core_door.capture_path("x").parent.glob(f".part-{job.payload['capture']}*"))
    first = (parts / "depth" / "000000.png").stat().st_mtime_ns
    assert fresh(job).state == Job.State.RUNNING
    service.start()
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    folder = core_door.capture_path(job.payload["capture"])
    assert Capture.objects.get().frames == 6 and fresh(job).losses == 1
    assert (folder / "depth" / "000000.png").stat().st_mtime_ns == first


def test_an_instrument_that_is_not_connected_takes_no_pass(scan_object, keeper) -> None:
    client = Client()
    client.force_login(keeper, backend="django.contrib.auth.backends.ModelBackend")
    desk.connect("desk", keeper, False)
    answer = client.post(f"/api/objects/{scan_object.pk}/captures", json.dumps(PLAN), content_type="application/json")
    assert answer.status_code == 400 and "Connect it under Instruments" in answer.json()["error"]
    assert not Job.objects.exists()


def test_one_drives_the_other_asks_and_is_given_it(keeper) -> None:
    other = get_user_model().objects.create_user("tomas")
    desk.drive("desk", keeper)
    with pytest.raises(Busy, match="mira drives the desk head"):
        desk.drive("desk", other)
    desk.drive("jewel", other)
    desk.ask("desk", other)
    assert desk.stands()["desk"].asked_by == other and desk.driver_of(desk.stands()["desk"]) == keeper
    desk.answer("desk", keeper, hand_over=False)
    assert desk.stands()["desk"].asked_by is None
    desk.ask("desk", other)
    desk.answer("desk", keeper, hand_over=True)
    desk.drive("desk", other)
    with pytest.raises(Busy, match="tomas drives"):
        checks.begin("desk", "board", keeper)
    Stand.objects.filter(name="desk").update(driven="2020-01-01T00:00:00Z")
    desk.drive("desk", keeper)  # nobody has driven it for long


def test_a_card_is_checked_kept_and_travels_with_the_next_pass(service, scan_object, keeper) -> None:
    check = checks.begin("desk", "card", keeper)
    wait_for(lambda: fresh(check).state == Check.State.DONE)
    told = fresh(check)
    assert told.ok and told.figures["after"] < 2 < told.figures["before"] and checks.picture_path(told).exists()
    job = begin(scan_object, stops=3)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    manifest = json.loads((core_door.capture_path(job.payload["capture"]) / "capture.json").read_text())
    assert manifest["colour_correction"]["matrix"] == told.figures["matrix"]
    # A white sheet later in the same light hardly changes what the card told.
    sheet = checks.begin("desk", "sheet", keeper)
    wait_for(lambda: fresh(sheet).state == Check.State.DONE)
    carried = desk.colour_of("desk")["colour_correction"]
    assert carried["made"] == fresh(sheet).created.isoformat() and carried["after"] == told.figures["after"]
    assert carried["matrix"] != told.figures["matrix"]
    assert np.allclose(carried["matrix"], told.figures["matrix"], atol=0.08)


def test_checks_that_cannot_be_made_say_why_and_a_stopped_one_stops(service, keeper) -> None:
    with pytest.raises(Refused, match="no such check"):
        checks.begin("line", "axis", keeper)
    desk.provoke("desk", keeper, "other board")
    wrong = checks.begin("desk", "board", keeper)
    with pytest.raises(Busy, match="under way"):
        checks.begin("desk", "board", keeper)
    wait_for(lambda: fresh(wrong).state == Check.State.FAILED)
    assert "another board" in fresh(wrong).words
    desk.provoke("desk", keeper, "")
    slow = checks.begin("jewel", "board", keeper)
    wait_for(lambda: fresh(slow).pictures)
    assert fresh(slow).outline
    checks.stop(slow)
    wait_for(lambda: fresh(slow).state == Check.State.STOPPED)
    lost = checks.begin("jewel", "board", keeper)
    wait_for(lambda: fresh(lost).pictures)
    service.kill()
    service.start()
    wait_for(lambda: fresh(lost).state == Check.State.FAILED)
    assert "interrupted" in fresh(lost).words


def test_what_is_due_is_said(keeper) -> None:
    assert {d["kind"] for d in checks.due("desk", [])} == {"board", "axis", "card", "piece"}
    for kind in ("board", "axis", "card", "piece"):
        Check.objects.create(instrument="desk", kind=kind, state="done", ok=kind != "axis")
    assert [d["words"] for d in checks.due("desk", checks.history("desk"))] == [
        "Axis check: the last one was not good."
    ]


def signed_in(person) -> Client:
    client = Client()
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    return client


def send(client: Client, path: str, body: dict | None = None):
    return client.post(path, json.dumps(body or {}), content_type="application/json")


def test_single_shots_are_taken_when_asked_for_and_one_is_taken_back(service, scan_object) -> None:
    job = begin(scan_object, shots=True)
    wait_for(lambda: "first shot" in fresh(job).waiting)
    for count in (1, 2):
        services.shoot(job)
        wait_for(lambda count=count: frames(job) == count)
    services.step_back(job)
    wait_for(lambda: frames(job) == 1)
    services.shoot(job)
    wait_for(lambda: frames(job) == 2)
    services.finish_capture(job)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    held = Capture.objects.get()
    assert (held.frames, held.planned) == (2, 2)
    scan = core_door.capture_path(str(held.pk))
    manifest = json.loads((scan / "capture.json").read_text())
    assert manifest["tracking"] == "shape" and all(len(f["pose"]) == 4 for f in manifest["frames"])


def test_an_accepted_pass_is_placed_in_a_job_with_all_that_is_not(service, scan_object, keeper) -> None:
    job = begin(scan_object)
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    client, capture = signed_in(keeper), job.payload["capture"]
    assert client.get(f"/api/objects/{scan_object.pk}").json()["held"]["id"] == capture
    wrong = send(client, f"/api/captures/{capture}", {"first": 5, "last": 2})
    assert wrong.status_code == 400 and "Keep frames of 1 to 6" in wrong.json()["error"]
    told = send(client, f"/api/captures/{capture}", {"last": 5}).json()
    assert told["title"] == "upright" and told["job"]["title"] == "Place “upright”"
    steps = Job.objects.get(pk=told["job"]["id"]).payload["steps"]
    assert [s["operation"] for s in steps] == ["place_frames", "stand_cut"]
    assert steps[0]["parameters"]["passes"] == ["upright"]
    assert client.get(f"/api/objects/{scan_object.pk}").json()["held"] is None
    assert send(client, f"/api/captures/{capture}", {}).status_code == 409
    stranger = signed_in(get_user_model().objects.create_user("tomas"))
    assert stranger.delete(f"/api/captures/{capture}").status_code == 404


def test_instruments_and_named_set_ups_through_the_api(keeper) -> None:
    client = signed_in(keeper)
    assert [i["name"] for i in client.get("/api/instruments").json()] == ["desk", "jewel", "hand", "line"]
    gone = {i["name"]: i for i in send(client, "/api/instruments/jewel/disconnect").json()}["jewel"]
    assert not gone["connected"] and [k["name"] for k in gone["kinds"]] == ["board", "axis", "card", "piece", "sheet"]
    refused = send(client, "/api/instruments/jewel/checks", {"kind": "board"})
    assert refused.status_code == 400 and "not connected" in refused.json()["error"]
    assert send(client, "/api/instruments/anvil/connect").status_code == 400
    assert send(client, "/api/instruments/desk/provoke", {"fault": "flood"}).status_code == 400
    begun = send(client, "/api/instruments/desk/checks", {"kind": "card"})
    assert begun.status_code == 201 and begun.json()["state"] == "waiting"
    address = f"/api/checks/{begun.json()['id']}"
    assert client.delete(address).status_code == 204 and client.get(f"{address}/picture").status_code == 404
    assert client.get(address).json()["state"] in ("stopped", "running", "waiting", "done")

    kept = send(client, "/api/set-ups", {"name": "Small bronzes", "set_up": {**PLAN, "title": "x"}})
    assert kept.status_code == 201 and "title" not in kept.json()["set_up"]
    wrong = send(client, "/api/set-ups", {"name": "dark", "set_up": {"instrument": "desk", "exposure_ms": [0.0]}})
    assert wrong.status_code == 400 and "exposure" in wrong.json()["error"].lower()
    stranger = signed_in(get_user_model().objects.create_user("tomas"))
    assert stranger.get("/api/set-ups").json() == []
    assert stranger.delete(f"/api/set-ups/{kept.json()['id']}").status_code == 404
    assert client.delete(f"/api/set-ups/{kept.json()['id']}").status_code == 204
    assert client.get("/api/set-ups").json() == []


def test_on_a_full_disk_a_pass_stops_in_words_and_goes_on_behind_its_frames(scan_object, monkeypatch) -> None:
    """The desk's own thread, here in this process: no service takes the job."""
    job = Job.objects.create(
        scan_object=scan_object, who=scan_object.owner, kind="capture", title="x", state=Job.State.RUNNING, attempts=1,
        payload={
            "capture": str(uuid.uuid4()), "title": "upright", "planned": 6, "plan": PLAN, "model": "tile", "seed": 3,
            "pause": 0.4,
        },
    )  # fmt: skip
    monkeypatch.setattr(supervise.room, "is_running_out", lambda: frames(job) >= 2)
    supervise.attend(job, desk_of_live.Thread)
    stopped = fresh(job)
    assert stopped.state == Job.State.FAILED and stopped.message == "No room" and "room" in stopped.error.lower()
    taken = frames(job)
    assert 2 <= taken < 6 and services.can_run_again(stopped)
    monkeypatch.setattr(supervise.room, "is_running_out", lambda: False)
    Job.objects.filter(pk=job.pk).update(state=Job.State.RUNNING, attempts=2)
    supervise.attend(fresh(job), desk_of_live.Thread)
    assert fresh(job).state == Job.State.DONE, fresh(job).error
    held = Capture.objects.get()
    assert held.frames == 6 and held.state == Capture.State.HELD


def test_a_picture_of_a_check_that_is_on_its_way_is_not_cut_short(tmp_path) -> None:
    path = tmp_path / "cache" / "check.jpg"
    rng = np.random.default_rng(4)
    noisy, plain = rng.integers(0, 255, (480, 640), np.uint8), np.zeros((480, 640), np.uint8)
    assert core_door.save_glance(Glance(noisy, None, "Looking", 1, 8), path) == []
    first = path.read_bytes()
    with path.open("rb") as on_its_way:
        core_door.save_glance(Glance(plain, None, "Looking", 2, 8), path)
        assert on_its_way.read() == first
    assert len(path.read_bytes()) < len(first) and [p.name for p in path.parent.iterdir()] == ["check.jpg"]
