"""Room: asked for before, watched while, given back after; what is named stays, whatever is collected."""

import multiprocessing
import os
import threading
import time
from datetime import timedelta

import numpy as np
import pytest
from axes.models import AccessLog
from django.contrib.auth import get_user_model
from django.utils import timezone
from scenes import state_of_points

from accounts.models import Allowance
from jobs import services, supervise, waiting
from jobs.models import Job
from jobs.tasks import run_job
from objects import actions, core_door, quota, room
from objects.actions import FinishedStep
from objects.errors import NoRoom, OverQuota
from objects.models import Capture, ScanObject, Snapshot, Step
from operating import collect

pytestmark = pytest.mark.django_db(transaction=True)
CHECKED = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}
LONG_AGO = time.time() - 10 * max(collect.YOUNG_SECONDS, 3600 * collect.UPLOAD_HOURS)


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


@pytest.fixture
def scan_object(keeper, settings, tmp_path) -> ScanObject:
    settings.DATA = tmp_path
    for folder in ("captures", "uploads", "cache", "store"):
        (tmp_path / folder).mkdir()
    return actions.create_object(keeper, "Keel bolt")


def step(scan_object: ScanObject, size: int) -> Step:
    """A step whose state holds points of its own."""
    scan_object.refresh_from_db()
    done = FinishedStep(CHECKED, {}, 1.0, scan_object.owner_id, None)
    return actions.record_step(scan_object.pk, scan_object.head_id, state_of_points(size), done)


def arrays(settings) -> set[str]:
    return {p.stem for p in settings.DATA.glob("store/*/*.npy")}


def age(steps: list[Step], days: float) -> None:
    when = timezone.now() - timedelta(days=days)
    Step.objects.filter(pk__in=[s.pk for s in steps]).update(created=when)
    Step.objects.filter(pk__in=[s.pk for s in steps]).exclude(undone=None).update(undone=when)
    Snapshot.objects.filter(pk__in=[s.after_id for s in steps]).update(created=when)


def test_nothing_begins_on_a_disk_without_room(scan_object, monkeypatch) -> None:
    monkeypatch.setattr(room, "free_bytes", lambda: 10 * room.MB)
    with pytest.raises(NoRoom, match="full .10 MB left."):
        services.start_capture(scan_object, scan_object.owner, {"title": "x", "stops": 3}, "tile", 1)
    assert not Job.objects.exists() and not Capture.objects.exists()


class Endless:
    """A child that works on without a word until it is killed."""

    beat_seconds = 0.05

    def __init__(self, job: Job) -> None:
        self.pipe, self.theirs = multiprocessing.Pipe()
        self.killed = False

    def is_alive(self) -> bool:
        return not self.killed

    def kill(self) -> None:
        self.killed = True

    def join(self) -> None:
        self.pipe.close()
        self.theirs.close()

    def how_ended(self) -> str:
        return "killed"


