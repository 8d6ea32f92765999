"""`manage.py serve`: web server, worker and live service with one command; one that dies is started again."""

import os
import signal
import subprocess
import sys
import time
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand

RESTART_SECONDS = 0.5


class Command(BaseCommand):
    help = "Start the web server, the worker and the live service."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--host", default="127.0.0.1")
        parser.add_argument("--port", type=int, default=8765)

    def handle(self, *args: Any, **options: Any) -> None:
        host, port = options["host"], options["port"]
        manage = [sys.executable, str(settings.ROOT / "server" / "manage.py")]
        web = [
            sys.executable, "-m", "uvicorn", "config.asgi:application", "--host", host, "--port", str(port),
            "--lifespan", "off", "--timeout-graceful-shutdown", "1", "--log-level", "warning",
        ]  # fmt: skip
        commands = {"web": web, "worker": [*manage, "worker"], "live service": [*manage, "live"]}
        children = {name: (command, _start(command)) for name, command in commands.items()}
        self.stdout.write(f"Lucid Relic is at http://{host}:{port}/  (Ctrl+C stops it)")
        self.stdout.flush()
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        try:
            while True:
                time.sleep(RESTART_SECONDS)
                for name, (command, process) in children.items():
                    if process.poll() is not None:
                        self.stderr.write(f"The {name} ended ({process.returncode}); starting it again.")
                        children[name] = (command, _start(command))
        except KeyboardInterrupt:
            self.stdout.write("Stopping.")
        finally:
            for _, process in children.values():
                process.terminate()
            for _, process in children.values():
                _wait_or_kill(process)


def _start(command: list[str]) -> subprocess.Popen[bytes]:
    return subprocess.Popen(command, cwd=settings.ROOT / "server", env=os.environ.copy())


def _wait_or_kill(process: subprocess.Popen[bytes]) -> None:
    try:
        process.wait(timeout=3)
    except subprocess.TimeoutExpired:
        process.kill()
