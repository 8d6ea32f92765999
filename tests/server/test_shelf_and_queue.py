"""The shelf for hundreds, recipes of one's own, accepted findings, and the order of the queue, on rows alone."""

import json
from datetime import timedelta

import pytest
from crowd import crowd
from django.contrib.auth import get_user_model
from django.test import Client
from django.utils import timezone

from jobs import memory, waiting
from jobs import services as jobs
from jobs.models import Job
from objects import actions, core_door
from objects.models import AcceptedFinding, Branch, Capture, OwnRecipe, ScanObject, Snapshot, Step
from objects.selectors import usual_seconds
from operating import collect, looking

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("maker", "queued")]
PASSES = [
    {"title": "upright", "capture": "x", "tracking": "turntable", "width": 640, "frames": 12, "frames_in": [True] * 12, "fit_mm": [0.02] * 12,
     "kept_share": None, "rms_mm": 0.02, "noise_mm": 0.03, "posed": True, "cut": False, "placed": True, "off": False},
]  # fmt: skip
HOLE = {
    "kind": "hole",
    "stage": "fuse",
    "title": "Holes left",
    "detail": "",
    "figure": "2",
    "operation": "close",
    "place": [1.0, 2.0, 3.0],
    "about": "",
}
MESH = {
    "triangles": 1000, "vertices": 502, "size_mm": [60, 50, 40], "low_mm": [0, 0, 0], "high_mm": [60, 50, 40], "watertight": True, "volume_mm3": 1.0,
    "area_mm2": 1.0, "made_up_area_fraction": 0.0, "textured": False, "texture_size": None, "holes": {"count": 0}, "pieces": 1,
}  # fmt: skip


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


@pytest.fixture
def client(keeper) -> Client:
    client = Client()
    client.force_login(keeper, backend="django.contrib.auth.backends.ModelBackend")
    return client


def send(client: Client, method: str, path: str, body: object = None):
    return client.generic(method, path, json.dumps(body or {}), content_type="application/json")


def with_state(keeper, title: str, findings: list | None = None, mesh: dict | None = None) -> ScanObject:
    """An object with one step that led to a state of one pass."""
    scan_object = actions.create_object(keeper, title)
    summary = {"passes": PASSES, "mesh": mesh, "upright": False}
    after = Snapshot.objects.create(
        scan_object=scan_object, manifest={"passes": [], "mesh": None}, summary=summary, findings=findings or []
    )
    Step.objects.create(scan_object=scan_object, operation="add_pass", title="Capture", stage="capture", after=after)
    scan_object.head = after
    scan_object.save()
    return scan_object


def shelf(client: Client) -> dict[str, dict]:
    return {item["title"]: item for item in client.get("/api/objects").json()}


def test_objects_are_tagged_archived_thrown_away_and_taken_back(client, keeper) -> None:
    bolt = with_state(keeper, "Keel bolt", mesh=MESH)
    path = f"/api/objects/{bolt.pk}"
    told = send(client, "PATCH", path, {"tags": ["iron", " iron ", "loan"], "archived": True})
    assert told.status_code == 200
    item = shelf(client)["Keel bolt"]
    assert (item["tags"], item["archived"], item["standing"]) == (["iron", "loan"], True, "surface")
    send(client, "PATCH", path, {"archived": False})
    assert not shelf(client)["Keel bolt"]["archived"]
    assert send(client, "DELETE", path).status_code == 204
    gone = shelf(client)["Keel bolt"]
    assert gone["deleted"] and gone["gone"] > gone["deleted"]
    assert client.get(path).status_code == 404
    assert send(client, "POST", f"{path}/back").status_code == 200 and client.get(path).status_code == 200
    assert send(client, "POST", f"{path}/back").status_code == 404


def test_what_is_thrown_away_goes_for_good_when_its_grace_is_over(keeper, settings, tmp_path) -> None:
    settings.DATA = tmp_path
    bolt, pin = with_state(keeper, "Keel bolt"), with_state(keeper, "Rudder pin")
    for scan_object, days in ((bolt, 31), (pin, 29)):
        actions.throw_away_object(scan_object.pk, keeper)
        ScanObject.objects.filter(pk=scan_object.pk).update(deleted=timezone.now() - timedelta(days=days))
    assert collect.thrown_away() == 1
    assert [o.title for o in ScanObject.objects.all()] == ["Rudder pin"]


