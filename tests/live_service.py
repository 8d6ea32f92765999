"""A real live service for tests."""

import asyncio
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings

from jobs.models import Job
from live.wire import read_message, write_message
from objects.models import Capture

SERVER = Path(__file__).resolve().parents[1] / "server"


class Service:
    """A real live service on the test's database and data folder."""

    def __init__(self) -> None:
        self.process: subprocess.Popen | None = None

    def start(self) -> None:
        environment = {**os.environ, "DJANGO_SETTINGS_MODULE": "config.settings"}
        self.process = subprocess.Popen([sys.executable, "manage.py", "live"], cwd=SERVER, env=environment)

    def kill(self) -> None:
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()


def wait_for(condition: Callable[[], Any], seconds: float = 120) -> Any:
    """What a condition answers as soon as that is something."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if answer := condition():
            return answer
        time.sleep(0.03)
    raise AssertionError([(j.state, j.message, j.waiting, j.error) for j in Job.objects.all()])


def fresh(row: Any) -> Any:
    """A row as it is now."""
    return type(row).objects.get(pk=row.pk)


def frames(job: Job) -> int:
    """How many frames a pass under way has."""
    return Capture.objects.filter(pk=job.payload["capture"]).values_list("frames", flat=True).first() or 0


def asked_of(request: dict[str, Any]) -> bytes:
    """The body of what the live service answers to a request; empty when it refuses."""

    async def talk() -> bytes:
        reader, writer = await asyncio.open_unix_connection(settings.LIVE_SOCKET)
        await write_message(writer, request)
        _, body = await read_message(reader)
        writer.close()
        return body

    return asyncio.run(talk())


def live_processes(parent: int) -> list[int]:
    """The live services that a `serve` process started."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            text = (entry / "cmdline").read_bytes()
            status = (entry / "status").read_text()
        except (OSError, ValueError):
            continue
        if b"manage.py\0live" in text and f"PPid:\t{parent}\n" in status:
            found.append(int(entry.name))
    return found
