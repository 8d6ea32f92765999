"""A job runs in a child process of the worker, so that it can be stopped and gives its memory back.

Children are forked from a server process that has loaded the core but never computed: forking a process
whose threads have run is not safe, and loading the core anew for every job costs seconds. Each child is on a leash, a
pipe that only its worker holds: when the worker ends in whatever way, the system kills the child.
"""

import logging
import multiprocessing
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any, Protocol

from django.db import OperationalError, connections

from jobs import services, waiting
from jobs.child import run_child
from jobs.models import Job
from jobs.nursery import nursery
from jobs.pace import Pace
from objects import room

POLL_SECONDS = 0.25
BEAT_SECONDS = 0.5
FIT_SECONDS = 1.0  # between two looks whether a job fits beside those that run
LOG_LINES = 600
HEARD_ONLY = ("note", "usual")  # of what a job tells, that its row has no place for
FULL_SECONDS = 1.0  # between two tries to write to a disk that is full
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


class Running(Protocol):
    """What does a job's work: a process, or a thread of this one."""

    pipe: Connection
    beat_seconds: float

    def is_alive(self) -> bool:
        """Whether it still works."""

    def kill(self) -> None:
        """Have it end soon."""

    def join(self) -> None:
        """Wait for its end, and let go of all that it held."""

    def how_ended(self) -> str:
        """What the system says of its end."""


class ChildProcess:
    """A process of its own, on a leash."""

    beat_seconds = BEAT_SECONDS

    def __init__(self, job: Job) -> None:
        connections.close_all()
        self.pipe, theirs = multiprocessing.Pipe()
        leash, self._hand = multiprocessing.Pipe(duplex=False)
        self._child = nursery().Process(target=run_child, args=(str(job.id), job.attempts, theirs, leash))
        self._child.start()
        theirs.close()
        leash.close()

    def is_alive(self) -> bool:
        return self._child.is_alive()

    def kill(self) -> None:
        self._child.kill()

    def join(self) -> None:
        self._child.join()
        self._hand.close()

    def how_ended(self) -> str:
        return f"exit {self._child.exitcode}"


def supervise_next() -> None:
    """Start the next job's child, pass on its progress, stop it when asked, and write how it ended.

    While none of those that wait fits into the memory that is free, it waits for one that does.
    """
    while (job := waiting.claim_next(_slot)) is None:
        if not waiting.anything_waits():
            return
        time.sleep(FIT_SECONDS)
    attend(job, ChildProcess)


def attend(job: Job, begin: Callable[[Job], Running]) -> None:
    """See a claimed job to its end."""
    _here.add(job.id)
    try:
        _run(job, begin)
    finally:
        _here.discard(job.id)


def _run(job: Job, begin: Callable[[Job], Running]) -> None:
    running, diary = begin(job), _Diary(job)
    try:
        outcome = _listen(job, running, diary)
    except BaseException:
        running.kill()
        raise
    if outcome is None and running.is_alive():
        running.kill()
    running.join()
    if outcome is None:
        outcome = _stopped(job, running.how_ended())
    if outcome:
        _write_end(job, outcome, diary)


def _write_end(job: Job, outcome: tuple[Any, ...], diary: "_Diary") -> None:
    """Write how a job ended, on a full disk as soon as there is room."""
    state, message, error, result = (*outcome, "", None)[:4] if len(outcome) < 4 else outcome
    diary.end(message, error)
    while True:
        try:
            services.end(job.turn, state, message, error, result, diary.written())
            return
        except OperationalError as error:
            if not room.is_full(error):
                raise
            log.error("The disk is full: job %s waits to be told as ended", job.id)
            room.give_up_ballast()
            time.sleep(FULL_SECONDS)


def _stopped(job: Job, how: str) -> tuple[Any, ...] | None:
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
    why = f"The computation stopped unexpectedly ({how}). What was finished before is safe. {following}"
    return (Job.State.FAILED, "Stopped unexpectedly", why)


def _listen(job: Job, running: Running, diary: "_Diary") -> tuple[Any, ...] | None:
    """Until the work ends: its progress to the row, the row's wishes to it."""
    pace = Pace()
    news: dict[str, Any] = {}
    last_beat = 0.0
    said: services.Wishes | None = None
    while True:
        try:
            while running.pipe.poll(min(POLL_SECONDS, running.beat_seconds)):
                message = running.pipe.recv()
                if "outcome" in message:
                    return message["outcome"]
                diary.hear(message)
                pace.hear(message)
                news |= {name: value for name, value in message.items() if name not in HEARD_ONLY}
                if time.monotonic() - last_beat > running.beat_seconds:
                    break
        except (EOFError, OSError):
            return None
        if time.monotonic() - last_beat > running.beat_seconds:
            news["seconds_left"] = pace.seconds_left()
            if diary.news:
                news["log"] = diary.written()
            wishes, told = _beaten(job, said, news)
            if wishes is None or not _pass_on(running.pipe, wishes, said):
                return None
            said, last_beat = wishes, time.monotonic()
            if told:
                news = {}
        if not running.is_alive() and not running.pipe.poll():
            return None


def _beaten(job: Job, before: services.Wishes | None, news: dict[str, Any]) -> tuple[services.Wishes | None, bool]:
    """One beat: what is wished now, None when the work is to be stopped; and whether the news was written."""
    if room.is_running_out():
        return None, False
    try:
        wishes = services.beat(job.turn, **news)
    except OperationalError as error:
        if room.is_full(error):
            return None, False
        log.warning("A beat was missed: %s", error)
        return before or services.Wishes(cancel=False, finish=False), False
    return (None if wishes is None or wishes.cancel else wishes), True


def _pass_on(pipe: Connection, wishes: services.Wishes, said: services.Wishes | None) -> bool:
    """Tell the work what is wished, if that is new; False when it hears no more."""
    if wishes == (said or services.Wishes(cancel=False, finish=False)):
        return True
    try:
        pipe.send({"finish": wishes.finish, "pause": wishes.pause, "back": wishes.back, "shots": wishes.shots})
    except OSError:
        return False
    return True


class _Diary:
    """What a job did, in plain words: each line with the seconds since it was begun for the first time."""

    def __init__(self, job: Job) -> None:
        self._lines: list[Any] = list(job.log)
        self._from = time.monotonic() - (self._lines[-1][0] if self._lines else 0.0)
        self.news = False
        self._write("Begun." if not self._lines else "Begun again.")

    def hear(self, message: dict[str, Any]) -> None:
        """Take what a job tells, if it is worth a line."""
        if "note" in message:
            self._write(message["note"])
        elif message.get("waiting"):
            self._write(f"Stood still: {message['waiting']}")

    def end(self, how: str, error: str = "") -> None:
        """Write how it ended."""
        self._write(f"{how}{f': {error}' if error else '.'}")

    def _write(self, words: str) -> None:
        if len(self._lines) < LOG_LINES:
            self._lines.append([round(time.monotonic() - self._from, 1), words])
            self.news = True

    def written(self) -> list[Any]:
        """All lines; they are no news any more."""
        self.news = False
        return self._lines
