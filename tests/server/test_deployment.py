"""Wrong deployment is told at start; kinds of jobs; changes that other pages hear of; time left after an interruption."""

import itertools
import json
from pathlib import Path
from types import SimpleNamespace

import pytest
from django.contrib.auth import get_user_model
from django.core.checks import run_checks
from django.db import OperationalError
from django.http import Http404
from django.utils import timezone

from api.changes import Look, changed_objects
from config import checks
from jobs import pace
from jobs.kinds import KINDS
from objects import actions
from objects.errors import Busy
from objects.models import ScanObject
from operating.management.commands import serve

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def keeper():
    return get_user_model().objects.create_user("mira", password="tide-and-slate-7")


def ids(found: list) -> list[str]:
    return [message.id for message in found]


def test_the_installation_of_the_tests_is_right() -> None:
    assert [m for m in run_checks() if m.is_serious()] == []


def test_what_is_wrong_is_told_with_an_id_and_what_to_do(settings, tmp_path: Path, monkeypatch) -> None:
    settings.DATA = tmp_path
    assert ids(checks.data_folder(None)) == []
    monkeypatch.setattr(checks.os, "access", lambda *a: False)
    assert ids(checks.data_folder(None)) == ["lucid_relic.E001"]
    monkeypatch.undo()
    monkeypatch.setattr(checks, "LEAST_FREE_BYTES", 2**70)
    settings.DATA = tmp_path
    assert ids(checks.data_folder(None)) == ["lucid_relic.W001"]
    (tmp_path / "secret.key").write_text("x")
    (tmp_path / "secret.key").chmod(0o644)
    assert ids(checks.secret_key(None)) == ["lucid_relic.W002"]
    (tmp_path / "secret.key").chmod(0o600)
    assert checks.secret_key(None) == []
    settings.DEMO, settings.ALLOWED_HOSTS = True, ["127.0.0.1", "museum.example"]
    assert ids(checks.demo_stays_at_home(None)) == ["lucid_relic.E002"]
    settings.LIVE_SOCKET = tmp_path / ("x" * 120)
    assert ids(checks.live_socket(None)) == ["lucid_relic.E003"]
    settings.WEB_DIST = tmp_path / "none"
    assert ids(checks.front_end(None)) == ["lucid_relic.W003"]
    monkeypatch.delitem(settings.DATABASES["default"]["OPTIONS"], "transaction_mode")
    assert ids(checks.database(None)) == ["lucid_relic.E004"]
    assert all(m.hint for check in (checks.live_socket, checks.front_end, checks.database) for m in check(None))


def test_every_kind_of_job_is_registered_once_under_its_name() -> None:
    assert {name: kind.name for name, kind in KINDS.items()} == {
        n: n for n in ("recipe", "operation", "replay", "capture", "import", "bring", "deliver")
    }


def test_actions_ask_whose_the_object_is_and_whether_it_is_busy(keeper) -> None:
    other = get_user_model().objects.create_user("other", password="tide-and-slate-7")
    scan_object = actions.create_object(keeper, "Keel bolt")
    for act in (actions.undo, actions.redo, actions.throw_away_object):
        with pytest.raises(Http404):
            act(scan_object.pk, other)
    with pytest.raises(Http404):
        actions.describe_object(scan_object.pk, other, "Mine", None)
    scan_object.jobs.create(who=keeper, kind="recipe", title="Print recipe")
    for act in (actions.undo, actions.redo, actions.throw_away_object):
        with pytest.raises(Busy, match="under way"):
            act(scan_object.pk, keeper)
    assert actions.describe_object(scan_object.pk, keeper, "Keel bolt, iron", None).title == "Keel bolt, iron"
    assert ScanObject.objects.get().title == "Keel bolt, iron"


def test_other_pages_hear_of_a_change_once(keeper) -> None:
    scan_object = actions.create_object(keeper, "Keel bolt")
    since = timezone.now()
    assert changed_objects(since) == []
    actions.describe_object(scan_object.pk, keeper, "Keel bolt, iron", "")
    ((at, change),) = changed_objects(since)
    assert change[:2] == ("object", str(scan_object.pk))
    assert json.loads(change[2]) == {"id": str(scan_object.pk), "snapshot": None, "looked": False}
    assert changed_objects(at) == []


