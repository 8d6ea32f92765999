"""The run sheet's history and the life of a job, on rows alone: no computation is started."""

import asyncio
import json
from datetime import timedelta
from multiprocessing import Pipe
from types import SimpleNamespace

import pytest
from asgiref.sync import sync_to_async
from crowd import crowd
from django.conf import settings
from django.contrib.auth import get_user_model
from django.db import OperationalError
from django.test import Client
from django.utils import timezone

from api import changes, events, present
from api.changes import changed_jobs
from jobs import services as jobs
from jobs import supervise
from jobs.models import Job
from jobs.voice import Stopped, Voice
from objects import actions as objects
from objects import core_door
from objects.errors import Busy, NothingThere
from objects.models import Capture, ScanObject, Snapshot, Step
from objects.selectors import STAGES, captures_of, current_steps, objects_of, snapshots_of, stage_states

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("queued")]
BARE = {"passes": [], "mesh": None, "points": 0, "upright": False}
EMPTY = {"mesh": None, "passes": []}


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


@pytest.fixture
def scan_object(keeper) -> ScanObject:
    return objects.create_object(keeper, "Keel bolt", "found at low water")


def step(scan_object: ScanObject, title: str, stage: str = "clean", findings: tuple = (), summary: dict = BARE) -> Step:
    """One more step after the head, as `record_step` leaves it."""
    after = Snapshot.objects.create(
        scan_object=scan_object, manifest=EMPTY, summary=summary, findings=[{"stage": s, "title": s} for s in findings]
    )
    made = Step.objects.create(
        scan_object=scan_object, operation=title, title=title, stage=stage, before_id=scan_object.head_id, after=after
    )
    scan_object.head = after
    scan_object.save()
    return made


def shelf_item(scan_object: ScanObject) -> dict:
    return present.shelf(scan_object.owner)[0]


def bench(scan_object: ScanObject) -> dict:
    return present.bench(scan_object, scan_object.owner)


def undo(scan_object: ScanObject) -> Step:
    return _moved(scan_object, objects.undo)


def redo(scan_object: ScanObject) -> Step:
    return _moved(scan_object, objects.redo)


def _moved(scan_object: ScanObject, move) -> Step:
    try:
        return move(scan_object.pk, scan_object.owner)
    finally:
        scan_object.refresh_from_db()


def titles(scan_object: ScanObject) -> tuple[list[str], list[str]]:
    done, ahead = current_steps(scan_object)
    return [s.title for s in done], [s.title for s in ahead]


def test_undo_and_redo_walk_along_the_steps(scan_object: ScanObject) -> None:
    for name in "abc":
        step(scan_object, name)
    assert titles(scan_object) == (["a", "b", "c"], [])
    assert undo(scan_object).title == "c" and undo(scan_object).title == "b"
    assert titles(scan_object) == (["a"], ["b", "c"])
    assert redo(scan_object).title == "b"
    assert titles(scan_object) == (["a", "b"], ["c"])
    undo(scan_object), undo(scan_object)
    assert titles(scan_object) == ([], ["a", "b", "c"]) and scan_object.head is None
    with pytest.raises(NothingThere, match="undo"):
        undo(scan_object)
    for name in "abc":
        assert redo(scan_object).title == name
    with pytest.raises(NothingThere, match="redo"):
        redo(scan_object)


def test_a_step_after_undo_begins_a_branch_and_the_old_one_stays_stored(scan_object: ScanObject) -> None:
    for name in "abc":
        step(scan_object, name)
    undo(scan_object), undo(scan_object)
    step(scan_object, "d")
    assert titles(scan_object) == (["a", "d"], [])
    undo(scan_object)
    # Redo brings back what was undone last, not the branch that was left before.
    assert titles(scan_object) == (["a"], ["d"])
    assert Step.objects.count() == 4 and Snapshot.objects.count() == 4


