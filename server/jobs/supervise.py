"""A job runs in a child process of the worker, so that it can be stopped and gives its memory back.

Children are forked from a server process that has loaded the core but never computed: forking a process
whose threads have run is not safe, and loading the core anew for every job costs seconds. When the worker
dies the fork server ends, and its children die with it.
"""

import multiprocessing
import time
from multiprocessing.connection import Connection
from typing import Any

from django.db import connections

from jobs import services
from jobs.child import run_child
from jobs.models import Job

POLL_SECONDS = 0.25
BEAT_SECONDS = 0.5
LEAST_FRACTION = 0.02  # that must be done before the pace is told
_here: set[Any] = set()


def running_here() -> frozenset[Any]:
    """The jobs that this process supervises just now: alive, even when their lease ran out.

    It may: the first child waits for the core to load, and a computer may sleep.
    """
    return frozenset(_here)


def supervise(job_id: str) -> None:
    """Start the job's child, pass on its progress, stop it when asked, and write how it ended."""
    job = services.claim(job_id)
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
    nursery = multiprocessing.get_context("forkserver")
    nursery.set_forkserver_preload(["jobs.child"])
    child = nursery.Process(target=run_child, args=(str(job.id), theirs))
    child.start()
    theirs.close()
    outcome = _listen(job, child, ours)
    if outcome is None and child.is_alive():
        child.kill()
    child.join()
    if outcome is None:
        _stopped(job, child.exitcode)
    else:
        services.end(job.id, *outcome)


def _stopped(job: Job, exitcode: int | None) -> None:
    from jobs.kinds import KINDS

    cancel_wished, _ = services.beat(job.id)
    KINDS[job.kind].clean_up(job)
    if cancel_wished:
        services.end(job.id, Job.State.CANCELLED, "Stopped on request")
        return
    why = f"The computation stopped unexpectedly (exit {exitcode}). What was finished before is safe."
    services.end(job.id, Job.State.FAILED, "Stopped unexpectedly", why)


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
        except EOFError:
            return None
        if time.monotonic() - last_beat > BEAT_SECONDS:
            if "fraction" in news:
                news["seconds_left"] = pace.seconds_left(news["fraction"])
            cancel_wished, finish_wished = services.beat(job.id, **news)
            last_beat = time.monotonic()
            news = {}
            if cancel_wished:
                return None
            if finish_wished:
                try:
                    pipe.send("finish")
                except OSError:
                    return None
        if not child.is_alive() and not pipe.poll():
            return None


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
