"""The server through its API: who may see what, jobs to their end, undo, ranges, refusals."""

import asyncio
import json
from pathlib import Path

import pytest
from django.contrib.auth import get_user_model
from django.test import Client

from accounts.services import DEMO_USER
from jobs import services as job_services
from jobs import supervise as supervision
from jobs.models import Job
from jobs.supervise import supervise_next
from lucid_relic.io.capture_folder import CaptureFolder
from objects import actions, core_door
from objects.models import Capture, ScanObject, Snapshot

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("maker")]
PASSWORD = "tide-and-slate-7"


@pytest.fixture
def keeper(client: Client):
    user = get_user_model().objects.create_user("mira", password=PASSWORD)
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    return user


@pytest.fixture
def stranger() -> Client:
    user = get_user_model().objects.create_user("other", password=PASSWORD)
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    return client


def post(client: Client, path: str, body: dict | None = None):
    return client.post(path, json.dumps(body or {}), content_type="application/json")


def new_object(client: Client, title: str = "Test lump") -> str:
    answer = post(client, "/api/objects", {"title": title})
    assert answer.status_code == 201
    return answer.json()["id"]


def send_zip(client: Client, object_id: str, content: bytes, name: str = "upright.zip"):
    return client.post(f"/api/objects/{object_id}/imports?name={name}", content, content_type="application/zip")


def import_zip(client: Client, object_id: str, content: bytes, name: str = "upright.zip") -> Job:
    answer = send_zip(client, object_id, content, name)
    assert answer.status_code == 201, answer.content
    return finished(answer.json()["id"])


def finished(job_id: str) -> Job:
    supervise_next()
    return Job.objects.get(pk=job_id)


def captured(job_id: str) -> Job:
    """A capture's job, run to its end as the desk does it, which takes captures by itself."""
    supervision.attend(job_services.claim(job_id), supervision.ChildProcess)
    return Job.objects.get(pk=job_id)


def body(response) -> bytes:
    async def collected() -> bytes:
        return b"".join([chunk async for chunk in response.streaming_content])

    return asyncio.run(collected())


def test_sign_in_out_and_lockout(client: Client) -> None:
    get_user_model().objects.create_user("mira", password=PASSWORD)
    assert client.get("/api/objects").status_code == 403
    wrong = {"username": "mira", "password": "wrong"}
    assert "wrong" in post(client, "/api/session", wrong).json()["error"]
    for _ in range(8):
        post(client, "/api/session", wrong)
    locked = post(client, "/api/session", {"username": "mira", "password": PASSWORD})
    assert locked.status_code == 429 and "quarter of an hour" in locked.json()["error"]


def test_right_password_signs_in(client: Client) -> None:
    get_user_model().objects.create_user("mira", password=PASSWORD)
    assert post(client, "/api/session", {"username": "mira", "password": PASSWORD}).json()["signed_in"]
    assert client.get("/api/objects").status_code == 200
    assert client.delete("/api/session").json()["signed_in"] is False
    assert client.get("/api/objects").status_code == 403


def test_demo_sign_in_only_on_a_demo_installation(client: Client, settings) -> None:
    get_user_model().objects.create_user(DEMO_USER)
    assert client.get("/api/session").json()["signed_in"] is False
    settings.DEMO = True
    assert Client(REMOTE_ADDR="10.0.0.7").get("/api/session").json()["signed_in"] is False
    assert client.get("/api/session").json()["signed_in"] is True


def test_changes_need_the_csrf_token(keeper) -> None:
    strict = Client(enforce_csrf_checks=True)
    strict.force_login(keeper, backend="django.contrib.auth.backends.ModelBackend")
    assert post(strict, "/api/objects", {"title": "x"}).status_code == 403


def test_others_see_nothing(client: Client, keeper, stranger: Client, zipped: Path) -> None:
    object_id = new_object(client)
    job = import_zip(client, object_id, zipped.read_bytes())
    snapshot = Snapshot.objects.get()
    capture = Capture.objects.get()
    for path in (
        f"/api/objects/{object_id}",
        f"/api/objects/{object_id}/picture",
        f"/api/objects/{object_id}/download/stl",
        f"/api/snapshots/{snapshot.id}/passes/0",
        f"/api/snapshots/{snapshot.id}/passes/0/unanswered/0",
        f"/api/snapshots/{snapshot.id}/glance",
        f"/api/snapshots/{snapshot.id}/rims",
        f"/api/snapshots/{snapshot.id}/takes/0",
        f"/api/snapshots/{snapshot.id}/takes/0/off/1",
        f"/api/captures/{capture.id}/frames/0/points",
        f"/api/captures/{capture.id}/frames/0/colour",
    ):
        assert stranger.get(path).status_code == 404, path
        assert Client().get(path).status_code == 403, path
    assert post(stranger, f"/api/jobs/{job.id}/cancel").status_code == 404
    assert stranger.get("/api/objects").json() == []