def test_the_thread_of_stages_shows_where_the_work_is(scan_object: ScanObject) -> None:
    step(scan_object, "captured", "capture")
    step(scan_object, "cut", "clean")
    done, _ = current_steps(scan_object)
    reached = {s.stage for s in done}
    told = stage_states(reached, [{"stage": "clean"}, {"stage": "fuse"}, {"stage": "fuse"}])
    assert [s["name"] for s in told] == list(STAGES)
    assert [s["state"] for s in told] == ["done", "current"] + 6 * ["waiting"]
    assert [s["findings"] for s in told] == [0, 1, 0, 2, 0, 0, 0, 0]
    assert [s["state"] for s in stage_states(reached, [])][:3] == ["done", "done", "current"]
    assert stage_states(set(), [])[0]["state"] == "current"


def test_a_person_sees_only_what_is_theirs(keeper, scan_object: ScanObject) -> None:
    other = get_user_model().objects.create_user("other", password="tide-and-slate-7")
    step(scan_object, "a")
    Capture.objects.create(scan_object=scan_object, title="upright")
    for rows in (objects_of, snapshots_of, captures_of):
        assert rows(keeper).count() == 1 and rows(other).count() == 0


@pytest.mark.parametrize(
    ("summary", "findings", "words"),
    [
        (BARE, (), "not captured yet"),
        ({**BARE, "passes": [{}]}, (), "1 pass · 0 findings"),
        ({**BARE, "passes": [{}, {}]}, ("clean",), "2 passes · 1 finding"),
        (
            {**BARE, "passes": [{}], "mesh": {"watertight": True, "textured": True, "size_mm": [1, 5, 2]}},
            ("fuse",),
            "ready to deliver",
        ),
        (
            {**BARE, "passes": [{}], "mesh": {"watertight": True, "textured": False, "size_mm": [1, 5, 2]}},
            ("colour", "set"),
            "1 pass · 2 findings",
        ),
    ],
)
def test_the_shelf_says_in_words_how_far_an_object_is(scan_object, summary, findings, words) -> None:
    step(scan_object, "a", findings=findings, summary=summary)
    item = shelf_item(scan_object)
    assert item["state"] == words and item["passes"] == len(summary["passes"])
    assert item["size_mm"] == (5 if summary["mesh"] else None)


def test_the_shelf_asks_as_few_queries_for_many_objects_as_for_one(keeper, django_assert_max_num_queries) -> None:
    crowd(keeper, 1, 2)
    with django_assert_max_num_queries(6):
        assert present.shelf(keeper)[0]["stages"][0]["state"] == "done"
    crowd(keeper, 25, 3)
    with django_assert_max_num_queries(6):
        assert len(present.shelf(keeper)) == 26


def test_the_shelf_tells_what_is_under_way_before_anything_else(keeper, scan_object: ScanObject) -> None:
    job = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    assert shelf_item(scan_object)["state"] == "print recipe, waiting"
    turn = jobs.claim(job.id).turn
    jobs.beat(turn, fraction=0.37)
    assert shelf_item(scan_object)["state"] == "print recipe, 37%"
    jobs.end(turn, Job.State.DONE, "Done")
    assert shelf_item(scan_object)["state"] == "not captured yet"


def test_the_bench_shows_steps_done_and_undone(scan_object: ScanObject) -> None:
    assert bench(scan_object)["snapshot"] is None and bench(scan_object)["steps"] == []
    for name in "ab":
        step(scan_object, name)
    undo(scan_object)
    shown = bench(scan_object)
    assert [(s["title"], s["undone"]) for s in shown["steps"]] == [("a", False), ("b", True)]
    assert shown["snapshot"] == scan_object.head_id and shown["job"] is None


def test_an_object_does_one_thing_at_a_time(keeper, scan_object: ScanObject, queued: list[str]) -> None:
    job = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    with pytest.raises(Busy, match="under way"):
        jobs.start(scan_object, keeper, "operation", "Fuse", {"steps": []})
    other = objects.create_object(keeper, "Net weight")
    second = jobs.start(other, keeper, "operation", "Fuse", {"steps": []})
    assert queued == [str(job.id), str(second.id)]
    jobs.end(jobs.claim(job.id).turn, Job.State.FAILED, "Not done", "no surface")
    jobs.start(scan_object, keeper, "operation", "Fuse", {"steps": []})


