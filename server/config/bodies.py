"""Bodies of requests, bounded before anything reads them: by size, by time, and an upload by who sends it."""

import asyncio
import re
from typing import Any

from django.conf import settings
from django.http import JsonResponse

from api.people import may_send
from objects import room

UPLOADS = re.compile(r"^/api/objects/[0-9a-f-]{36}/imports$")
PIECES = re.compile(r"^/api/uploads/[0-9a-f-]{36}$")
STRANGER_BYTES, PERSON_BYTES = 64 * 2**10, 3 * 2**20
IDLE_SECONDS = 30  # that the next part of a body may take
SLOWEST = 20_000  # bytes a second over a whole upload, after the first minute
MOST_UPLOADS = 4  # at once
DRAINED_BYTES, DRAIN_SECONDS = 16 * 2**20, 5


class _TooMuch(Exception):
    """More came than was allowed."""


class BoundedBodies:
    """ASGI middleware around the application."""

    def __init__(self, app: Any) -> None:
        self.app = app
        self._uploads = 0

    async def __call__(self, scope: dict[str, Any], receive: Any, send: Any) -> None:
        """Refuse before the body is read, or pass on with a body that cannot grow beyond its bounds."""
        if scope["type"] != "http":
            return await self.app(scope, receive, send)
        headers = dict(scope["headers"])
        is_upload = scope["method"] == "POST" and bool(UPLOADS.match(scope["path"]))
        is_upload = is_upload and headers.get(b"content-type", b"").startswith(b"application/zip")
        is_piece = scope["method"] == "PUT" and bool(PIECES.match(scope["path"]))
        limit = settings.MAX_UPLOAD_BYTES if is_upload else PERSON_BYTES if b"cookie" in headers else STRANGER_BYTES
        limit = settings.PIECE_BYTES if is_piece else limit
        length = headers.get(b"content-length", b"0")
        if not length.isdigit() or len(length) > 15 or int(length) > limit:
            if length.isdigit() and int(length[:15]) <= DRAINED_BYTES:
                await _drain(receive)
            return await _refuse(scope, receive, send, 413, f"At most {limit / 1e6:.1f} MB are taken here.")
        if is_piece and not await may_send(scope):
            return await _refuse(
                scope, receive, send, 403, "Sign in first, then send the file from the page of the object."
            )
        if not is_upload:
            return await self._bounded(scope, receive, send, limit)
        if not await may_send(scope):
            return await _refuse(scope, receive, send, 403, "Sign in first, then import from the page of the object.")
        if room.free_bytes() < settings.ROOM_RESERVE_BYTES + 2 * int(length):
            return await _refuse(scope, receive, send, 507, room.full_sentence())
        if self._uploads >= MOST_UPLOADS:
            return await _refuse(scope, receive, send, 429, "Several uploads are under way. Wait for one to end.")
        self._uploads += 1
        try:
            await self._bounded(scope, receive, send, limit)
        finally:
            self._uploads -= 1

    async def _bounded(self, scope: dict[str, Any], receive: Any, send: Any, limit: int) -> None:
        loop = asyncio.get_running_loop()
        came, began, done, answered = 0, loop.time(), False, False

        async def take() -> Any:
            nonlocal came, done
            if done:
                return await receive()
            try:
                message = await asyncio.wait_for(receive(), IDLE_SECONDS)
            except TimeoutError:
                return {"type": "http.disconnect"}
            came += len(message.get("body", b""))
            done = not message.get("more_body", False)
            if came > limit:
                raise _TooMuch
            seconds = loop.time() - began
            if seconds > 60 and came < SLOWEST * seconds:
                return {"type": "http.disconnect"}
            return message

        async def tell(message: Any) -> None:
            nonlocal answered
            answered = True
            await send(message)

        try:
            await self.app(scope, take, tell)
        except _TooMuch:
            if not answered:
                await _refuse(scope, receive, send, 413, f"At most {limit / 1e6:.1f} MB are taken here.")


async def _drain(receive: Any) -> None:
    """Let what is only a little too large come, and drop it: a browser hears no answer while it is still sending."""
    more = True
    while more:
        try:
            message = await asyncio.wait_for(receive(), DRAIN_SECONDS)
        except TimeoutError:
            return
        more = message.get("more_body", False)


async def _refuse(scope: dict[str, Any], receive: Any, send: Any, status: int, sentence: str) -> None:
    body = JsonResponse({"error": sentence}).content
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()),
               (b"connection", b"close")]  # fmt: skip
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
