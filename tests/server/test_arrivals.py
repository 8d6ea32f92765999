"""Files sent in pieces and made into passes: resumed, refused one by one, taken up again, never more than once."""

import asyncio
import json
import os
import uuid
import zipfile
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from django.test import Client
from PIL import Image
from scenes import uv_sphere

from jobs import services
from jobs.kinds import KINDS
from jobs.models import Job
from jobs.tasks import run_job
from jobs.work import work
from lucid_relic.io.meshes import read_points, write_mesh, write_points
from lucid_relic.types import PointCloud
from objects import actions, core_door
from objects.models import Capture, ScanObject, Step, Upload
from operating import collect

pytestmark = pytest.mark.django_db(transaction=True)
PIECE = 1000


class Pipe:
    def send(self, said: object) -> None: ...

    def poll(self, seconds: float) -> bool:
        return False


@pytest.fixture(autouse=True)
def own_data(settings, tmp_path: Path) -> Path:
    settings.DATA, settings.PIECE_BYTES = tmp_path, PIECE
    for folder in ("uploads", "captures", "cache"):
        (tmp_path / folder).mkdir()
    return tmp_path


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira")


@pytest.fixture
def scan_object(keeper) -> ScanObject:
    return actions.create_object(keeper, "Keel bolt")


@pytest.fixture
def client(keeper) -> Client:
    client = Client()
    client.force_login(keeper, backend="django.contrib.auth.backends.ModelBackend")
    return client