def test_import_run_download_undo(client: Client, keeper, zipped: Path) -> None:
    object_id = new_object(client)
    assert import_zip(client, object_id, zipped.read_bytes()).state == Job.State.DONE
    settings = {"fuse": {"voxel_mm": 1.2}, "simplify": {"triangles": 4000}, "lay_colour": {"size": 256}}
    started = post(client, f"/api/objects/{object_id}/runs", {"recipe": "print", "parameters": settings})
    assert started.status_code == 201
    busy = post(client, f"/api/objects/{object_id}/runs", {"operation": "fuse"})
    assert busy.status_code == 409 and "under way" in busy.json()["error"]
    job = finished(started.json()["id"])
    assert job.state == Job.State.DONE, job.error
    bench = client.get(f"/api/objects/{object_id}").json()
    assert bench["mesh"]["watertight"] and bench["mesh"]["textured"] and bench["upright"]
    assert [s["operation"] for s in bench["steps"]][0] == "add_pass" and len(bench["steps"]) == 12
    glb = client.get(f"/api/snapshots/{bench['snapshot']}/mesh")
    assert body(glb)[:4] == b"glTF" and "immutable" in glb["Cache-Control"]
    [take] = bench["takes"]
    assert take["voxel_mm"] == 1.2 and take["created"] and bench["of_take"] == take["name"] == "Take A"
    shown = f"/api/snapshots/{bench['snapshot']}"
    assert body(client.get(f"{shown}/takes/0"))[:4] == b"glTF"
    assert body(client.get(f"{shown}/glance"))[:4] == b"glTF" and not bench["glance"]
    assert client.get(f"/api/snapshots/{bench['steps'][0]['after']}/glance").status_code == 400
    for what in ("rims", "walls", "takes/0/off/0", "passes/0/unanswered/3"):
        assert len(body(client.get(f"{shown}/{what}"))) > 40, what
    for what in ("takes/1", "takes/0/off/3", "passes/7/unanswered/0", "nothing"):
        assert client.get(f"{shown}/{what}").status_code == 404, what
    beyond = client.get(f"{shown}/passes/0/unanswered/400")
    assert beyond.status_code == 400 and "has no frame 401" in beyond.json()["error"]
    for kind in ("stl", "obj", "ply", "glb", "3mf"):
        answer = client.get(f"/api/objects/{object_id}/download/{kind}")
        assert answer.status_code == 200 and "test-lump" in answer["Content-Disposition"]
        assert len(body(answer)) == int(answer["Content-Length"])
    before = client.get(f"/api/objects/{object_id}").json()
    undone = post(client, f"/api/objects/{object_id}/undo").json()
    assert undone["snapshot"] != before["snapshot"] and not undone["upright"] and undone["steps"][-1]["undone"]
    assert post(client, f"/api/objects/{object_id}/redo").json()["snapshot"] == before["snapshot"]
    for _ in range(12):
        assert post(client, f"/api/objects/{object_id}/undo").status_code == 200
    assert post(client, f"/api/objects/{object_id}/undo").status_code == 409


def test_ranges(client: Client, keeper, zipped: Path) -> None:
    object_id = new_object(client)
    import_zip(client, object_id, zipped.read_bytes())
    path = f"/api/captures/{Capture.objects.get().id}/frames/0/colour"
    whole = body(client.get(path))
    part = client.get(path, HTTP_RANGE="bytes=10-19")
    assert part.status_code == 206 and body(part) == whole[10:20]
    assert part["Content-Range"] == f"bytes 10-19/{len(whole)}"
    assert body(client.get(path, HTTP_RANGE="bytes=-7")) == whole[-7:]
    assert client.get(path, HTTP_RANGE=f"bytes={len(whole)}-").status_code == 416


def test_a_zip_is_taken_whatever_it_is_called(client: Client, keeper, zipped: Path) -> None:
    assert import_zip(client, new_object(client), zipped.read_bytes(), "capture").state == Job.State.DONE


