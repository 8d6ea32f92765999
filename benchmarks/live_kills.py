"""The live service killed again and again during previews, on a real installation: the bench goes on every time.

Makes a data folder of its own with one object of two small passes, serves it, and talks to it as a bench does.
"""

import asyncio
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parents[1]
SERVER = ROOT / "server"


KILLS = 20


def live_kills() -> list[str]:
    """How often the bench went on, and how long until the next preview came."""
    os.environ["LUCID_RELIC_DATA"] = tempfile.mkdtemp(prefix="lucid-relic-kills-")
    os.environ["DJANGO_SETTINGS_MODULE"] = "config.settings"
    sys.path[:0] = [str(SERVER), str(ROOT / "tests")]
    subprocess.run([sys.executable, "manage.py", "migrate", "--verbosity", "0"], cwd=SERVER, check=True)
    object_id, snapshot, cookie = _object()
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    serve = subprocess.Popen([sys.executable, "manage.py", "serve", "--port", str(port)], cwd=SERVER)
    try:
        _wait_for(f"http://127.0.0.1:{port}/api/session")
        waits = asyncio.run(_killed(f"ws://127.0.0.1:{port}/ws/objects/{object_id}", cookie, snapshot, serve.pid))
    finally:
        serve.terminate()
        serve.wait()
    return [
        "## The live service killed during previews",
        "",
        f"A served installation, one bench on its WebSocket, the live service killed with three previews under way: {KILLS} kills.",
        f"{len(waits)} times the bench heard that it was gone and back, and the next preview came: median {np.median(waits):.1f} s,",
        f"worst {max(waits):.1f} s after the kill, most of which is the start of the process.",
    ]


def _object() -> tuple[str, str, str]:
    """An object with two small passes: its id, its snapshot's, and a signed-in cookie."""
    import django

    django.setup()
    from django.conf import settings
    from django.contrib.auth import get_user_model
    from django.test import Client
    from scenes import two_passes

    from objects import actions, core_door
    from objects.models import Capture

    user = get_user_model().objects.create_user("keeper")
    scan_object = actions.create_object(user, "Lump")
    for folder in two_passes(Path(tempfile.mkdtemp()))[:2]:
        capture = Capture.objects.create(scan_object=scan_object, title=folder.name, frames=12)
        target = core_door.capture_path(str(capture.id))
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(folder, target)
        actions.complete_capture(capture, user.id, None, 0.0)
    scan_object.refresh_from_db()
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    cookie = f"{settings.SESSION_COOKIE_NAME}={client.cookies[settings.SESSION_COOKIE_NAME].value}"
    return str(scan_object.id), str(scan_object.head_id), cookie


def _wait_for(url: str) -> None:
    for _ in range(200):
        try:
            urllib.request.urlopen(url, timeout=1).close()
            return
        except OSError:
            time.sleep(0.2)
    raise SystemExit(f"{url} does not answer")


def _live(parent: int) -> int | None:
    """The live service that a `serve` process started."""
    for entry in Path("/proc").iterdir():
        try:
            ours = f"PPid:\t{parent}\n" in (entry / "status").read_text()
            if ours and b"manage.py\0live" in (entry / "cmdline").read_bytes():
                return int(entry.name)
        except OSError:
            continue
    return None


async def _killed(url: str, cookie: str, snapshot: str, parent: int) -> list[float]:
    from websockets.asyncio.client import connect

    host = url.split("/")[2]
    waits, number = [], 0
    async with connect(url, additional_headers={"Cookie": cookie}, origin=f"http://{host}", max_size=None) as bench:

        async def ask() -> int:
            nonlocal number
            number += 1
            body = {"above_mm": 1.0 + number % 9}
            await bench.send(json.dumps({"id": number, "kind": "preview", "snapshot": snapshot,
                                         "operation": "stand_cut", "parameters": body}))  # fmt: skip
            return number

        async def heard(what: str) -> None:
            async with asyncio.timeout(120):
                while True:
                    message = await bench.recv()
                    kind = "preview" if isinstance(message, bytes) else json.loads(message)
                    if kind == what or (isinstance(kind, dict) and kind.get("state") == what):
                        return

        await heard("up")
        for _ in range(KILLS):
            await ask()
            await heard("preview")
            for _ in range(3):
                await ask()
            os.kill(_live(parent), signal.SIGKILL)
            began = time.monotonic()
            await heard("down")
            await heard("up")
            await ask()
            await heard("preview")
            waits.append(time.monotonic() - began)
    return waits
