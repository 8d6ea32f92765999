"""How a job speaks with its supervisor."""

import time
from dataclasses import dataclass
from multiprocessing.connection import Connection

PROGRESS_SECONDS = 0.1  # between two words of progress: more often nobody can read
MESSAGE_LENGTH, WAITING_LENGTH = 200, 300


class Stopped(Exception):
    """A job that runs in a thread is to end now: somebody stopped it, or it is not its turn any more."""


@dataclass
class Heard:
    """What a person wishes of the job, as far as it has heard."""

    finish: bool = False
    pause: bool = False
    back: int = 0
    shots: int = 0


class Voice:
    """Progress out, wishes in."""

    def __init__(self, pipe: Connection) -> None:
        self._pipe = pipe
        self._last = 0.0
        self._back = self._shots = 0
        self._said = ""
        self.heard = Heard()

    def tell(self, fraction: float, message: str) -> None:
        """A `Progress`, passed on at most every tenth of a second."""
        if time.monotonic() - self._last > PROGRESS_SECONDS:
            self._last = time.monotonic()
            self._pipe.send({"fraction": round(fraction, 4), "message": message[:MESSAGE_LENGTH]})

    def begin_step(self, number: int, total: int, title: str) -> None:
        """Say which step of how many begins; never left out."""
        self._pipe.send({"step": number, "steps": total, "message": title[:MESSAGE_LENGTH]})

    def tell_usual(self, seconds: list[float]) -> None:
        """Say what each step usually takes, before the first begins."""
        self._pipe.send({"usual": seconds})

    def note(self, sentence: str) -> None:
        """Write a sentence into the job's log."""
        if sentence:
            self._pipe.send({"note": sentence[:WAITING_LENGTH]})

    def wait_because(self, sentence: str) -> None:
        """Say why the job stands still; with an empty sentence it goes on."""
        if sentence != self._said:
            self._said = sentence
            self._pipe.send({"waiting": sentence[:WAITING_LENGTH]})

    def listen(self, seconds: float) -> Heard:
        """Hear what comes within some seconds, at once when something does; raises `Stopped` when the job is to end."""
        while self._pipe.poll(seconds):
            said = self._pipe.recv()
            if said == "stop":
                raise Stopped
            self.heard = Heard(said["finish"], said["pause"], said["back"], said["shots"])
            seconds = 0.0
        return self.heard

    def finish_wished(self, seconds: float) -> bool:
        """Wait so long for a wish to end here and keep what there is; what was wished is heard even without any time."""
        until = time.monotonic() + seconds
        self.listen(0.0)
        while not self.heard.finish and (left := until - time.monotonic()) > 0:
            self.listen(left)
        return self.heard.finish

    def shot_wished(self) -> bool:
        """Whether one more shot is wished than were asked for; it counts as asked for."""
        wished = self.heard.shots > self._shots
        self._shots += wished
        return wished

    def step_back_wished(self) -> bool:
        """Whether one more step back is wished than were made; it counts as made."""
        wished = self.heard.back > self._back
        self._back += wished
        return wished
