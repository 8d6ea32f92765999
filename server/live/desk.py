"""The desk in the live service: passes and checks begin at once, whatever the workers do.

Each runs in a thread of this process. When the process dies, the next one ends the checks in words and takes passes over
behind their last whole frame.
"""

import contextlib
import logging
import multiprocessing
import threading
import time
from collections.abc import Callable
from typing import Any

from django.db import Error, connections

from instruments import checks
from jobs import services, waiting
from jobs.models import Job
from jobs.supervise import attend
from jobs.voice import Stopped
from jobs.work import work

LOOK_SECONDS = 0.1  # between two looks for what waits
AT_ONCE = 4  # passes and checks together
BEAT_SECONDS = 0.15  # a pass hears of a key within this
SLOT = -1  # among the slots of workers: the desk's own
log = logging.getLogger(__name__)


class Thread:
    """A job's work in a thread of this process; it ends at its next word when it is to stop."""

    beat_seconds = BEAT_SECONDS

    def __init__(self, job: Job) -> None:
        self.pipe, self._theirs = multiprocessing.Pipe()
        self._thread = threading.Thread(target=self._work, args=(job,), daemon=True, name=f"pass {job.pk}")
        self._thread.start()

    def _work(self, job: Job) -> None:
        try:
            with contextlib.suppress(Stopped, OSError):
                self._theirs.send({"outcome": work(job, self._theirs)})
        finally:
            connections.close_all()
            self._theirs.close()

    def is_alive(self) -> bool:
        return self._thread.is_alive()

    def kill(self) -> None:
        with contextlib.suppress(OSError):
            self.pipe.send("stop")

    def join(self) -> None:
        self._thread.join()
        self.pipe.close()

    def how_ended(self) -> str:
        return "at the desk"


class Desk:
    """Looks for passes and checks that wait, and begins each in a thread."""

    def __init__(self) -> None:
        self._room = threading.Semaphore(AT_ONCE)

    def run(self) -> None:
        """Look until the process ends."""
        self._again_and_again(self._rescue, once=True)
        self._again_and_again(self._begin)

    def _again_and_again(self, act: Callable[[], None], once: bool = False) -> None:
        while True:
            try:
                act()
                if once:
                    return
            except Error:
                log.exception("The desk could not look for what waits")
            time.sleep(LOOK_SECONDS)

    def _rescue(self) -> None:
        checks.rescue()
        services.rescue(SLOT)

    def _begin(self) -> None:
        with self._room:
            job = waiting.claim_for_desk(SLOT)
            check = None if job is not None else checks.claim()
        if job is not None:
            self._start(attend, job, Thread)
        elif check is not None:
            self._start(checks.run, check)

    def _start(self, act: Callable[..., Any], *with_: Any) -> None:
        self._room.acquire()

        def thread() -> None:
            try:
                act(*with_)
            except Exception:
                log.exception("The desk could not go on with %s", with_[0])
            finally:
                connections.close_all()
                self._room.release()

        threading.Thread(target=thread, daemon=True).start()