def test_a_duplicate_has_passes_steps_and_branches_of_its_own(client, keeper, settings, tmp_path) -> None:
    settings.DATA = tmp_path
    bolt = with_state(keeper, "Keel bolt")
    capture = Capture.objects.create(scan_object=bolt, title="upright", frames=3, state="complete")
    folder = core_door.capture_path(str(capture.pk))
    folder.mkdir(parents=True)
    (folder / "capture.json").write_text("{}")
    actions.undo(bolt.pk, keeper), actions.redo(bolt.pk, keeper)
    made = send(client, "POST", f"/api/objects/{bolt.pk}/duplicate").json()
    copy = ScanObject.objects.get(pk=made["id"])
    assert (
        copy.title == "Keel bolt, copy"
        and copy.steps.count() == 1
        and copy.branch.tip_id == copy.head_id != bolt.head_id
    )
    own = core_door.capture_path(str(copy.captures.get().pk)) / "capture.json"
    assert own.samefile(folder / "capture.json")
    actions.delete_for_good(bolt)
    assert own.read_text() == "{}" and not folder.exists()


def test_a_finding_is_accepted_with_a_word_and_minded_again(client, keeper) -> None:
    bolt = with_state(keeper, "Keel bolt", [HOLE], MESH)
    path = f"/api/objects/{bolt.pk}"
    (finding,) = client.get(path).json()["findings"]
    assert send(client, "POST", f"{path}/accepted", {"name": finding["name"]}).status_code == 400
    assert send(client, "POST", f"{path}/accepted", {"name": "nothing", "word": "x"}).status_code == 409
    told = send(client, "POST", f"{path}/accepted", {"name": finding["name"], "word": "its keyhole"}).json()
    assert told["findings"] == [] and [a["word"] for a in told["accepted"]] == ["its keyhole"]
    assert shelf(client)["Keel bolt"]["state"].endswith("0 findings")
    assert sum(stage["findings"] for stage in told["stages"]) == 0
    # It holds for a later state where it is at the same place, or of the same figure, and not elsewhere.
    for place, figure, holds in (([1.5, 2, 3], "3", True), ([30.0, 2, 3], "2", True), ([30.0, 2, 3], "3", False)):
        Snapshot.objects.filter(pk=bolt.head_id).update(findings=[{**HOLE, "place": place, "figure": figure}])
        assert len(client.get(path).json()["findings"]) == (not holds)
    back = send(client, "DELETE", f"{path}/accepted/{AcceptedFinding.objects.get().pk}").json()
    assert len(back["findings"]) == 1 and back["accepted"] == []


def test_no_finding_is_told_twice_and_a_closer_look_adds_its_own(client, keeper) -> None:
    bolt = with_state(keeper, "Keel bolt", [HOLE, HOLE], MESH)
    path = f"/api/objects/{bolt.pk}"
    assert not client.get(path).json()["looked"]
    assert looking.next_to_look_at() == bolt.head_id
    Snapshot.objects.filter(pk=bolt.head_id).update(looked=[HOLE, {**HOLE, "kind": "seams", "title": "Seam"}])
    told = client.get(path).json()
    assert told["looked"] and [f["kind"] for f in told["findings"]] == ["hole", "seams"]
    assert looking.next_to_look_at() is None


def test_a_closer_look_waits_for_every_job(keeper) -> None:
    bolt = with_state(keeper, "Keel bolt")
    job = Job.objects.create(scan_object=bolt, who=keeper, kind="recipe", title="x")
    assert looking.next_to_look_at() is None
    Job.objects.filter(pk=job.pk).update(state=Job.State.DONE)
    assert looking.next_to_look_at() == bolt.head_id


def test_recipes_of_ones_own_are_checked_kept_changed_and_private(client, keeper) -> None:
    steps = [{"operation": "place_frames", "parameters": {}}, {"operation": "fuse", "parameters": {"voxel_mm": 0.5}}]
    wrong = {"title": "Coarse", "steps": [{"operation": "fuse", "parameters": {"voxel_mm": -1}}]}
    assert "voxel_mm" in send(client, "POST", "/api/recipes", wrong).json()["error"]
    assert send(client, "POST", "/api/recipes", {"title": "x", "steps": []}).status_code == 400
    made = send(client, "POST", "/api/recipes", {"title": "Coarse", "steps": steps}).json()
    listed = client.get("/api/recipes").json()
    assert [r["name"] for r in listed if not r["own"]] == ["print", "screen", "cad", "draft"]
    assert [r["steps"] for r in listed if r["own"]] == [steps]
    path = f"/api/recipes/{made['name']}"
    assert send(client, "PUT", path, {"title": "Coarser", "steps": steps[1:]}).json()["title"] == "Coarser"
    other = Client()
    other.force_login(get_user_model().objects.create_user("ruth"), backend="django.contrib.auth.backends.ModelBackend")
    assert [r for r in other.get("/api/recipes").json() if r["own"]] == []
    assert send(other, "DELETE", path).status_code == 409 and OwnRecipe.objects.exists()
    judged = send(
        client,
        "POST",
        "/api/recipes/judged",
        {
            "steps": [
                {"operation": "close", "parameters": {}},
                *steps,
                {"operation": "close", "parameters": {}},
                {"operation": "melt", "parameters": {}},
            ]
        },
    ).json()
    assert ["Nothing before" in j["note"] for j in judged] == [True, False, False, False, False]
    assert "no operation" in judged[-1]["fault"]
    assert send(client, "DELETE", path).status_code == 204 and not OwnRecipe.objects.exists()


