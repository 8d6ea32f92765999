"""A job runs in a child process of the worker, so that it can be stopped and gives its memory back.

Children are forked from a server process that has loaded the core but never computed: forking a process
whose threads have run is not safe, and loading the core anew for every job costs seconds. Each child is on a leash, a
pipe that only its worker holds: when the worker ends in whatever way, the system kills the child.
"""

import logging
import multiprocessing
import time
from multiprocessing.connection import Connection
from typing import Any

from django.db import OperationalError, connections

from jobs import services
from jobs.child import run_child
from jobs.models import Job
from objects import room

POLL_SECONDS = 0.25
BEAT_SECONDS = 0.5
FULL_SECONDS = 1.0  # between two tries to write to a disk that is full
LEAST_FRACTION = 0.02  # that must be done before the pace is told
STOPPED = (Job.State.CANCELLED, "Stopped on request")
log = logging.getLogger(__name__)
_here: set[Any] = set()
_slot = 0


def take_slot(number: int) -> None:
    """Say which of the installation's workers this process is."""
    global _slot
    _slot = number


def running_here() -> frozenset[Any]:
    """The jobs that this process supervises just now: alive, even when their lease ran out.

    It may: the first child waits for the core to load, and a computer may sleep.
    """
    return frozenset(_here)


def supervise(job_id: str) -> None:
    """Start the job's child, pass on its progress, stop it when asked, and write how it ended."""
    job = services.claim(job_id, _slot)
    if job is None:
        return
    _here.add(job.id)
    try:
        _run(job)
    finally:
        _here.discard(job.id)


def _run(job: Job) -> None:
    connections.close_all()
    ours, theirs = multiprocessing.Pipe()
    leash, hand = multiprocessing.Pipe(duplex=False)
    nursery = multiprocessing.get_context("forkserver")
    nursery.set_forkserver_preload(["jobs.child"])
    child = nursery.Process(target=run_child, args=(str(job.id), job.attempts, theirs, leash))
    child.start()
    theirs.close()
    leash.close()
    try:
        outcome = _listen(job, child, ours)
    except BaseException:
        child.kill()
        raise
    if outcome is None and child.is_alive():
        child.kill()
    child.join()
    hand.close()
    if outcome is None:
        outcome = _stopped(job, child.exitcode)
    if outcome:
        _write_end(job, outcome)


def _write_end(job: Job, outcome: tuple[Any, ...]) -> None:
    """Write how a job ended, on a full disk as soon as there is room."""
    while True:
        try:
            services.end(job.turn, *outcome)
            return
        except OperationalError as error:
            if not room.is_full(error):
                raise
            log.error("The disk is full: job %s waits to be told as ended", job.id)
            room.give_up_ballast()
            time.sleep(FULL_SECONDS)


def _stopped(job: Job, exitcode: int | None) -> tuple[Any, ...] | None:
    """How a job ended whose child told nothing; None when it is not this attempt's any more."""
    from jobs.kinds import KINDS

    kind = KINDS[job.kind]
    try:
        wishes = services.beat(job.turn)
        if wishes is None:
            return None
        if wishes.cancel:
            kind.clean_up(job)
            return STOPPED
    except OperationalError as error:
        if not room.is_full(error):
            raise
    if room.is_running_out():
        return (Job.State.FAILED, "No room", room.full_sentence())
    following = "Run it again from the queue." if kind.repeatable(job) else kind.instead
    why = f"The computation stopped unexpectedly (exit {exitcode}). What was finished before is safe. {following}"
    return (Job.State.FAILED, "Stopped unexpectedly", why)


def _listen(job: Job, child: Any, pipe: Connection) -> tuple[Any, ...] | None:
    """Until the child ends: its progress to the row, the row's wishes to the child."""
    pace = _Pace()
    news: dict[str, Any] = {}
    last_beat = 0.0
    while True:
        try:
            while pipe.poll(POLL_SECONDS):
                message = pipe.recv()
                if "outcome" in message:
                    return message["outcome"]
                news |= message
                if time.monotonic() - last_beat > BEAT_SECONDS:
                    break
        except (EOFError, OSError):
            return None
        if time.monotonic() - last_beat > BEAT_SECONDS:
            if "fraction" in news:
                news["seconds_left"] = pace.seconds_left(news["fraction"])
            if not _beaten(job, pipe, news):
                return None
            last_beat = time.monotonic()
            news = {}
        if not child.is_alive() and not pipe.poll():
            return None


def _beaten(job: Job, pipe: Connection, news: dict[str, Any]) -> bool:
    """One beat; False when the child is to be stopped."""
    if room.is_running_out():
        return False
    try:
        wishes = services.beat(job.turn, **news)
    except OperationalError as error:
        if room.is_full(error):
            return False
        log.warning("A beat was missed: %s", error)
        return True
    if wishes is None or wishes.cancel:
        return False
    if wishes.finish:
        try:
            pipe.send("finish")
        except OSError:
            return False
    return True


class _Pace:
    """How fast a job gets on, from where it began: one that goes on after an interruption begins in the middle."""

    def __init__(self) -> None:
        self._began: tuple[float, float] | None = None

    def seconds_left(self, fraction: float) -> float | None:
        """Seconds until the end at the pace so far; None while that cannot be told."""
        now = time.monotonic()
        if self._began is None:
            self._began = (now, fraction)
        started, first = self._began
        if fraction - first < LEAST_FRACTION:
            return None
        return (now - started) * (1 - fraction) / (fraction - first)
