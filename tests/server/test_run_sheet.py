"""The run sheet through the API: looking back, replays equal to running anew, known results, branches."""

import json
import shutil
import time
from pathlib import Path

import pytest
from django.contrib.auth import get_user_model
from django.test import Client

from jobs.models import Job
from jobs.supervise import supervise_next
from objects.models import Branch, ScanObject, Snapshot, Step

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("maker")]
# The view of the first frame's camera, in which a lasso is drawn over the middle of the object.
VIEW = {
    "T_view_object": [[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]],
    "fov_deg": 40,
    "width": 800,
    "height": 600,
}


def lasso(*corners: tuple[float, float]) -> dict:
    """Marks of one lasso through the object."""
    stroke = {
        "shape": "lasso",
        "points": [list(c) for c in corners],
        "radius_px": 0,
        "view": VIEW,
        "add": True,
        "through": True,
    }
    return {"strokes": [stroke], "invert": False}


SMALL = lasso((395, 290), (405, 290), (405, 300))
LARGE = lasso((390, 280), (415, 280), (415, 305), (390, 305))
STEPS = [
    ("place_frames", {}), ("stand_cut", {}), ("find_fit", {}), ("settle", {}), ("take_away", {"marks": SMALL}), ("trim_fuzz", {}),
    ("fuse", {"voxel_mm": 2.4}), ("close", {}), ("largest_piece", {}), ("simplify", {"triangles": 4000}),
    ("lay_colour", {"size": 256}), ("stand_up", {}), ("roughness", {"roughness": 0.6}),
]  # fmt: skip


@pytest.fixture
def client() -> Client:
    user = get_user_model().objects.create_user("mira", password="tide-and-slate-7")
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    return client


def post(client: Client, path: str, body: dict | None = None):
    return client.post(path, json.dumps(body or {}), content_type="application/json")


def done(answer) -> Job:
    """The job of an answer, run to its end."""
    assert answer.status_code == 201, answer.content
    supervise_next()
    return Job.objects.get(pk=answer.json()["id"])


def with_passes(client: Client, folders: list[Path], scratch: Path, title: str = "Keel bolt") -> str:
    """An object with a pass of each capture folder."""
    object_id = post(client, "/api/objects", {"title": title}).json()["id"]
    for folder in folders:
        packed = Path(shutil.make_archive(str(scratch / folder.name), "zip", folder))
        path = f"/api/objects/{object_id}/imports?name={folder.name}.zip"
        done(client.post(path, packed.read_bytes(), content_type="application/zip"))
    return object_id


def run(client: Client, object_id: str, operation: str, parameters: dict | None = None) -> Job:
    return done(
        post(client, f"/api/objects/{object_id}/runs", {"operation": operation, "parameters": parameters or {}})
    )


def bench(client: Client, object_id: str, at: str = "") -> dict:
    return client.get(f"/api/objects/{object_id}{f'?at={at}' if at else ''}").json()


def manifest(object_id: str) -> dict:
    """What the head of an object is, without the names of its captures."""
    told = ScanObject.objects.get(pk=object_id).head.manifest
    return {**told, "passes": [{**entry, "capture": ""} for entry in told["passes"]]}


