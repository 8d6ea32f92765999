"""A real installation under kills, parallel downloads and a full disk: nothing lost, nothing doubled, all in words."""

import concurrent.futures
import time
from pathlib import Path

import ordeals
import pytest
from django.conf import settings
from installation import ENDED, Attack, Caller, Installation, is_alive


@pytest.fixture(scope="module")
def it(tmp_path_factory: pytest.TempPathFactory):
    installation = Installation(tmp_path_factory.mktemp("installation"))
    yield installation
    installation.stop()


@pytest.fixture(scope="module")
def attack(it: Installation, zipped: Path) -> Attack:
    return Attack(it, it.found(), zipped.read_bytes(), seed=12)


@pytest.mark.parametrize(
    ("kind", "role", "seconds"),
    [
        ("import", "worker", 0.6),
        ("capture", "live", 2.5),
        ("import", "child", 0.5),
        ("recipe", "serve", 3.0),
        ("import", "tree", 0.8),
        ("recipe", "web", 1.5),
    ],
)
def test_a_job_survives_the_kill_of_any_process(attack: Attack, kind: str, role: str, seconds: float) -> None:
    ended = attack.strike(kind, role, seconds)
    assert ended["state"] == "done", ended
    assert attack.it.faults() == []
    attack.tidy()


def test_frames_that_were_taken_are_not_taken_again(attack: Attack) -> None:
    it = attack.it
    job_id = attack.begin("capture")
    part = it.wait(lambda: next(iter(it.data.glob("captures/.part-*-*/depth/000001.png")), None))
    took = (part.parent / "000000.png").stat().st_mtime_ns
    it.kill("live")
    assert it.ended(job_id)["state"] == "done" and it.job(job_id)["attempts"] == 2
    folder = it.data / "captures" / part.parents[1].name.removeprefix(".part-").rsplit("-", 1)[0]
    assert (folder / "depth" / "000000.png").stat().st_mtime_ns == took
    assert not list(it.data.glob("captures/.part-*"))
    attack.tidy()


def test_children_end_with_their_worker_at_once(attack: Attack) -> None:
    it = attack.it
    job_id = attack.begin("recipe")
    (child,) = it.wait(lambda: it.pids("child"))
    it.kill("worker")
    it.wait(lambda: not is_alive(child), 2)
    assert it.ended(job_id)["state"] in ENDED and it.faults() == []
    attack.tidy()


def test_a_second_serve_and_a_second_worker_do_not_work_beside_the_first(attack: Attack) -> None:
    second = attack.it.manage("serve", "--port", "1")
    assert second.returncode == 1 and "runs on" in second.stderr
    assert len(attack.it.pids("worker")) == settings.WORKERS


def test_downloads_asked_for_at_once_are_all_whole(attack: Attack) -> None:
    assert ordeals.downloads(attack, 60)["downloads"] == 60


def test_a_backup_beside_a_running_job_is_gone_back_to(attack: Attack, tmp_path: Path) -> None:
    figures = ordeals.backup(attack, tmp_path)
    assert figures["files"] > 30 and figures["shared"] > 0


def test_nothing_that_is_named_is_collected_beside_jobs(attack: Attack) -> None:
    figures = ordeals.collection(attack, 2)
    assert figures["collections"] + figures["killed"] > 0


def test_the_event_stream_answers_head_and_ends_with_the_sign_in(attack: Attack) -> None:
    assert attack.caller.ask("HEAD", "/api/events").status == 200
    guest = Caller(attack.it.port, timeout=30)
    guest.sign_in()
    with concurrent.futures.ThreadPoolExecutor(1) as pool:
        listening = pool.submit(guest.ask, "GET", "/api/events")
        time.sleep(0.5)
        leaving = Caller(attack.it.port)
        leaving.cookies = dict(guest.cookies)
        assert leaving.ask("DELETE", "/api/session").status == 200
        assert b"retry" in listening.result(timeout=10).body
