"""How long a job still takes."""

import time
from typing import Any

LEAST_FRACTION = 0.02  # that must be done before the pace is told
NOT_WORKED = 0.05  # of what a step usually takes: done sooner, its result was known and tells no pace
FIRM_SECONDS = 20.0  # at the usual pace that count beside what was seen so far: one short step tells little
LEAST_LEFT = 0.05  # of a step that takes longer than it usually does


class Pace:
    """Hears what a job tells of itself, and says when it will end.

    Of a list of steps: what each usually takes, at the pace of those that are done. Of other work: the pace of the
    fraction, from where it began: a job that goes on after an interruption begins in the middle.
    """

    def __init__(self) -> None:
        self._began: tuple[float, float] | None = None
        self._by_fraction: float | None = None
        self._usual: list[float] = []
        self._at, self._since = 0, 0.0
        self._took = self._meant = 0.0

    def hear(self, message: dict[str, Any]) -> None:
        """Take what a job tells; see `jobs.voice`."""
        now = time.monotonic()
        self._usual = message.get("usual", self._usual)
        if "step" in message:
            self._end_step(now)
            self._at, self._since = message["step"], now
        if "fraction" in message:
            started, first = self._began = self._began or (now, message["fraction"])
            done = message["fraction"] - first
            known = done >= LEAST_FRACTION
            self._by_fraction = (now - started) * (1 - message["fraction"]) / done if known else None

    def _end_step(self, now: float) -> None:
        if not self._at or not self._usual:
            return
        took, usual = now - self._since, self._usual[self._at - 1]
        if took > NOT_WORKED * usual:
            self._took, self._meant = self._took + took, self._meant + usual

    def seconds_left(self) -> float | None:
        """Seconds until the end; None while that cannot be told."""
        if self._at and self._usual:
            return self._by_steps(time.monotonic() - self._since)
        return self._by_fraction

    def _by_steps(self, elapsed: float) -> float:
        here = self._usual[self._at - 1]
        took, meant = self._took + FIRM_SECONDS, self._meant + FIRM_SECONDS
        if elapsed > here * took / meant:
            took, meant = took + elapsed, meant + here
        pace = took / meant
        return max(here * pace - elapsed, LEAST_LEFT * here * pace) + pace * sum(self._usual[self._at :])
