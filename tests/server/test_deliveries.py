"""Deliveries through the API: who may receive what, made in a job, fetched by its name, remembered, refused in words."""

import asyncio
import io
import json
import zipfile
from dataclasses import replace

import numpy as np
import pytest
import trimesh
from django.contrib.auth import get_user_model
from django.test import Client
from scenes import uv_sphere

from instruments.checks import last_words
from instruments.models import Check
from jobs.models import Job
from jobs.supervise import supervise_next
from lucid_relic.types import ScanState
from objects import actions, core_door
from objects.models import Capture, ScanObject

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("maker")]


@pytest.fixture
def keeper(client: Client):
    user = get_user_model().objects.create_user("mira", password="tide-and-slate-7")
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    return user


@pytest.fixture
def scan_object(keeper) -> ScanObject:
    ball = uv_sphere(20, 32, 64)
    mesh = replace(ball, colours=np.full((len(ball.vertices), 3), 120, np.uint8))
    made = actions.create_object(keeper, "Net float № 3")
    done = actions.FinishedStep(
        {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}, {}, 1.0, keeper.id, None
    )
    actions.record_step(made.id, None, ScanState(mesh=mesh, upright=True), done)
    return made


def ask(client: Client, scan_object: ScanObject, *wishes: dict):
    path = f"/api/objects/{scan_object.pk}/deliveries"
    return client.post(path, json.dumps({"wishes": list(wishes)}), content_type="application/json")


def made(client: Client, scan_object: ScanObject, *wishes: dict) -> tuple[dict, bytes]:
    answer = ask(client, scan_object, *wishes)
    assert answer.status_code == 201, answer.content
    supervise_next()
    job = Job.objects.get(pk=answer.json()["id"])
    assert job.state == Job.State.DONE, job.error
    told = next(j for j in client.get("/api/jobs").json() if j["id"] == str(job.pk))["delivery"]
    file = client.get(f"/api/deliveries/{job.pk}")
    assert file.status_code == 200 and told["name"] in file["Content-Disposition"]
    return told, asyncio.run(whole(file))


async def whole(response) -> bytes:
    return b"".join([chunk async for chunk in response.streaming_content])


def test_a_receiver_gets_its_file_and_what_was_chosen_is_remembered(client: Client, scan_object: ScanObject) -> None:
    told = {r["name"]: r for r in client.get(f"/api/objects/{scan_object.pk}/deliveries").json()}
    assert list(told) == list(core_door.RECEIVER_NAMES)
    assert {"holds": True, "words": "closed"} in told["slicer"]["checks"]
    assert told["slicer"]["values"]["format"] == "3mf"
    what, data = made(
        client, scan_object, {"receiver": "cad", "values": {"format": "ply", "unit": "cm", "triangles": 900}}
    )
    assert what["name"] == "net-float-3.ply" and what["bytes"] == len(data)
    mesh = trimesh.load(io.BytesIO(data), file_type="ply")
    assert len(mesh.faces) <= 900 and np.ptp(mesh.vertices, axis=0) == pytest.approx([4, 4, 4], rel=0.02)
    again = {r["name"]: r for r in client.get(f"/api/objects/{scan_object.pk}/deliveries").json()}
    assert again["cad"]["values"] == {"format": "ply", "unit": "cm", "up": "z", "triangles": 900, "measured_only": True}


def test_several_receivers_get_one_zip(client: Client, scan_object: ScanObject) -> None:
    what, data = made(client, scan_object, {"receiver": "slicer"}, {"receiver": "report"})
    with zipfile.ZipFile(io.BytesIO(data)) as bundle:
        assert bundle.testzip() is None
        assert (
            sorted(bundle.namelist())
            == sorted(what["files"])
            == ["report/net-float-3-report.html", "report/net-float-3-report.pdf", "slicer/net-float-3.3mf"]
        )
        assert "Net float № 3" in bundle.read("report/net-float-3-report.html").decode()
    assert what["name"] == "net-float-3.zip"


def test_the_report_knows_how_the_instruments_of_its_passes_were_checked_last(client, keeper, scan_object) -> None:
    assert last_words(["desk", "", "foreign"]) == []
    for words, ok, state in (
        ("Good: 0.21 px.", False, "done"),
        ("Good: 0.08 px.", True, "done"),
        ("Stopped", False, "stopped"),
    ):
        Check.objects.create(instrument="desk", kind="board", words=words, ok=ok, state=state)
    Check.objects.create(instrument="jewel", kind="board", words="Of another", ok=True, state="done")
    Capture.objects.create(scan_object=scan_object, title="upright", instrument="desk", planned=12)
    answer = ask(client, scan_object, {"receiver": "report"})
    (sentence,) = Job.objects.get(pk=answer.json()["id"]).payload["told"]["checked"]
    day = Check.objects.first().created
    assert sentence == f"Desk head, board, {day.day} {day:%B %Y}: Good: 0.08 px."


def test_what_cannot_be_delivered_is_said(client: Client, keeper, scan_object: ScanObject) -> None:
    for wish, words in (
        ({"receiver": "cad", "values": {"unit": "ell"}}, "unit"),
        ({"receiver": "cad", "values": {"colour": True}}, "no parameter"),
        ({"receiver": "cad", "values": [1]}, "names and values"),
        ({"receiver": "moon"}, "moon"),
    ):
        answer = ask(client, scan_object, wish)
        assert answer.status_code == 400 and words in answer.json()["error"], answer.content
    assert ask(client, scan_object).status_code == 400
    empty = actions.create_object(keeper, "Nothing yet")
    assert "nothing to deliver" in ask(client, empty, {"receiver": "web"}).json()["error"]
    assert client.get(f"/api/objects/{empty.pk}/deliveries").json()[0]["checks"] == []
    # A file that was cleared away since: said, and made anew when it is asked for.
    made(client, scan_object, {"receiver": "web"})
    job = Job.objects.filter(kind="deliver").latest("created")
    core_door.shown_file(job.result["file"]).unlink()
    answer = client.get(f"/api/deliveries/{job.pk}")
    assert answer.status_code == 400 and "Deliver it again" in answer.json()["error"]


def test_only_who_sees_the_object_fetches_what_was_made_of_it(client: Client, scan_object: ScanObject) -> None:
    made(client, scan_object, {"receiver": "web"})
    job = Job.objects.get(kind="deliver")
    other = Client()
    other.force_login(
        get_user_model().objects.create_user("other"), backend="django.contrib.auth.backends.ModelBackend"
    )
    assert other.get(f"/api/deliveries/{job.pk}").status_code == 404
    assert other.get(f"/api/objects/{scan_object.pk}/deliveries").status_code == 404
    assert ask(other, scan_object, {"receiver": "web"}).status_code == 404