def test_what_was_done_becomes_a_recipe_without_what_is_of_one_object(client, keeper) -> None:
    bolt = with_state(keeper, "Keel bolt")
    stroke = {"shape": "ball", "centres": [[0, 0, 0]], "radius_mm": 2, "add": True}
    marks = {"strokes": [stroke], "invert": False}
    for operation, given in (
        ("stand_cut", {"passes": ["upright"], "above_mm": 2.0}),
        ("heal", {"marks": marks}),
        ("leave_out", {"pass": "upright", "frames": "1-2"}),
    ):
        after = Snapshot.objects.create(
            scan_object=bolt, manifest={}, summary={"passes": PASSES, "mesh": None, "upright": False}
        )
        numbers = core_door.check_operation(operation, given)
        Step.objects.create(scan_object=bolt, before_id=bolt.head_id, after=after, **numbers)
        bolt.head = after
        bolt.save()
    path = f"/api/objects/{bolt.pk}/recipe"
    cut, heal, out = client.get(path).json()
    assert (cut["parameters"], cut["why"]) == ({"above_mm": 2.0}, "")
    assert heal["marks"] and heal["parameters"] == {} and "without its marks" in heal["why"] and "frames" in out["why"]
    kept = client.get(f"{path}?marks=true").json()[1]
    assert kept["why"] == "" and kept["parameters"]["marks"]["strokes"][0]["radius_mm"] == 2


def test_a_recipe_runs_on_many_and_names_those_it_cannot(client, keeper) -> None:
    bolt, pin = with_state(keeper, "Keel bolt"), with_state(keeper, "Rudder pin")
    empty = actions.create_object(keeper, "Fog horn")
    Job.objects.create(scan_object=pin, who=keeper, kind="operation", title="x")
    wanted = [str(o.pk) for o in (bolt, pin, empty)]
    told = send(client, "POST", "/api/recipes/runs", {"recipe": "draft", "objects": wanted})
    assert told.status_code == 201 and [j["object_title"] for j in told.json()["jobs"]] == ["Keel bolt"]
    assert {r["title"]: r["why"] for r in told.json()["refused"]} == {
        "Rudder pin": "This object has a job under way. Wait for it or stop it first.",
        "Fog horn": "It has no pass yet. Capture or bring one in first.",
    }
    assert send(client, "POST", "/api/recipes/runs", {"recipe": "none", "objects": wanted}).status_code == 400


def lined_up(keeper, *titles: str, batch: bool = True) -> list[Job]:
    return [jobs.start(with_state(keeper, t), keeper, "operation", t, {"steps": []}, batch) for t in titles]


def order() -> list[str]:
    """Titles of what waits, as workers would take it."""
    out = []
    while (job := waiting.claim_next(0)) is not None:
        out.append(job.title)
    return out


def test_what_one_looks_at_comes_first_then_the_order_that_was_drawn(client, keeper) -> None:
    a, b, c = lined_up(keeper, "a", "b", "c")
    told = send(client, "POST", "/api/jobs/order", {"jobs": [str(j.pk) for j in (c, a, b)]}).json()
    assert [j["title"] for j in told] == ["c", "a", "b"]
    lined_up(keeper, "own", batch=False)
    client.get(f"/api/objects/{b.scan_object_id}")
    assert order() == ["b", "own", "c", "a"]


def test_jobs_that_do_not_fit_beside_others_wait_and_smaller_ones_pass(keeper, monkeypatch) -> None:
    lined_up(keeper, "large", "small")
    needs = {"large": 5000.0, "small": 100.0}
    monkeypatch.setattr(memory, "forecast_mb", lambda job: needs[job.title])
    monkeypatch.setattr(memory, "free_mb", lambda: 1000.0)
    first = waiting.claim_next(0)
    assert first.title == "large"  # alone, whatever it takes
    Job.objects.filter(pk=first.pk).update(state=Job.State.QUEUED)
    Job.objects.create(
        scan_object=with_state(keeper, "other"), who=keeper, kind="recipe", title="runs", state=Job.State.RUNNING
    )
    assert waiting.claim_next(0).title == "small" and waiting.claim_next(0) is None and waiting.anything_waits()
    assert "5.0 GB" in Job.objects.get(title="large").message


