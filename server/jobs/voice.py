"""How a job's child speaks with its supervisor."""

import time
from multiprocessing.connection import Connection

PROGRESS_SECONDS = 0.1  # between two words of progress: more often nobody can read
MESSAGE_LENGTH = 200


class Voice:
    """Progress out, wishes in."""

    def __init__(self, pipe: Connection) -> None:
        self._pipe = pipe
        self._last = 0.0

    def tell(self, fraction: float, message: str) -> None:
        """A `Progress`, passed on at most every tenth of a second."""
        if time.monotonic() - self._last > PROGRESS_SECONDS:
            self._last = time.monotonic()
            self._pipe.send({"fraction": round(fraction, 4), "message": message[:MESSAGE_LENGTH]})

    def begin_step(self, number: int, total: int, title: str) -> None:
        """Say which step of how many begins; never left out."""
        self._pipe.send({"step": number, "steps": total, "message": title[:MESSAGE_LENGTH]})

    def finish_wished(self, seconds: float) -> bool:
        """Wait so long for a wish to end here and keep what there is."""
        return self._pipe.poll(seconds) and self._pipe.recv() == "finish"