def test_thirteen_steps_with_three_changes_are_replayed_to_the_bit(client: Client, captures, tmp_path) -> None:
    object_id = with_passes(client, captures[:2], tmp_path)
    for operation, parameters in STEPS:
        job = run(client, object_id, operation, parameters)
        assert job.state == Job.State.DONE, (operation, job.error)
    before = {s["operation"]: s for s in bench(client, object_id)["steps"]}
    changed = {"stand_cut": {"above_mm": 2.5}, "take_away": {"marks": LARGE}, "fuse": {"voxel_mm": 2.0}}
    changes = [{"step": before[name]["id"], "parameters": numbers} for name, numbers in changed.items()]
    job = done(post(client, f"/api/objects/{object_id}/replays", {"changes": changes, "name": "Cut higher"}))
    assert job.state == Job.State.DONE and job.error == "", job.error
    told = bench(client, object_id)
    assert [s["operation"] for s in told["steps"]] == ["add_pass"] * 2 + [name for name, _ in STEPS]
    # What came before the first change is the very same; all from it on is computed.
    assert [s["id"] for s in told["steps"][:3]] == [
        before["add_pass"]["id"] - 1,
        before["add_pass"]["id"],
        before["place_frames"]["id"],
    ]
    assert not any(s["known"] for s in told["steps"])
    assert [(b["name"], b["current"], b["own"]) for b in told["branches"]] == [
        ("Cut higher", True, 0),
        ("Branch 1", False, 12),
    ]
    anew = with_passes(client, captures[:2], tmp_path, "Anew")
    for operation, parameters in STEPS:
        run(client, anew, operation, {**parameters, **changed.get(operation, {})})
    assert manifest(object_id) == manifest(anew)
    # Back to the first branch, by the numbers that it had: all is known, nothing is computed.
    own = {s["operation"]: s for s in told["steps"]}
    first = dict(STEPS)
    back = [{"step": own[name]["id"], "parameters": {**{k: before[name]["parameters"][k] for k in numbers}, **first[name]}}
            for name, numbers in changed.items()]  # fmt: skip
    again = done(post(client, f"/api/objects/{object_id}/replays", {"changes": back}))
    steps = bench(client, object_id)["steps"]
    assert [s["known"] for s in steps] == [False] * 3 + [True] * 12 and all(s["seconds"] == 0 for s in steps[3:])
    assert any("known from before" in words for _, words in again.log)


def test_a_step_is_looked_back_at_and_gone_on_from(client: Client, captures, tmp_path) -> None:
    object_id = with_passes(client, captures[:1], tmp_path)
    for name in ("place_frames", "stand_cut"):
        run(client, object_id, name)
    now = bench(client, object_id)
    placed = now["steps"][1]
    assert placed["who"] == "mira" and placed["version"] and not now["looking_back"]
    began = time.monotonic()
    then = bench(client, object_id, placed["after"])
    assert time.monotonic() - began < 1.0
    assert then["looking_back"] and then["snapshot"] == placed["after"] and not then["passes"][0]["cut"]
    assert [s["id"] for s in then["steps"]] == [s["id"] for s in now["steps"]]
    assert client.get(f"/api/objects/{object_id}?at=nonsense").status_code == 400
    other = Snapshot.objects.create(
        scan_object=ScanObject.objects.create(owner_id=ScanObject.objects.get().owner_id, title="x"),
        manifest={},
        summary={},
    )
    assert client.get(f"/api/objects/{object_id}?at={other.pk}").status_code == 404
    assert post(client, f"/api/objects/{object_id}/head", {"snapshot": str(other.pk)}).status_code == 409
    picture = client.get(f"/api/snapshots/{placed['after']}/picture")
    picture.close()
    assert picture.status_code == 200
    gone = post(client, f"/api/objects/{object_id}/head", {"snapshot": placed["after"]}).json()
    assert gone["snapshot"] == placed["after"] and [s["undone"] for s in gone["steps"]] == [False, False, True]
    # The same step once more: its result is known.
    run(client, object_id, "stand_cut")
    told = bench(client, object_id)
    assert told["steps"][-1]["known"] and told["passes"][0]["cut"]
    assert [b["name"] for b in told["branches"]] == ["Branch 2", "Branch 1"] and told["branches"][1]["own"] == 1