def test_a_job_is_stopped_with_words_before_the_last_byte(scan_object, monkeypatch, settings) -> None:
    monkeypatch.setattr(type(run_job), "enqueue", lambda self, job_id: None)
    job = services.start_operation(scan_object, scan_object.owner, "fuse", {})
    free = iter([10**12])
    monkeypatch.setattr(room, "free_bytes", lambda: next(free, settings.ROOM_RESERVE_BYTES // 5))
    supervise.attend(waiting.claim_next(0), Endless)
    job.refresh_from_db()
    assert (job.state, job.message) == ("failed", "No room") and "go on" in job.error
    assert services.can_run_again(job)


def test_the_ballast_is_given_up_on_a_full_disk_and_taken_again(settings, tmp_path, monkeypatch) -> None:
    settings.DATA, settings.ROOM_BALLAST_BYTES, settings.ROOM_RESERVE_BYTES = tmp_path, room.MB, room.MB
    free = [10 * room.MB]
    monkeypatch.setattr(room, "free_bytes", lambda: free[0])
    room.tend_ballast()
    assert (tmp_path / "ballast").stat().st_size == room.MB
    free[0] = 0
    room.tend_ballast()
    assert not (tmp_path / "ballast").exists()
    free[0] = 2 * room.MB
    room.tend_ballast()
    assert not (tmp_path / "ballast").exists()


def test_a_person_takes_no_more_than_they_may(scan_object, settings) -> None:
    ScanObject.objects.update(room_bytes=3 * quota.GB)
    quota.need(scan_object.owner)
    settings.QUOTA_GB = 2.0
    with pytest.raises(OverQuota, match="3.0 GB of the 2.0 GB"):
        services.start_operation(scan_object, scan_object.owner, "fuse", {})
    Allowance.objects.create(person=scan_object.owner, gigabytes=0)
    quota.need(get_user_model().objects.get())


def test_only_what_no_kept_history_names_is_collected(scan_object, settings) -> None:
    first, second, third = (step(scan_object, size) for size in (10, 20, 30))
    for _ in range(2):
        actions.undo(scan_object.pk, scan_object.owner)
    fourth = step(scan_object, 40)
    before = arrays(settings)
    assert collect.undone_branches() == 0 and collect.arrays() == 0 and arrays(settings) == before
    age([first, second, third], settings.KEEP_UNDONE_DAYS + 1)
    # The first leads to what is shown and stays however old; the branch that was left goes.
    assert collect.undone_branches() == 2
    assert set(Step.objects.values_list("pk", flat=True)) == {first.pk, fourth.pk}
    assert collect.arrays() > 0
    named = core_door.stored_names([s.manifest for s in Snapshot.objects.all()])
    assert arrays(settings) == named < before


def test_an_old_step_that_is_undone_today_can_be_redone_for_as_long_as_any(scan_object, settings) -> None:
    first, second = (step(scan_object, size) for size in (10, 20))
    age([first, second], 400)
    actions.undo(scan_object.pk, scan_object.owner)
    assert collect.undone_branches() == 0 and actions.redo(scan_object.pk, scan_object.owner).pk == second.pk
    assert Step.objects.get(pk=second.pk).undone is None


def test_a_young_step_keeps_the_old_ones_it_stands_on(scan_object, settings) -> None:
    first, second, third = (step(scan_object, size) for size in (10, 20, 30))
    for _ in range(3):
        actions.undo(scan_object.pk, scan_object.owner)
    age([first, second], settings.KEEP_UNDONE_DAYS + 1)
    assert collect.undone_branches() == 0
    age([third], settings.KEEP_UNDONE_DAYS + 1)
    scan_object.jobs.create(who=scan_object.owner, kind="recipe", title="Print recipe")
    assert collect.undone_branches() == 0  # not beside a job
    Job.objects.all().delete()
    assert collect.undone_branches() == 3


def test_what_is_stored_and_not_named_yet_is_waited_for(scan_object, settings) -> None:
    swept = threading.Event()
    with core_door.storing():
        name = core_door.store().put(np.arange(7))
        sweeper = threading.Thread(target=lambda: (collect.arrays(), swept.set()))
        sweeper.start()
        assert not swept.wait(0.3) and name in arrays(settings)
    assert swept.wait(10) and name not in arrays(settings)


def test_the_cache_stays_within_its_cap_and_loses_what_was_asked_for_longest_ago(scan_object, settings) -> None:
    for number in range(4):
        path = settings.DATA / "cache" / f"mesh-{number}.glb"
        path.write_bytes(b"x" * 1000)
        os.utime(path, (LONG_AGO + number, LONG_AGO + number))
    settings.CACHE_BYTES = 2500
    assert core_door.shown_file("mesh-0.glb") is not None  # asked for now
    assert collect.cache() == 2000
    assert {p.name for p in settings.DATA.glob("cache/*")} == {"mesh-0.glb", "mesh-3.glb"}


def test_leftovers_of_captures_and_uploads_go_and_needed_ones_stay(scan_object, settings) -> None:
    kept = Capture.objects.create(scan_object=scan_object, title="upright", state=Capture.State.COMPLETE)
    unnamed = Capture.objects.create(scan_object=scan_object, title="undone", state=Capture.State.COMPLETE)
    live = Capture.objects.create(scan_object=scan_object, title="tipped")
    manifest = {"passes": [{"capture": str(kept.pk)}], "mesh": None}
    Snapshot.objects.create(scan_object=scan_object, manifest=manifest, summary={})
    gone = "00000000-0000-4000-8000-000000000000"
    folders = [
        settings.DATA / "captures" / name for name in (str(kept.pk), f".part-{live.pk}-2", gone, f".part-{gone}-1")
    ]
    uploads = [settings.DATA / "uploads" / name for name in ("needed.zip", "left.zip", "young.zip")]
    for path in folders:
        path.mkdir()
    for path in uploads:
        path.write_bytes(b"x")
    for path in (*folders, *uploads[:2]):
        os.utime(path, (LONG_AGO, LONG_AGO))
    payload = {"files": [{"upload": str(uploads[0]), "name": "a"}], "capture": str(live.pk)}
    scan_object.jobs.create(who=scan_object.owner, kind="import", title="Import", payload=payload, state="failed")
    collect.captures(), collect.uploads()
    assert {p.name for p in settings.DATA.glob("captures/*")} == {folders[0].name, folders[1].name}
    assert {p.name for p in settings.DATA.glob("uploads/*")} == {"needed.zip", "young.zip"}
    assert set(Capture.objects.all()) == {kept, unnamed, live}
    Capture.objects.update(created=timezone.now() - timedelta(days=settings.KEEP_UNDONE_DAYS + 1))
    collect.captures()
    assert {p.name for p in settings.DATA.glob("captures/*")} == {folders[0].name}
    assert list(Capture.objects.all()) == [kept]


def test_old_rows_of_logs_go(scan_object) -> None:
    old = timezone.now() - timedelta(days=400)
    for age_of in (old, timezone.now()):
        AccessLog.objects.create(username="mira")
        AccessLog.objects.filter(pk=AccessLog.objects.latest("pk").pk).update(attempt_time=age_of)
        scan_object.jobs.create(who=scan_object.owner, kind="recipe", title="x", state="done", finished=age_of)
    assert collect.logs() == 2
    assert AccessLog.objects.count() == Job.objects.count() == 1


def test_the_shelf_is_told_what_an_object_takes(scan_object, settings) -> None:
    capture = Capture.objects.create(scan_object=scan_object, title="upright", state=Capture.State.COMPLETE)
    folder = core_door.capture_path(str(capture.pk))
    folder.mkdir()
    (folder / "capture.json").write_bytes(b"x" * 5000)
    step(scan_object, 1000)
    changed = ScanObject.objects.get().changed
    since = collect.measure_rooms(timezone.now() - timedelta(days=1))
    stored = sum(p.stat().st_size for p in settings.DATA.glob("store/*/*.npy"))
    measured = ScanObject.objects.get()
    assert measured.room_bytes == 5000 + stored and measured.changed == changed  # nobody hears of a change
    ScanObject.objects.update(room_bytes=0)
    collect.measure_rooms(since)
    assert ScanObject.objects.get().room_bytes == 0  # nothing changed since
