"""The real worker process: killed during fusion it goes on after a restart; cancel stops in time."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from django.contrib.auth import get_user_model

from jobs import services
from jobs.models import Job
from jobs.nursery import nursery
from objects import actions as objects
from objects import core_door
from objects.models import Capture, Step

pytestmark = pytest.mark.django_db(transaction=True)
SERVER = Path(__file__).resolve().parents[2] / "server"


@pytest.fixture
def worker():
    """Start workers on the test database; all are stopped at the end."""
    started = []

    def start() -> subprocess.Popen:
        environment = {
            **os.environ,
            "DJANGO_SETTINGS_MODULE": "config.settings",
        }
        process = subprocess.Popen([sys.executable, "manage.py", "worker"], cwd=SERVER, env=environment)
        started.append(process)
        return process

    yield start
    for process in started:
        process.kill()
        process.wait()


@pytest.fixture
def lump(captures):
    import shutil

    user = get_user_model().objects.create_user("mira")
    scan_object = objects.create_object(user, "Lump")
    for folder in captures[:2]:
        capture = Capture.objects.create(scan_object=scan_object, title=folder.name, frames=12)
        shutil.copytree(folder, core_door.capture_path(str(capture.id)))
        objects.complete_capture(capture, user.id, None, 0.0)
    return scan_object


def wait_for(condition, seconds: float = 240):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        answer = condition()
        if answer:
            return answer
        time.sleep(0.05)
    rows = [(j.title, j.state, j.message, j.error) for j in Job.objects.all()]
    raise AssertionError(f"it did not happen in time: {rows}")


def fresh(job: Job) -> Job:
    return Job.objects.get(pk=job.pk)


def test_a_child_begins_with_the_core_loaded() -> None:
    # Where the fork server cannot load it nothing says so: every child then loads all by itself, which takes seconds.
    told = "import os, sys; os._exit(0 if {'jobs.work', 'lucid_relic.operations'} <= set(sys.modules) else 3)"
    child = nursery().Process(target=exec, args=(told,))
    child.start()
    child.join()
    assert child.exitcode == 0


def test_killed_during_fusion_the_job_is_finished_by_the_next_worker(worker, lump) -> None:
    first = worker()
    fine = {"fuse": {"voxel_mm": 0.25}}
    job = services.start_recipe(lump, lump.owner, "cad", fine)
    # All steps before it are done: the worker is in the midst of fusion, however fast it tells of it.
    before = [s["operation"] for s in job.payload["steps"]].index("fuse")
    wait_for(lambda: Step.objects.filter(job=job.id).count() >= before)
    done_before = list(Step.objects.filter(job=job.id).values_list("id", "operation"))
    os.kill(first.pid, signal.SIGKILL)
    first.wait()
    assert fresh(job).state == Job.State.RUNNING and done_before
    worker()
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    steps = list(Step.objects.filter(job=job.id).values_list("id", "operation"))
    assert steps[: len(done_before)] == done_before
    assert [name for _, name in steps] == [s["operation"] for s in job.payload["steps"]]
    lump.refresh_from_db()
    assert lump.head.summary["mesh"]["triangles"] > 1000


def test_cancel_stops_within_two_seconds_and_keeps_what_was_done(worker, lump) -> None:
    worker()
    job = services.start_operation(lump, lump.owner, "place_frames", {})
    wait_for(lambda: fresh(job).state == Job.State.DONE)
    head = type(lump).objects.get(pk=lump.pk).head_id
    job = services.start_operation(lump, lump.owner, "fuse", {"voxel_mm": 0.12})
    wait_for(lambda: fresh(job).state == Job.State.RUNNING and fresh(job).fraction > 0)
    asked = time.monotonic()
    services.cancel(job)
    wait_for(lambda: fresh(job).state == Job.State.CANCELLED, 5)
    assert time.monotonic() - asked < 2.0
    assert type(lump).objects.get(pk=lump.pk).head_id == head