def test_bad_upload_is_refused_and_leaves_nothing(client: Client, keeper, settings) -> None:
    object_id = new_object(client)
    answer = send_zip(client, object_id, b"dear museum", "bad.zip")
    assert answer.status_code == 400 and "bad.zip: this is not a .zip" in answer.json()["error"]
    for odd, shown in (("%01a%0Ab", "·a·b"), ("x/", "capture.zip"), ("..%2F..%2Fb.zip", "b.zip")):
        assert send_zip(client, object_id, b"", odd).json()["error"].startswith(f"{shown}: this is not")
    assert not Job.objects.exists()
    job = import_zip(client, object_id, b"PK\x05\x06" + b"\0" * 18, "bad.zip")
    assert job.state == Job.State.FAILED and job.error.startswith("bad.zip: there is no pass inside")
    assert not Capture.objects.exists() and not Snapshot.objects.exists()
    assert not list((settings.DATA / "uploads").iterdir())
    assert client.get("/api/jobs").json()[0]["repeatable"] is False
    again = post(client, f"/api/jobs/{job.id}/again")
    assert again.status_code == 409 and "import them once more" in again.json()["error"]


def test_capture_on_the_virtual_table_and_deleting(client: Client, keeper, settings) -> None:
    object_id = new_object(client)
    refused = post(client, f"/api/objects/{object_id}/captures", {"title": "x", "stops": 1})
    assert refused.status_code == 400 and "stops" in refused.json()["error"]
    answer = post(client, f"/api/objects/{object_id}/captures", {"title": "upright", "stops": 4, "model": "tile"})
    job = captured(answer.json()["id"])
    assert job.state == Job.State.DONE and job.result["frames"] == 4 and job.result["peak_mb"] > 0
    capture = Capture.objects.get()
    points = client.get(f"/api/captures/{capture.id}/frames/3/points")
    assert points.status_code == 200 and len(body(points)) > 1000
    assert client.get(f"/api/captures/{capture.id}/frames/4/points").status_code == 404
    assert client.delete(f"/api/objects/{object_id}").status_code == 204
    assert client.get("/api/objects").json()[0]["deleted"]
    actions.delete_for_good(ScanObject.objects.get())
    assert not ScanObject.objects.exists() and not (settings.DATA / "captures" / str(capture.id)).exists()


def test_an_operation_that_cannot_run_says_so(client: Client, keeper) -> None:
    object_id = new_object(client)
    answer = post(client, f"/api/objects/{object_id}/runs", {"operation": "fuse", "parameters": {"voxel_mm": -1}})
    assert answer.status_code == 400 and "voxel_mm" in answer.json()["error"]
    job = finished(post(client, f"/api/objects/{object_id}/runs", {"operation": "fuse"}).json()["id"])
    assert job.state == Job.State.FAILED and "Find the fit first" in job.error


def test_a_lost_job_is_found_and_goes_on_where_it_was(client: Client, keeper, zipped: Path) -> None:
    object_id = new_object(client)
    import_zip(client, object_id, zipped.read_bytes())
    started = post(client, f"/api/objects/{object_id}/runs", {"recipe": "draft"}).json()["id"]
    job = Job.objects.get(pk=started)
    # As after kill -9: the row says running, its first step is done, nobody extends the lease.
    whole = job.payload["steps"]
    Job.objects.filter(pk=started).update(payload={"steps": whole[:1]})
    assert finished(started).state == Job.State.DONE
    Job.objects.filter(pk=started).update(
        payload={"steps": whole}, state=Job.State.RUNNING, lease_until="2020-01-01T00:00:00Z", attempts=1
    )
    assert job_services.rescue() == 1
    assert finished(started).state == Job.State.DONE
    steps = client.get(f"/api/objects/{object_id}").json()["steps"]
    assert [s["operation"] for s in steps] == ["add_pass"] + [s["operation"] for s in whole]


def test_a_job_that_runs_here_is_not_taken_for_lost(client: Client, keeper, monkeypatch) -> None:
    object_id = new_object(client)
    post(client, f"/api/objects/{object_id}/runs", {"operation": "fuse"})
    seen = []

    def slow(job: Job, begin: object) -> None:
        Job.objects.filter(pk=job.id).update(lease_until="2020-01-01T00:00:00Z")
        seen.append((job_services.rescue(spare=supervision.running_here()), Job.objects.get(pk=job.id).state))

    monkeypatch.setattr(supervision, "_run", slow)
    supervise_next()
    assert seen == [(0, Job.State.RUNNING)]
    assert not supervision.running_here() and job_services.rescue(spare=supervision.running_here()) == 1


def test_a_job_lost_three_times_is_given_up(client: Client, keeper) -> None:
    object_id = new_object(client)
    started = post(client, f"/api/objects/{object_id}/runs", {"operation": "fuse"}).json()["id"]
    Job.objects.filter(pk=started).update(state=Job.State.RUNNING, lease_until="2020-01-01T00:00:00Z", losses=2)
    assert job_services.rescue() == 0
    assert Job.objects.get(pk=started).state == Job.State.FAILED
    assert post(client, f"/api/jobs/{started}/again").json()["state"] == "queued"