def test_memory_is_forecast_from_the_last_time_or_from_the_size(keeper) -> None:
    (job,) = lined_up(keeper, "a")
    # 12 frames of 640 × 480 at 30 bytes a pixel.
    assert memory.forecast_mb(job) == pytest.approx(450 + 12 * 640 * 480 * 30 / 1e6)
    Job.objects.create(
        scan_object=job.scan_object,
        who=keeper,
        kind="operation",
        title="a",
        state="done",
        finished=timezone.now(),
        result={"peak_mb": 800},
    )
    assert memory.forecast_mb(job) == pytest.approx(1000)
    assert 0 < memory.free_mb() < 1e7


def test_what_operations_took_is_told_by_the_object_itself_or_by_the_others(keeper) -> None:
    bolt, pin = with_state(keeper, "Keel bolt"), with_state(keeper, "Rudder pin")
    for scan_object, operation, seconds, known, voxel in (
        (pin, "fuse", 3.0, False, 0.5),
        (pin, "fuse", 9.0, False, 0.5),
        (pin, "fuse", 5.0, False, 2.0),
        (pin, "close", 0.0, True, 0),
        (bolt, "settle", 7.0, False, 0),
    ):
        after = Snapshot.objects.create(scan_object=scan_object, manifest={}, summary={})
        Step.objects.create(
            scan_object=scan_object, operation=operation, title="x", stage="fuse", after=after,
            seconds=seconds, known=known, parameters={"voxel_mm": voxel},
        )  # fmt: skip

    def usual(of: ScanObject, *steps: tuple[str, float]) -> list[float | None]:
        return usual_seconds(of.pk, [{"operation": name, "parameters": {"voxel_mm": v}} for name, v in steps])

    # Done with the same numbers twice, after another step each time: the one after the same step counts.
    start, middle = (Snapshot.objects.create(scan_object=pin, manifest={}, summary={}) for _ in range(2))
    for operation, seconds, before, after in (
        ("simplify", 4.0, None, start),
        ("lay_colour", 30.0, start, None),
        ("stand_up", 1.0, None, middle),
        ("lay_colour", 8.0, middle, None),
    ):
        end = after or Snapshot.objects.create(scan_object=pin, manifest={}, summary={})
        Step.objects.create(
            scan_object=pin, operation=operation, title="x", stage="mend", before=before, after=end, seconds=seconds,
            parameters={"voxel_mm": 0},
        )  # fmt: skip
    assert usual(pin, ("simplify", 0), ("lay_colour", 0)) == [4.0, 30.0]
    assert usual(pin, ("stand_up", 0), ("lay_colour", 0)) == [1.0, 8.0]
    # On another object: the middle of all; never done: nothing; here: the least of the last times, with the same numbers if there are such.
    assert usual(bolt, ("fuse", 0.5), ("settle", 0), ("close", 0)) == [5.0, 7.0, None]
    assert usual(pin, ("fuse", 0.5), ("fuse", 2.0), ("fuse", 1.0)) == [3.0, 5.0, 3.0]


def test_old_branches_go_and_kept_ones_stay(keeper, settings) -> None:
    crowd(keeper, 1, 3)
    scan_object = ScanObject.objects.get()
    for _ in range(2):
        actions.undo(scan_object.pk, keeper)
    done = actions.FinishedStep(
        {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}, {}, 1.0, keeper.pk, None
    )
    scan_object.refresh_from_db()
    after = Snapshot.objects.create(scan_object=scan_object, manifest={"passes": [], "mesh": None}, summary={})
    Step.objects.create(
        scan_object=scan_object,
        operation="fuse",
        title=done.checked["title"],
        stage="fuse",
        before_id=scan_object.head_id,
        after=after,
    )
    actions.go_to(scan_object.pk, keeper, str(after.pk))
    assert Branch.objects.count() == 2
    Snapshot.objects.update(created=timezone.now() - timedelta(days=60))
    Step.objects.exclude(undone=None).update(undone=timezone.now() - timedelta(days=60))
    left = Branch.objects.get(name="Branch 1")
    actions.name_branch(scan_object.pk, keeper, left.pk, "Even")
    assert collect.undone_branches() == 0
    Branch.objects.filter(pk=left.pk).update(kept=False)
    assert collect.undone_branches() == 2 and [b.name for b in Branch.objects.all()] == ["Branch 2"]
