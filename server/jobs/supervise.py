"""A job runs in a child process of the worker, so that it can be stopped and gives its memory back."""

import multiprocessing
import os
import time
from multiprocessing.connection import Connection
from typing import Any

from django.db import connections

from jobs import services
from jobs.models import Job

POLL_SECONDS = 0.25
BEAT_SECONDS = 0.5


def supervise(job_id: str) -> None:
    """Start the job's child, pass on its progress, stop it when asked, and write how it ended."""
    job = services.claim(job_id)
    if job is None:
        return
    connections.close_all()
    ours, theirs = multiprocessing.Pipe()
    child = multiprocessing.get_context("fork").Process(target=_child, args=(str(job.id), os.getpid(), theirs))
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
    cancel_wished, _ = services.beat(job.id)
    from jobs.work import clean_up

    clean_up(job)
    if cancel_wished:
        services.end(job.id, Job.State.CANCELLED, "Stopped on request")
        return
    why = f"The computation stopped unexpectedly (exit {exitcode}). What was finished before is safe."
    services.end(job.id, Job.State.FAILED, "Stopped unexpectedly", why)


def _listen(job: Job, child: Any, pipe: Connection) -> tuple[Any, ...] | None:
    """Until the child ends: its progress to the row, the row's wishes to the child."""
    started = time.monotonic()
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
            fraction = news.get("fraction", 0)
            if fraction > 0.02:
                elapsed = time.monotonic() - started
                news["seconds_left"] = elapsed * (1 - fraction) / fraction
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


def _child(job_id: str, parent: int, pipe: Connection) -> None:
    """In the child: die with the parent, do the work, report the outcome."""
    _die_with(parent)
    connections.close_all()
    from jobs.work import work

    outcome = work(Job.objects.select_related("scan_object").get(pk=job_id), pipe)
    connections.close_all()
    pipe.send({"outcome": outcome})
    pipe.close()
    os._exit(0)


def _die_with(parent: int) -> None:
    import ctypes
    import signal

    ctypes.CDLL(None, use_errno=True).prctl(1, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