def test_what_cannot_be_replayed_says_why_and_what_is_left_goes_on(client: Client, captures, tmp_path) -> None:
    object_id = with_passes(client, captures[:1], tmp_path)
    path = f"/api/objects/{object_id}"
    for name, parameters in (("place_frames", {}), ("stand_cut", {}), ("fuse", {"voxel_mm": 3, "take": "coarse"}), ("fuse", {"voxel_mm": 2.5, "take": "fine"}),
                             ("takes", {"take": "coarse", "what": "use"}), ("close", {})):  # fmt: skip
        job = run(client, object_id, name, parameters)
        assert job.state == Job.State.DONE, (name, job.error)
    steps = bench(client, object_id)["steps"]
    assert post(client, f"{path}/replays", {"changes": []}).status_code == 400
    assert post(client, f"{path}/replays", {"changes": [{"step": 10**6}]}).status_code == 400
    wrong = post(client, f"{path}/replays", {"changes": [{"step": steps[3]["id"], "parameters": {"voxel_mm": -1}}]})
    assert wrong.status_code == 400 and "voxel_mm" in wrong.json()["error"] and Branch.objects.count() == 1
    assert (
        "no numbers"
        in post(client, f"{path}/replays", {"changes": [{"step": steps[0]["id"], "parameters": {"x": 1}}]}).json()[
            "error"
        ]
    )
    # Without the fusion that made it, the take that a later step names is not there.
    job = done(post(client, f"{path}/replays", {"changes": [{"step": steps[3]["id"], "leave_out": True}]}))
    assert job.state == Job.State.DONE and "cannot be done again here" in job.error and "coarse" in job.error
    told = client.get("/api/jobs").json()[0]
    assert told["stuck"] == steps[5]["title"]
    rest = done(post(client, f"/api/jobs/{job.pk}/without"))
    assert rest.state == Job.State.DONE
    assert [s["operation"] for s in bench(client, object_id)["steps"]][-2:] == ["fuse", "close"]
    assert post(client, f"/api/jobs/{rest.pk}/without").status_code == 400


def test_a_replay_that_fails_at_once_leaves_all_as_it_was(client: Client, captures, tmp_path) -> None:
    object_id = with_passes(client, captures[:1], tmp_path)
    for name in ("place_frames", "stand_cut"):
        run(client, object_id, name)
    before = bench(client, object_id)
    place = before["steps"][1]["id"]
    job = done(
        post(
            client,
            f"/api/objects/{object_id}/replays",
            {"changes": [{"step": place, "parameters": {"passes": ["gone"]}}]},
        )
    )
    assert job.state == Job.State.FAILED and "gone" in job.error
    after = bench(client, object_id)
    assert after["snapshot"] == before["snapshot"] and [b["name"] for b in after["branches"]] == ["Branch 1"]
    assert not any(s["undone"] for s in after["steps"])


def test_a_pass_that_came_in_later_is_in_the_replay_too(client: Client, captures, tmp_path) -> None:
    object_id = with_passes(client, captures[:1], tmp_path)
    run(client, object_id, "place_frames")
    packed = Path(shutil.make_archive(str(tmp_path / "tipped"), "zip", captures[1]))
    done(
        client.post(
            f"/api/objects/{object_id}/imports?name=tipped.zip", packed.read_bytes(), content_type="application/zip"
        )
    )
    run(client, object_id, "stand_cut")
    steps = bench(client, object_id)["steps"]
    job = done(
        post(client, f"/api/objects/{object_id}/replays", {"changes": [{"step": steps[1]["id"], "leave_out": True}]})
    )
    told = bench(client, object_id)
    assert job.state == Job.State.DONE, job.error
    assert [s["operation"] for s in told["steps"]] == [
        "add_pass",
        "add_pass",
        "stand_cut",
    ]
    assert [p["title"] for p in told["passes"]] == ["upright", "tipped"]


def test_branches_are_named_gone_to_and_thrown_away(client: Client, captures, tmp_path) -> None:
    object_id = with_passes(client, captures[:1], tmp_path)
    path = f"/api/objects/{object_id}"
    run(client, object_id, "place_frames")
    post(client, f"{path}/undo")
    run(client, object_id, "place_frames", {"drop_bad": True})
    new, old = bench(client, object_id)["branches"]
    assert (new["current"], old["current"], old["parts_at"]) == (True, False, "Capture “upright”")
    assert client.delete(f"{path}/branches/{new['id']}").status_code == 400
    named = client.patch(
        f"{path}/branches/{old['id']}", json.dumps({"name": "All frames"}), content_type="application/json"
    ).json()
    assert [b["name"] for b in named["branches"]] == ["Branch 2", "All frames"]
    gone = post(client, f"{path}/head", {"branch": old["id"]}).json()
    assert gone["snapshot"] == old["tip"] and gone["branches"][0]["name"] == "All frames"
    assert [s["undone"] for s in gone["steps"]] == [False, False]
    left = client.delete(f"{path}/branches/{new['id']}").json()
    assert [b["name"] for b in left["branches"]] == ["All frames"] and Step.objects.count() == 3
    assert client.delete(f"{path}/branches/{new['id']}").status_code == 409