@pytest.fixture
def files(tmp_path: Path) -> dict[str, bytes]:
    """Two good scans and a broken one."""
    ball = uv_sphere(20.0, 24, 48)
    folder = tmp_path / "made"
    folder.mkdir()
    write_mesh(folder / "front.ply", ball)
    write_points(folder / "back.ply", PointCloud(ball.vertices, ball.vertex_normals()))
    out = {name: (folder / name).read_bytes() for name in ("front.ply", "back.ply")}
    out["torn.ply"] = out["front.ply"][: len(out["front.ply"]) // 2]
    return out


def begin(client: Client, object_id: object, name: str, size: int):
    body = json.dumps({"name": name, "bytes": size})
    return client.post(f"/api/objects/{object_id}/uploads", body, content_type="application/json")


def piece(client: Client, upload: str, at: int, data: bytes):
    return client.put(f"/api/uploads/{upload}?at={at}", data, content_type="application/octet-stream")


def sent(client: Client, object_id: object, name: str, data: bytes) -> str:
    upload = begin(client, object_id, name, len(data)).json()
    for at in range(0, len(data), PIECE):
        answer = piece(client, upload["id"], at, data[at : at + PIECE])
        assert answer.json()["received"] == min(at + PIECE, len(data))
    return upload["id"]


def asked(client: Client, object_id: object, ids: list[str], **said: object):
    body = json.dumps({"uploads": ids, **said})
    return client.post(f"/api/objects/{object_id}/arrivals", body, content_type="application/json")


def worked(job_id: str) -> Job:
    job = services.claim(job_id)
    outcome = work(job, Pipe())
    services.end(job.turn, *outcome)
    return Job.objects.get(pk=job_id)


def test_three_files_one_broken_give_two_passes_and_a_sentence(client: Client, scan_object, files, own_data) -> None:
    ids = [sent(client, scan_object.pk, name, data) for name, data in files.items()]
    answer = asked(client, scan_object.pk, ids, unit="mm")
    assert answer.status_code == 201 and answer.json()["title"] == "Import 3 files"
    job = worked(answer.json()["id"])
    assert job.state == Job.State.DONE and job.result["passes"] == 2
    assert job.error.startswith("torn.ply: the file ends before")
    bench = client.get(f"/api/objects/{scan_object.pk}").json()
    assert [p["title"] for p in bench["passes"]] == ["front", "back"]
    assert [s["title"] for s in bench["steps"]] == ["Mesh “front”", "Points “back”"]
    assert bench["passes"][1]["points"]["count"] == len(uv_sphere(20.0, 24, 48).vertices)
    assert bench["passes"][0]["points"]["triangles"] and bench["passes"][0]["points"]["unit"] == "mm"
    assert [p["placed"] for p in bench["passes"]] == [True, False]
    assert Capture.objects.count() == 2 and not Upload.objects.exists()
    assert not list((own_data / "uploads").iterdir())
    assert {p.name for p in (own_data / "captures").iterdir()} == {str(c.pk) for c in Capture.objects.all()}


def test_only_broken_files_leave_nothing(client: Client, scan_object, files, own_data) -> None:
    ids = [sent(client, scan_object.pk, name, files["torn.ply"]) for name in ("a.ply", "b.ply")]
    job = worked(asked(client, scan_object.pk, ids).json()["id"])
    assert job.state == Job.State.FAILED and [line[:5] for line in job.error.splitlines()] == ["a.ply", "b.ply"]
    assert not Step.objects.exists() and not list((own_data / "captures").iterdir())


def test_what_broke_off_goes_on_where_it_was(client: Client, scan_object, files) -> None:
    data = files["front.ply"]
    upload = begin(client, scan_object.pk, "front.ply", len(data)).json()
    piece(client, upload["id"], 0, data[:PIECE])
    again = begin(client, scan_object.pk, "front.ply", len(data)).json()
    assert again["id"] == upload["id"] and again["received"] == PIECE and again["piece_bytes"] == PIECE
    wrong = piece(client, upload["id"], 0, data[:PIECE])
    assert wrong.status_code == 409 and f"{PIECE} bytes are here" in wrong.json()["error"]
    assert client.get(f"/api/uploads/{upload['id']}").json()["received"] == PIECE
    early = asked(client, scan_object.pk, [upload["id"]])
    assert early.status_code == 400 and "only 1,000 of" in early.json()["error"]
    piece(client, upload["id"], PIECE, data[PIECE:])
    assert asked(client, scan_object.pk, [upload["id"]]).status_code == 201


def test_another_file_of_the_same_name_and_size_is_not_mixed_with_what_came(client: Client, scan_object) -> None:
    def begun(stamp: str) -> dict:
        body = json.dumps({"name": "scan.xyz", "bytes": 10, "stamp": stamp})
        path = f"/api/objects/{scan_object.pk}/uploads"
        return client.post(path, body, content_type="application/json").json()

    first = begun("monday")
    piece(client, first["id"], 0, b"1 2 3")
    other = begun("tuesday")
    assert other["id"] != first["id"] and other["received"] == 0
    assert begun("monday") == {**first, "received": 5}


def test_more_than_was_said_is_refused_and_not_kept(client: Client, scan_object) -> None:
    upload = begin(client, scan_object.pk, "a.xyz", 10).json()
    answer = piece(client, upload["id"], 0, b"x" * 11)
    assert answer.status_code == 400 and "more came than the 10 bytes" in answer.json()["error"]
    assert client.get(f"/api/uploads/{upload['id']}").json()["received"] == 0
    assert client.delete(f"/api/uploads/{upload['id']}").status_code == 204
    assert client.get(f"/api/uploads/{upload['id']}").status_code == 404


def test_a_file_is_refused_before_it_is_sent(client: Client, scan_object, settings, monkeypatch) -> None:
    settings.MAX_UPLOAD_BYTES = 4 * 1024**3
    assert "more than 4 GB" in begin(client, scan_object.pk, "huge.e57", 5 * 1024**3).json()["error"]
    settings.MAX_UPLOAD_BYTES = 2**40
    full = begin(client, scan_object.pk, "huge.e57", 2**40)
    assert full.status_code == 507 and "full" in full.json()["error"]
    odd = begin(client, scan_object.pk, "..\\..\\a\x01b.ply", 10).json()
    assert odd["name"] == "a·b.ply"


def test_strangers_neither_see_nor_send(client: Client, scan_object) -> None:
    upload = begin(client, scan_object.pk, "a.xyz", 10).json()
    other = Client()
    other.force_login(
        get_user_model().objects.create_user("other"), backend="django.contrib.auth.backends.ModelBackend"
    )
    for visitor in (other, Client()):
        assert begin(visitor, scan_object.pk, "a.xyz", 10).status_code in (403, 404)
        assert piece(visitor, upload["id"], 0, b"x").status_code in (403, 404)
        assert asked(visitor, scan_object.pk, [upload["id"]]).status_code in (403, 404)
    unknown = asked(client, scan_object.pk, [str(uuid.uuid4())])
    assert unknown.status_code == 400 and "send it once more" in unknown.json()["error"]


def test_a_mesh_finds_its_material_among_the_files(client: Client, scan_object, tmp_path) -> None:
    (tmp_path / "m").mkdir()
    ball = uv_sphere(20.0, 12, 24)
    rows = ["mtllib ball.mtl", *(f"v {x} {y} {z}" for x, y, z in ball.vertices), "vt 0.5 0.5", "usemtl m"]
    rows += [" ".join(["f", *(f"{i + 1}/1" for i in face)]) for face in ball.faces]
    (tmp_path / "m" / "ball.obj").write_text("\n".join(rows))
    (tmp_path / "m" / "ball.mtl").write_text("newmtl m\nmap_Kd paint.png\n")
    Image.fromarray(np.full((8, 8, 3), (10, 200, 30), np.uint8)).save(tmp_path / "m" / "paint.png")
    ids = [
        sent(client, scan_object.pk, n, (tmp_path / "m" / n).read_bytes())
        for n in ("paint.png", "ball.mtl", "ball.obj")
    ]
    job = worked(asked(client, scan_object.pk, ids).json()["id"])
    assert (job.state, job.result["passes"]) == (Job.State.DONE, 1)
    assert client.get(f"/api/objects/{scan_object.pk}").json()["passes"][0]["points"]["coloured"]
    alone = sent(client, scan_object.pk, "paint.png", b"x" * 20)
    job = worked(asked(client, scan_object.pk, [alone]).json()["id"])
    assert job.state == Job.State.FAILED and "paint.png: no scan among these files" in job.error


def test_two_of_the_same_name_get_titles_of_their_own(client: Client, scan_object, files, tmp_path) -> None:
    with zipfile.ZipFile(tmp_path / "two.zip", "w") as bundle:
        bundle.writestr("a/scan.ply", files["front.ply"])
        bundle.writestr("b/scan.ply", files["back.ply"])
    upload = sent(client, scan_object.pk, "two.zip", (tmp_path / "two.zip").read_bytes())
    worked(asked(client, scan_object.pk, [upload]).json()["id"])
    assert [p["title"] for p in client.get(f"/api/objects/{scan_object.pk}").json()["passes"]] == ["scan", "scan 2"]


def test_an_import_that_was_lost_between_two_passes_brings_each_once(
    scan_object, keeper, files, own_data, monkeypatch
) -> None:
    paths = []
    for name in ("front.ply", "back.ply"):
        (own_data / "uploads" / name).write_bytes(files[name])
        paths.append((str(own_data / "uploads" / name), name))
    job = services.claim(services.start_import(scan_object, keeper, paths).pk)
    record, done = actions.add_arrival, []

    def lost(*about: object) -> Step:
        if done:
            raise KeyboardInterrupt
        done.append(record(*about))
        return done[0]

    monkeypatch.setattr(actions, "add_arrival", lost)
    with pytest.raises(KeyboardInterrupt):
        work(job, Pipe())
    monkeypatch.undo()
    assert Step.objects.count() == 1 and core_door.is_whole(core_door.arrival_key(job.pk, 1))
    Job.objects.filter(pk=job.pk).update(lease_until="2020-01-01T00:00:00Z")
    monkeypatch.setattr(type(run_job), "enqueue", lambda self, job_id: None)
    services.rescue()
    again = services.claim(job.pk)
    assert work(again, Pipe())[0] == Job.State.DONE
    assert [s.title for s in Step.objects.all()] == ["Mesh “front”", "Points “back”"]
    assert len(ScanObject.objects.get().head.manifest["passes"]) == 2


def test_a_stopped_import_keeps_what_was_recorded_and_nothing_else(scan_object, keeper, files, own_data) -> None:
    (own_data / "uploads" / "a").write_bytes(files["front.ply"])
    job = services.claim(services.start_import(scan_object, keeper, [(str(own_data / "uploads" / "a"), "a.ply")]).pk)
    for arrival in core_door.arrivals([(own_data / "uploads" / "a", "a.ply")], {}, job.pk, 1, core_door.silent):
        assert core_door.is_whole(arrival.key)
    KINDS["import"].clean_up(job)
    assert not list((own_data / "captures").iterdir()) and not list((own_data / "uploads").iterdir())


def test_uploads_that_nobody_goes_on_with_are_collected(client: Client, scan_object, own_data, monkeypatch) -> None:
    old, young = (begin(client, scan_object.pk, name, 10).json()["id"] for name in ("old.xyz", "young.xyz"))
    for one in (old, young):
        piece(client, one, 0, b"1 2 3\n")
    os.utime(own_data / "uploads" / old, (1, 1))
    Upload.objects.filter(pk=old).update(created="2020-01-01T00:00:00Z")
    collect.uploads()
    assert [str(u.pk) for u in Upload.objects.all()] == [young]
    assert [p.name for p in (own_data / "uploads").iterdir()] == [young]


@pytest.fixture
def two_objects(client: Client, scan_object, keeper, files) -> ScanObject:
    """An object with two passes of points, the second cut in half, beside the empty one."""
    other = actions.create_object(keeper, "Whole bolt")
    ids = [sent(client, other.pk, name, files[name]) for name in ("front.ply", "back.ply")]
    worked(asked(client, other.pk, ids, unit="mm").json()["id"])
    body = json.dumps({"operation": "stand_cut", "parameters": {"planes": {"back": [0, 0, 1, 0]}, "passes": ["back"]}})
    answer = client.post(f"/api/objects/{other.pk}/runs", body, content_type="application/json")
    assert worked(answer.json()["id"]).state == Job.State.DONE
    return ScanObject.objects.get(pk=other.pk)


def bring(client: Client, target: ScanObject, source: object, passes: list[str]):
    body = json.dumps({"source": str(source), "passes": passes})
    return client.post(f"/api/objects/{target.pk}/passes", body, content_type="application/json")


def test_a_pass_of_another_object_is_brought_over_as_it_is_cleaned(client: Client, scan_object, two_objects) -> None:
    answer = bring(client, scan_object, two_objects.pk, ["back"])
    assert answer.status_code == 201 and "Whole bolt" in answer.json()["title"]
    assert worked(answer.json()["id"]).state == Job.State.DONE
    here, there = (core_door.load(ScanObject.objects.get(pk=o.pk).head.manifest) for o in (scan_object, two_objects))
    (copy,), own = here.passes, there.passes[1]
    assert copy.title == "back" and copy.placed and (copy.kept_points() == own.kept_points()).all()
    assert copy.source.key != own.source.key and np.allclose(copy.cloud.cloud.points, own.cloud.cloud.points)
    assert [s.title for s in scan_object.steps.all()] == ["Brought over “back”"]
    actions.throw_away_object(two_objects.pk, two_objects.owner)
    assert len(core_door.load(ScanObject.objects.get(pk=scan_object.pk).head.manifest).passes[0].cloud.cloud.points)


def test_what_cannot_be_brought_over_is_said(client: Client, scan_object, two_objects) -> None:
    unknown = bring(client, scan_object, two_objects.pk, ["lid"])
    assert unknown.status_code == 400 and "no pass “lid”; it has: front, back" in unknown.json()["error"]
    foreign = actions.create_object(get_user_model().objects.create_user("other"), "Theirs")
    for nothing in (uuid.uuid4(), foreign.pk, scan_object.pk):
        assert "no such object" in bring(client, scan_object, nothing, ["back"]).json()["error"]


def taken(client: Client, path: str, name: str = "") -> bytes:
    async def collected(response) -> bytes:
        return b"".join([chunk async for chunk in response.streaming_content])

    answer = client.get(path)
    assert answer.status_code == 200 and name in answer["Content-Disposition"]
    return asyncio.run(collected(answer))


@pytest.mark.usefixtures("maker")
@pytest.mark.parametrize("kind", ["ply", "xyz", "e57"])
def test_a_pass_is_taken_away_as_its_kept_points(client: Client, two_objects, tmp_path: Path, kind: str) -> None:
    path = f"/api/objects/{two_objects.pk}/passes/1/download/{kind}"
    (tmp_path / f"back.{kind}").write_bytes(taken(client, path, f"whole-bolt-back.{kind}"))
    points = read_points(tmp_path / f"back.{kind}").points
    state = core_door.load(two_objects.head.manifest)
    kept = state.passes[1].cloud.cloud.select(state.passes[1].kept_points())
    assert len(points) == len(kept) and np.allclose(points, kept.points, atol=1e-4)
    refused = client.get(f"/api/objects/{two_objects.pk}/passes/1/download/capture")
    assert refused.status_code == 400 and "came as points" in refused.json()["error"]
    for nothing in ("passes/7/download/ply", "passes/1/download/docx"):
        assert client.get(f"/api/objects/{two_objects.pk}/{nothing}").status_code == 404


@pytest.mark.usefixtures("maker")
def test_a_capture_is_taken_away_as_it_came(client: Client, scan_object, zipped: Path, tmp_path: Path) -> None:
    upload = sent_whole(client, scan_object.pk, zipped)
    worked(asked(client, scan_object.pk, [upload]).json()["id"])
    (tmp_path / "again.zip").write_bytes(taken(client, f"/api/objects/{scan_object.pk}/passes/0/download/capture"))
    with zipfile.ZipFile(zipped) as before, zipfile.ZipFile(tmp_path / "again.zip") as after:
        names = [n for n in before.namelist() if not n.endswith("/")]
        assert sorted(after.namelist()) == sorted(names)
        assert all(before.read(n) == after.read(n) for n in names)
    points = taken(client, f"/api/objects/{scan_object.pk}/passes/0/download/ply")
    (tmp_path / "p.ply").write_bytes(points)
    assert len(read_points(tmp_path / "p.ply").points) > 1000


def sent_whole(client: Client, object_id: object, path: Path) -> str:
    data = path.read_bytes()
    upload = begin(client, object_id, path.name, len(data)).json()
    piece(client, upload["id"], 0, data)
    return upload["id"]
