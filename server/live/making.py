"""Files that the web server streams and the live service makes, so that the web server never holds geometry."""

import asyncio
import socket
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection

from live.wire import read_message, write_message
from objects import core_door
from objects.models import Snapshot

TRIES, AGAIN_SECONDS = 40, 0.25  # a service that died is back within some seconds
GONE = "This state of the object is not there any more."


class NotNow(Exception):
    """The live service does not answer."""

    def __init__(self) -> None:
        super().__init__("The server is starting a part of itself again. Try once more in a moment.")


async def made(what: str, **facts: Any) -> Path | None:
    """Have the live service make a file and wait for it; None when there is nothing of that kind.

    Raises `InputError` with the service's sentence when it cannot be made, `NotNow` when the service stays away.
    """
    for _ in range(TRIES):
        try:
            head = await _asked({"kind": "make", "what": what, **facts})
        except (ConnectionError, OSError):
            await asyncio.sleep(AGAIN_SECONDS)
            continue
        if head["kind"] == "refused":
            raise core_door.InputError(head["error"])
        return Path(head["path"]) if head["path"] else None
    raise NotNow


def answers() -> bool:
    """Whether the live service listens."""
    try:
        with socket.socket(socket.AF_UNIX) as door:
            door.settimeout(1)
            door.connect(str(settings.LIVE_SOCKET))
    except OSError:
        return False
    return True


async def _asked(request: dict[str, Any]) -> dict[str, Any]:
    reader, writer = await asyncio.open_unix_connection(settings.LIVE_SOCKET)
    try:
        await write_message(writer, request)
        return (await read_message(reader))[0]
    finally:
        writer.close()


def make(asked: dict[str, Any]) -> Path | None:
    """In the live service: make what is asked for."""
    what = asked["what"]
    if what == "frame":
        return core_door.make_frame(asked["key"], asked["index"])
    if what == "photograph":
        return core_door.photograph(asked["key"], asked["index"])
    manifest = _manifest(asked["snapshot"])
    if what == "pass_download":
        return core_door.make_pass_download(manifest, asked["number"], asked["format"])
    if what == "unanswered":
        return core_door.make_unanswered(manifest, asked["number"], asked["index"], asked["instrument"])
    if what == "pass":
        return core_door.make_pass(manifest, asked["number"])
    if what == "shift":
        return core_door.make_shift(manifest, asked["number"])
    if what in core_door.MEASURES:
        return core_door.make_measure(manifest, what)
    if what == "take":
        return core_door.make_take(manifest, asked["number"], asked["whole"])
    if what == "off":
        return core_door.make_off(manifest, asked["number"], asked["other"], asked["whole"])
    if what == "surface":
        return core_door.make_surface(manifest, asked["whole"])
    if what == "surface_off":
        return core_door.make_surface_off(manifest, _manifest(asked["against"]), asked["whole"])
    if what == "mesh":
        return core_door.make_mesh(manifest)
    if what == "glance":
        return core_door.make_glance(manifest)
    if what == "picture":
        return core_door.make_picture(manifest, asked["snapshot"])
    return core_door.make_download(manifest, asked["format"], asked["stem"])


def _manifest(snapshot: str) -> dict[str, Any]:
    try:
        row = Snapshot.objects.filter(pk=snapshot).values_list("manifest", flat=True).first()
    finally:
        connection.close()
    if row is None:
        raise core_door.InputError(GONE)
    return row