def test_a_capture_that_cannot_start_leaves_no_empty_capture(keeper, scan_object: ScanObject) -> None:
    jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    with pytest.raises(Busy):
        jobs.start_capture(scan_object, keeper, {"title": "tipped", "stops": 12}, "owl", 3)
    assert not Capture.objects.exists()


def test_only_one_worker_gets_a_job(keeper, scan_object: ScanObject) -> None:
    job = jobs.start(scan_object, keeper, "operation", "Fuse", {"steps": []})
    first, second = jobs.claim(str(job.id)), jobs.claim(str(job.id))
    assert first is not None and second is None
    row = Job.objects.get(pk=job.pk)
    assert (
        row.state == Job.State.RUNNING
        and row.turn == first.turn
        and row.attempts == 1
        and row.lease_until > timezone.now()
    )


def test_a_beat_tells_the_wishes_and_lengthens_the_lease(keeper, scan_object: ScanObject) -> None:
    job = jobs.start(scan_object, keeper, "capture", "Capture", {})
    turn = jobs.claim(job.id).turn
    Job.objects.filter(pk=job.pk).update(lease_until=timezone.now() - timedelta(seconds=1))
    told = jobs.beat(turn, fraction=0.5, message="Stop 6 of 12", seconds_left=9.0)
    assert told == jobs.Wishes(cancel=False, finish=False)
    row = Job.objects.get(pk=job.pk)
    assert (row.fraction, row.message, row.seconds_left) == (0.5, "Stop 6 of 12", 9.0)
    assert row.lease_until > timezone.now()
    jobs.finish_capture(row)
    assert jobs.beat(turn) == jobs.Wishes(cancel=False, finish=True)
    jobs.cancel(row)
    assert jobs.beat(turn) == jobs.Wishes(cancel=True, finish=True)


def test_finishing_early_is_for_captures_that_run(keeper, scan_object: ScanObject) -> None:
    job = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    jobs.claim(job.id)
    with pytest.raises(Busy, match="Only a capture"):
        jobs.finish_capture(Job.objects.get(pk=job.pk))
    assert not Job.objects.get(pk=job.pk).finish_wish


def test_what_failed_or_was_stopped_can_be_run_again_and_nothing_else(keeper, scan_object, queued) -> None:
    job = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    with pytest.raises(Busy, match="failed or stopped"):
        jobs.run_again(job)
    turn = jobs.claim(job.id).turn
    jobs.beat(turn, fraction=0.8)
    jobs.end(turn, Job.State.FAILED, "Not done", "There was not enough memory.")
    again = jobs.run_again(Job.objects.get(pk=job.pk))
    assert (again.state, again.losses, again.error, again.fraction) == (Job.State.QUEUED, 0, "", 0)
    assert queued == [str(job.id)] * 2
    jobs.end(jobs.claim(job.id).turn, Job.State.DONE, "Done", result={"steps": 9})
    done = Job.objects.get(pk=job.pk)
    assert done.fraction == 1.0 and done.result == {"steps": 9} and done.lease_until is None and done.finished
    with pytest.raises(Busy, match="failed or stopped"):
        jobs.run_again(done)


def test_an_import_is_not_run_again_since_its_upload_is_gone(keeper, scan_object: ScanObject) -> None:
    job = jobs.start_import(scan_object, keeper, [("/nowhere/a.zip", "a.zip")])
    jobs.end(jobs.claim(job.id).turn, Job.State.FAILED, "Not done", "damaged")
    with pytest.raises(Busy, match="import them once more"):
        jobs.run_again(Job.objects.get(pk=job.pk))