def test_a_waiting_job_is_stopped_at_once(client: Client, keeper) -> None:
    object_id = new_object(client)
    started = post(client, f"/api/objects/{object_id}/runs", {"operation": "fuse"}).json()["id"]
    assert post(client, f"/api/jobs/{started}/cancel").json()["state"] == "cancelled"
    assert finished(started).state == Job.State.CANCELLED


def test_page_carries_a_fresh_nonce_and_no_inline_script(client: Client) -> None:
    first, second = client.get("/"), client.get("/objects/anything")
    policy = first["Content-Security-Policy"]
    assert "'unsafe-inline'" not in policy.split("script-src")[1].split(";")[0]
    assert "nonce-" in policy and policy != second["Content-Security-Policy"]
    nonce = policy.split("nonce-")[1].split("'")[0]
    assert f'nonce="{nonce}"' in first.content.decode()


def test_gathered_points_are_counted_and_downloaded(client: Client, keeper, zipped: Path) -> None:
    object_id = new_object(client)
    import_zip(client, object_id, zipped.read_bytes())
    assert client.get(f"/api/objects/{object_id}/download/points").status_code == 400
    for name, parameters in (("place_frames", {}), ("gather_points", {"spacing_mm": 1.5})):
        answer = post(client, f"/api/objects/{object_id}/runs", {"operation": name, "parameters": parameters})
        assert finished(answer.json()["id"]).state == Job.State.DONE
    shown = client.get(f"/api/objects/{object_id}").json()["points"]
    head, _, data = body(client.get(f"/api/objects/{object_id}/download/points")).partition(b"end_header\n")
    assert f"element vertex {shown}\n".encode() in head and shown > 1000
    assert len(data) == shown * (6 * 4 + 3)


def test_a_pass_is_set_up_with_an_instrument_and_the_set_up_stays_with_the_object(client: Client, keeper) -> None:
    object_id = new_object(client)
    plan = {
        "instrument": "desk", "title": "twice lit", "stops": 3, "exposure_ms": [4, 16], "infrared": True,
        "gate_mm": [160, 400], "colour": False,
    }  # fmt: skip
    answer = post(client, f"/api/objects/{object_id}/captures", {**plan, "model": "tile"})
    assert answer.status_code == 201, answer.content
    job = captured(answer.json()["id"])
    assert job.state == Job.State.DONE, job.error
    bench = client.get(f"/api/objects/{object_id}").json()
    assert {k: bench["set_up"][k] for k in ("instrument", "exposure_ms", "gate_mm")} == {
        "instrument": "desk", "exposure_ms": [4.0, 16.0], "gate_mm": [160.0, 400.0],
    }  # fmt: skip
    folder = CaptureFolder(core_door.capture_path(bench["passes"][0]["capture"]))
    raw = folder.manifest.raw
    assert raw["set_up"]["infrared"] is True and raw["device"]["name"] == "desk head"
    assert raw["frames"][0]["exposures_ms"] == [4.0, 16.0] and "colour" not in raw["frames"][0]
    outlook = Capture.objects.get(pk=bench["passes"][0]["capture"]).outlook
    assert 0.1 < outlook["seen"] <= outlook["best_seen"] <= 1 and "stops" in outlook["best"]
    depth = folder.depth(1)
    assert depth[depth > 0].min() >= 160 and depth.max() <= 400


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        ({"exposure_ms": [0]}, "between 0.5 and 64 ms"),
        ({"gate_mm": [400, 200]}, "inside out"),
        ({"instrument": "line"}, "no table"),
        ({"path": "small and rich"}, "one axis"),
    ],
)
def test_a_set_up_that_cannot_be_starts_no_pass(client: Client, keeper, wrong: dict, says: str) -> None:
    object_id = new_object(client)
    answer = post(client, f"/api/objects/{object_id}/captures", {"instrument": "desk", "stops": 8, **wrong})
    assert answer.status_code == 400 and says in answer.content.decode()
    assert not Job.objects.exists() and not Capture.objects.exists()
    assert client.get(f"/api/objects/{object_id}").json()["set_up"] == {}


def test_the_catalogue_has_the_instruments_with_their_sheets(client: Client, keeper) -> None:
    listed = {i["name"]: i for i in client.get("/api/catalogue").json()["instruments"]}
    assert set(listed) == {"desk", "jewel", "hand", "line"}
    assert listed["jewel"]["paths"] and listed["jewel"]["spacing_mm"] == 0.03 and not listed["desk"]["paths"]
