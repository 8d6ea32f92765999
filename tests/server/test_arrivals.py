"""Files sent in pieces and made into passes: resumed, refused one by one, taken up again, never more than once."""

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
from lucid_relic.io.meshes import write_mesh, write_points
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