def test_nothing_is_run_again_beside_another_job(keeper, scan_object: ScanObject) -> None:
    stopped = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    jobs.cancel(stopped)
    jobs.start(scan_object, keeper, "operation", "Fuse", {"steps": []})
    with pytest.raises(Busy, match="under way"):
        jobs.run_again(Job.objects.get(pk=stopped.pk))


def test_a_lost_job_that_was_to_stop_is_stopped_not_begun_again(keeper, scan_object, queued) -> None:
    job = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    jobs.claim(str(job.id))
    jobs.cancel(Job.objects.get(pk=job.pk))
    Job.objects.filter(pk=job.pk).update(lease_until=timezone.now() - timedelta(seconds=1))
    assert jobs.rescue() == 0 and len(queued) == 1
    assert Job.objects.get(pk=job.pk).state == Job.State.CANCELLED


def test_at_the_start_of_a_worker_what_waited_is_handed_out_again(keeper, scan_object, queued) -> None:
    job = jobs.start(scan_object, keeper, "recipe", "Print recipe", {"steps": []})
    assert jobs.rescue() == 0 and queued == [str(job.id)]
    assert jobs.rescue(slot=0) == 0 and queued == [str(job.id)] * 2


def test_unknown_recipes_and_wrong_parameters_queue_nothing(keeper, scan_object: ScanObject) -> None:
    from objects.core_door import LucidRelicError

    with pytest.raises(LucidRelicError, match="no recipe “porcelain”"):
        jobs.start_recipe(scan_object, keeper, "porcelain", {})
    with pytest.raises(LucidRelicError, match="voxel_mm"):
        jobs.start_recipe(scan_object, keeper, "print", {"fuse": {"voxel_mm": -1}})
    with pytest.raises(LucidRelicError):
        jobs.start_operation(scan_object, keeper, "varnish", {})
    assert not Job.objects.exists()


def test_a_recipe_is_queued_with_all_its_parameters_spelt_out(keeper, scan_object: ScanObject) -> None:
    job = jobs.start_recipe(scan_object, keeper, "print", {"fuse": {"voxel_mm": 0.7}})
    steps = {s["operation"]: s["parameters"] for s in job.payload["steps"]}
    assert steps["fuse"] == {"voxel_mm": 0.7, "triangles": 300_000, "character": "even", "take": ""}
    assert steps["close"]["holes"] == "all" and steps["simplify"]["triangles"] <= 300_000


def test_events_bring_only_what_changed_since(keeper, scan_object: ScanObject) -> None:
    before = timezone.now() - timedelta(seconds=1)
    job = jobs.start_capture(scan_object, keeper, {"title": "upright", "stops": 12}, "owl", 3)
    Capture.objects.update(frames=7)
    ((since, change),) = changed_jobs(before)
    told = json.loads(change[2])
    assert (told["id"], told["frames"], told["planned"]) == (str(job.id), 7, 12)
    assert change[:2] == ("job", str(scan_object.pk)) and changed_jobs(since) == []
    jobs.beat(jobs.claim(job.id).turn, message="Stop 8 of 12")
    assert [json.loads(change[2])["message"] for _, change in changed_jobs(since)] == ["Stop 8 of 12"]


def test_a_page_that_is_opened_beside_a_pass_knows_its_frames_before_any_event(
    client, keeper, scan_object: ScanObject
) -> None:
    """Without them the keys that end it or step back would do nothing there at first."""
    job = jobs.start_capture(scan_object, keeper, {"title": "upright", "stops": 12}, "owl", 3)
    Capture.objects.update(frames=7)
    client.force_login(keeper)
    bench = f"/api/objects/{scan_object.pk}"
    assert client.get("/api/jobs").json()[0]["frames"] is None  # it waits
    jobs.claim(job.id)
    assert client.get("/api/jobs").json()[0]["frames"] == client.get(bench).json()["job"]["frames"] == 7


