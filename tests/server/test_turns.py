"""Turns: what the newest attempt at a job owns, an older one cannot touch; nothing is recorded twice."""

import io
import shutil
import threading
import zipfile
from pathlib import Path

import numpy as np
import pytest
from django.contrib.auth import get_user_model
from django.db import IntegrityError, connections
from hostile import SMALL_PNG, _image, small_capture
from scenes import state_of_points

from jobs import services, slots
from jobs.kinds import KINDS
from jobs.models import Job
from jobs.tasks import run_job
from jobs.voice import Voice
from jobs.work import work
from objects import actions, core_door
from objects.actions import FinishedStep
from objects.errors import NothingThere, Superseded
from objects.models import Capture, ScanObject, Step

pytestmark = pytest.mark.django_db(transaction=True)
CHECKED = {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}


class Pipe:
    """The child's end of a pipe that nobody reads."""

    def send(self, message: object) -> None:
        pass

    def poll(self, seconds: float) -> bool:
        return False


@pytest.fixture(autouse=True)
def not_started(monkeypatch) -> None:
    monkeypatch.setattr(type(run_job), "enqueue", lambda self, job_id: None)


@pytest.fixture
def scan_object(settings, tmp_path) -> ScanObject:
    settings.DATA = tmp_path
    for folder in ("captures", "uploads"):
        (tmp_path / folder).mkdir()
    return actions.create_object(get_user_model().objects.create_user("mira"), "Keel bolt")


@pytest.fixture
def upload(scan_object, zipped: Path, settings) -> Path:
    target = settings.DATA / "uploads" / "a.zip"
    shutil.copy(zipped, target)
    return target


def importing(scan_object: ScanObject, upload: Path) -> Job:
    return services.start_import(scan_object, scan_object.owner, [(str(upload), "upright.zip")])


def next_attempt(job: Job) -> Job:
    """The worker was lost; the job is queued again and another claims it."""
    Job.objects.filter(pk=job.pk).update(lease_until="2020-01-01T00:00:00Z")
    services.rescue()
    return services.claim(job.pk)


def run(job: Job):
    return work(job, Pipe())


def test_an_older_attempt_neither_records_nor_cleans_up(scan_object, upload) -> None:
    older = services.claim(importing(scan_object, upload).pk)
    newer = next_attempt(older)
    key = core_door.arrival_key(newer.pk, 0)
    assert run(older) is None  # as if its process had lived on
    assert upload.exists() and not Step.objects.exists()
    assert run(newer)[0] == Job.State.DONE
    with pytest.raises(Superseded):
        KINDS["import"].clean_up(older)
    assert core_door.is_whole(key) and Capture.objects.get().state == Capture.State.COMPLETE
    assert not services.end(older.turn, Job.State.FAILED, "x") and services.beat(older.turn) is None


def test_what_was_committed_is_not_done_again(scan_object, upload) -> None:
    """The tree dies after the step and before the job's end."""
    job = services.claim(importing(scan_object, upload).pk)
    assert run(job)[0] == Job.State.DONE and not upload.exists()
    again = next_attempt(job)
    assert run(again)[0] == Job.State.DONE and Step.objects.count() == 1
    assert len(ScanObject.objects.get().head.manifest["passes"]) == 1


def test_what_was_settled_and_not_committed_is_taken_up(scan_object, upload, monkeypatch) -> None:
    job = services.claim(importing(scan_object, upload).pk)
    monkeypatch.setattr(actions, "add_arrival", lambda *a: (_ for _ in ()).throw(KeyboardInterrupt))
    with pytest.raises(KeyboardInterrupt):
        KINDS["import"].run(job, Voice(Pipe()))
    monkeypatch.undo()
    monkeypatch.setattr(type(run_job), "enqueue", lambda self, job_id: None)
    assert core_door.is_whole(core_door.arrival_key(job.pk, 0)) and not Step.objects.exists()
    assert run(next_attempt(job))[0] == Job.State.DONE and Step.objects.count() == 1


def test_a_stopped_capture_runs_again_from_nothing(scan_object) -> None:
    plan = {"title": "upright", "stops": 3, "elevation_deg": 24.0, "tip_deg": 0.0, "tip_about_deg": 0.0}
    job = services.claim(services.start_capture(scan_object, scan_object.owner, plan, "tile", 3).pk)
    Job.objects.update(payload={**job.payload, "pause": 0.0})
    job.refresh_from_db()
    KINDS["capture"].clean_up(job)
    services.end(job.turn, Job.State.CANCELLED, "Stopped on request")
    assert not Capture.objects.exists() and services.can_run_again(Job.objects.get())
    services.run_again(Job.objects.get())
    again = services.claim(job.pk)
    assert again.payload["capture"] != job.payload["capture"]
    assert run(again)[0] == Job.State.DONE and Capture.objects.get().frames == 3


def test_a_capture_that_measured_nothing_is_refused_and_is_not_there(scan_object, settings, tmp_path) -> None:
    empty = tmp_path / "uploads" / "empty.zip"
    with zipfile.ZipFile(io.BytesIO(small_capture(1))) as good, zipfile.ZipFile(empty, "w") as bundle:
        for name in good.namelist():
            black = _image(np.zeros(SMALL_PNG[::-1], np.uint16), "PNG")
            bundle.writestr(name, black if name.startswith("depth") else good.read(name))
    job = services.claim(services.start_import(scan_object, scan_object.owner, [(str(empty), "empty.zip")]).pk)
    state, message, error, _ = run(job)
    assert (state, message) == (Job.State.FAILED, "Not done") and "measured any depth" in error
    assert not Step.objects.exists() and not Capture.objects.exists() and not empty.exists()
    assert list((tmp_path / "captures").iterdir()) == []


def test_a_step_has_its_number_once(scan_object) -> None:
    job = scan_object.jobs.create(who=scan_object.owner, kind="recipe", title="x", state="running", attempts=1)
    done = FinishedStep(CHECKED, {}, 1.0, None, job.turn)
    first = actions.record_step(scan_object.pk, None, state_of_points(5), done)
    with pytest.raises(Superseded):  # the head is not where this attempt began
        actions.record_step(scan_object.pk, None, state_of_points(6), done)
    with pytest.raises(IntegrityError):
        actions.record_step(scan_object.pk, first.after_id, state_of_points(6), done)
    assert Step.objects.count() == 1 and ScanObject.objects.get().head_id == first.after_id


def test_two_undos_at_once_take_two_steps(scan_object) -> None:
    before = None
    for size in (5, 6, 7):
        done = FinishedStep(CHECKED, {}, 1.0, None, None)
        before = actions.record_step(scan_object.pk, before, state_of_points(size), done).after_id
    owner, said = scan_object.owner, []
    gate = threading.Barrier(2)

    def undo() -> None:
        gate.wait()
        try:
            said.append(actions.undo(scan_object.pk, owner).pk)
        finally:
            connections.close_all()

    threads = [threading.Thread(target=undo) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(set(said)) == 2
    actions.undo(scan_object.pk, owner)
    with pytest.raises(NothingThere):
        actions.undo(scan_object.pk, owner)


def test_a_slot_is_held_by_one_and_free_when_its_file_closes(scan_object) -> None:
    (number, held) = slots.take_first("worker", 2)
    other = slots.take_first("worker", 2)
    assert (number, other[0]) == (0, 1) and slots.take_first("worker", 2) is None and slots.is_taken("worker-0")
    held.close()
    assert not slots.is_taken("worker-0") and slots.take("worker-1") is None
    other[1].close()
