"""`manage.py serve`: web server, workers and live service with one command; one that dies is started again."""

import contextlib
import os
import signal
import socket
import subprocess
import sys
import time
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from jobs import slots
from jobs.child import end_with_parent
from objects import room

RESTART_SECONDS = 0.5
SOUND_SECONDS, LONGEST_PAUSE = 10, 30  # that a sound process lives at least; between two starts of one that does not
BACKLOG = 512
STOP_SECONDS = 3


class Command(BaseCommand):
    help = "Start the web server, the workers and the live service; they end with this process, however it ends."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--host", default="127.0.0.1")
        parser.add_argument("--port", type=int, default=8765)

    def handle(self, *args: Any, **options: Any) -> None:
        lock = slots.take("serve")
        if lock is None:
            raise CommandError(f"Lucid Relic runs on {settings.DATA} already. Stop it first, or set LUCID_RELIC_DATA.")
        host, port = options["host"], options["port"]
        try:
            listener = socket.create_server(
                (host, port), family=socket.AF_INET6 if ":" in host else socket.AF_INET, backlog=BACKLOG
            )
        except OSError as error:
            raise CommandError(f"{host}:{port} cannot be listened at: {error.strerror}.") from None
        with lock, listener:
            self._serve(host, port, listener.fileno())

    def _serve(self, host: str, port: int, door: int) -> None:
        children = [_Child(name, command, door) for name, command in _commands(door).items()]
        self.stdout.write(f"Lucid Relic is at http://{host}:{port}/  (Ctrl+C stops it)")
        self.stdout.flush()
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        try:
            while True:
                time.sleep(RESTART_SECONDS)
                room.tend_ballast()
                for child in children:
                    if child.must_start_again():
                        with contextlib.suppress(OSError):  # the log may lie on a disk that is full
                            self.stderr.write(
                                f"The {child.name} ended ({child.process.returncode}); starting it again."
                            )
                        child.start()
        except KeyboardInterrupt:
            self.stdout.write("Stopping.")
        finally:
            for child in children:
                child.process.terminate()
            for child in children:
                _wait_or_kill(child.process)


class _Child:
    """One process and its command; one that dies again and again at its start is started less and less often."""

    def __init__(self, name: str, command: list[str], door: int) -> None:
        self.name, self._command, self._door = name, command, door
        self._pause = 0.0
        self._ended: float | None = None
        self.start()

    def start(self) -> None:
        """Start it, again or for the first time."""
        doors = (self._door,) if "uvicorn" in self._command else ()
        self._started, self._ended = time.monotonic(), None
        self.process = subprocess.Popen(
            self._command, cwd=settings.ROOT / "server", env=os.environ.copy(), preexec_fn=end_with_parent,
            pass_fds=doors,
        )  # fmt: skip

    def must_start_again(self) -> bool:
        """Whether it has ended and its pause is over."""
        now = time.monotonic()
        if self.process.poll() is None:
            return False
        if self._ended is None:
            self._ended = now
            was_sound = now - self._started > SOUND_SECONDS
            self._pause = 0.0 if was_sound else min(max(2 * self._pause, RESTART_SECONDS), LONGEST_PAUSE)
        return now - self._ended >= self._pause


def _commands(door: int) -> dict[str, list[str]]:
    """What runs; the web processes share one listening socket, which is open also while one of them starts again."""
    manage = [sys.executable, str(settings.ROOT / "server" / "manage.py")]
    proxy = (
        ["--proxy-headers", "--forwarded-allow-ips", "127.0.0.1"] if settings.BEHIND_PROXY else ["--no-proxy-headers"]
    )
    web = [
        sys.executable, "-m", "uvicorn", "config.asgi:application", "--fd", str(door), "--lifespan", "off", "--timeout-graceful-shutdown", "1", "--log-level", "warning", "--no-server-header", *proxy,
    ]  # fmt: skip
    workers = {f"worker {n + 1}": [*manage, "worker"] for n in range(settings.WORKERS)}
    webs = {f"web server {n + 1}": web for n in range(settings.WEB_PROCESSES)}
    return {**webs, **workers, "live service": [*manage, "live"]}


def _wait_or_kill(process: subprocess.Popen[bytes]) -> None:
    try:
        process.wait(timeout=STOP_SECONDS)
    except subprocess.TimeoutExpired:
        process.kill()