def test_a_change_that_was_written_late_is_told_all_the_same(keeper) -> None:
    bolt, rope = (actions.create_object(keeper, title) for title in ("Keel bolt", "Rope"))
    look = Look(changed_objects)
    look.news()
    # The second waited for the database: its time is the earlier one, though it is written after the first was told.
    waited = timezone.now()
    actions.describe_object(bolt.pk, keeper, "Keel bolt, iron", "")
    assert [change[1] for change in look.news()] == [str(bolt.pk)]
    ScanObject.objects.filter(pk=rope.pk).update(title="Rope, tarred", changed=waited)
    assert [change[1] for change in look.news()] == [str(rope.pk)]
    assert look.news() == []


def test_what_changed_while_the_database_did_not_answer_is_told_later(keeper) -> None:
    answers = iter([OperationalError("database is locked")])

    def changed(since):
        for error in answers:
            raise error
        return changed_objects(since)

    look = Look(changed)
    bolt = actions.create_object(keeper, "Keel bolt")
    assert look.news() == []
    assert [change[1] for change in look.news()] == [str(bolt.pk)]


def clock_of(monkeypatch):
    """A clock that stands still until it is set."""
    clock = [100.0]
    monkeypatch.setattr(pace.time, "monotonic", lambda: clock[0])
    return clock


def test_time_left_follows_the_pace_from_where_a_job_began(monkeypatch) -> None:
    clock, told = clock_of(monkeypatch), pace.Pace()
    # It goes on at 60 %: ten seconds later it is at 70 %, so 30 are left, not four.
    for at, fraction, left in ((100.0, 0.6, None), (101.0, 0.605, None), (110.0, 0.7, 30.0), (120.0, 0.8, 20.0)):
        clock[0] = at
        told.hear({"fraction": fraction})
        assert told.seconds_left() == (left and pytest.approx(left))
    clock[0] = 200.0  # while it stands still nothing new is known
    assert told.seconds_left() == pytest.approx(20.0)


def test_time_left_of_steps_is_what_they_usually_take_at_the_pace_of_those_that_are_done(monkeypatch) -> None:
    clock, told = clock_of(monkeypatch), pace.Pace()
    told.hear({"usual": [20.0, 30.0, 40.0]})
    told.hear({"step": 1})
    told.hear({"fraction": 0.2})  # what a step says of its inside does not count
    assert told.seconds_left() == pytest.approx(90.0)
    clock[0] += 15
    assert told.seconds_left() == pytest.approx(75.0)
    # The first took twice its time: the others will take longer too, not quite twice.
    clock[0] += 25
    told.hear({"step": 2})
    assert told.seconds_left() == pytest.approx(70 * (40 + 20) / (20 + 20))
    # One that overruns is always nearly done, and tells of the rest.
    clock[0] += 100
    assert 40 * 160 / 70 < told.seconds_left() < 43 * 160 / 70
    # What was known at once tells nothing.
    quick = pace.Pace()
    quick.hear({"usual": [20.0, 30.0, 40.0], "step": 1})
    clock[0] += 0.2
    quick.hear({"step": 2})
    assert quick.seconds_left() == pytest.approx(70.0)


def test_what_dies_at_its_start_is_started_less_and_less_often(monkeypatch) -> None:
    clock, ended, started = [0.0], [False], []
    monkeypatch.setattr(serve.time, "monotonic", lambda: clock[0])
    process = SimpleNamespace(poll=lambda: 1 if ended[0] else None)
    monkeypatch.setattr(serve.subprocess, "Popen", lambda *a, **k: started.append(clock[0]) or process)
    child = serve._Child("worker", ["worker"], 3)

    def until(seconds: float) -> None:
        while clock[0] < seconds:
            clock[0] += 0.5
            if child.must_start_again():
                child.start()

    until(60.0)
    assert started == [0.0]
    ended[0] = True  # after a minute: it is started again at once, and dies again and again
    until(200.0)
    pauses = [b - a for a, b in itertools.pairwise(started[1:])]
    assert started[1] == 60.5 and pauses[0] <= 1.5 and pauses == sorted(pauses) and pauses[-1] >= serve.LONGEST_PAUSE
    assert len(started) < 14