def test_what_a_job_told_while_a_beat_was_missed_is_written_by_the_next(
    keeper, scan_object: ScanObject, monkeypatch
) -> None:
    job = jobs.claim(jobs.start_capture(scan_object, keeper, {"title": "upright", "stops": 12}, "owl", 3).id)
    ours, theirs = Pipe()
    theirs.send({"waiting": "Paused."})
    locked = iter([OperationalError("database is locked")])
    free = jobs.beat

    def beat(turn, **news):
        for error in locked:
            raise error
        written = free(turn, **news)
        theirs.send({"outcome": ("done", "Done")})
        return written

    monkeypatch.setattr(supervise.services, "beat", beat)
    running = SimpleNamespace(pipe=ours, beat_seconds=0.05, is_alive=lambda: True)
    assert supervise._listen(job, running, supervise._Diary(job)) == ("done", "Done")
    assert Job.objects.get(pk=job.pk).waiting == "Paused."


def test_deleting_an_object_takes_its_rows_and_folders_along(keeper, scan_object, settings, tmp_path) -> None:
    settings.DATA = tmp_path
    step(scan_object, "a")
    Capture.objects.create(scan_object=scan_object, title="upright")
    folder = core_door.capture_path(str(Capture.objects.get().pk))
    folder.mkdir(parents=True)
    objects.delete_for_good(scan_object)
    assert not any(rows.objects.exists() for rows in (ScanObject, Capture, Snapshot, Step)) and not folder.exists()


def test_a_stream_tells_nothing_any_more_of_what_was_taken_back(keeper, scan_object: ScanObject, monkeypatch) -> None:
    guest = get_user_model().objects.create_user("ruth", password="tide-and-slate-7")
    share = objects.share_with(scan_object.pk, keeper, "ruth", "look")
    session = Client()
    session.force_login(guest, backend="django.contrib.auth.backends.ModelBackend")
    cookie = f"{settings.SESSION_COOKIE_NAME}={session.cookies[settings.SESSION_COOKIE_NAME].value}"
    scope = {"type": "http", "method": "GET", "path": "/api/events", "headers": [(b"cookie", cookie.encode())]}
    monkeypatch.setattr(events, "ASK_SECONDS", 0.2)
    monkeypatch.setattr(changes, "POLL_SECONDS", 0.05)

    async def rename(title: str) -> None:
        await sync_to_async(objects.describe_object)(scan_object.pk, keeper, title, None)

    async def heard() -> tuple[list[str], list[str], bool]:
        stream = events._stream(SimpleNamespace(scope=scope), guest)
        told: list[str] = []

        async def listen() -> None:
            async for line in stream:
                told.append(line)

        listening = asyncio.create_task(listen())
        await asyncio.sleep(0.5)
        told.clear()
        await rename("Keel bolt, iron")
        await asyncio.sleep(0.5)
        before = list(told)
        await sync_to_async(objects.stop_sharing)(scan_object.pk, keeper, share.pk)
        await asyncio.sleep(0.5)
        told.clear()
        await rename("Keel bolt, bronze")
        await asyncio.sleep(0.5)
        after = list(told)
        await sync_to_async(session.logout)()
        await asyncio.wait_for(listening, 5)
        return before, after, listening.done()

    before, after, ended = asyncio.run(heard())
    assert [str(scan_object.pk) in line for line in before] == [True] and after == [] and ended


def test_a_wish_is_heard_by_work_that_leaves_no_time_to_wait_for_it() -> None:
    """A stop that took longer than it should is followed by the next at once: the pass is paused all the same."""
    ours, theirs = Pipe()
    voice = Voice(ours)
    for back in (0, 1):
        theirs.send({"finish": False, "pause": True, "back": back, "shots": 0})
    assert not voice.finish_wished(0.0) and voice.heard.pause and voice.step_back_wished()
    theirs.send({"finish": True, "pause": True, "back": 1, "shots": 0})
    assert voice.finish_wished(0.0)
    theirs.send("stop")
    with pytest.raises(Stopped):
        voice.finish_wished(0.0)
