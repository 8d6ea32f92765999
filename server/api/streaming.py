"""Views outside of REST framework: who may ask, refusals as JSON, and files streamed with ranges."""

import asyncio
import re
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse

from objects import core_door

CHUNK = 1 << 20
IMMUTABLE = "private, max-age=31536000, immutable"


async def _signed_in(request: HttpRequest) -> Any:
    user = await request.auser()
    return user if user.is_authenticated else None


def _refused(status: int, sentence: str) -> JsonResponse:
    return JsonResponse({"error": sentence}, status=status)


def signed_in(view: Any) -> Any:
    """Answer 403 to strangers, 404 to what is not theirs, 400 to what cannot be made."""

    async def inner(request: HttpRequest, *args: Any, **kwargs: Any) -> Any:
        if request.method not in ("GET", "HEAD"):
            return _refused(405, "Only GET is answered here.")
        user = await _signed_in(request)
        if user is None:
            return _refused(403, "Sign in first.")
        try:
            return await view(request, user, *args, **kwargs)
        except Http404:
            return _refused(404, "There is no such thing here.")
        except core_door.LucidRelicError as error:
            return _refused(400, str(error))

    return inner


async def ranged(request: HttpRequest, path: Path, kind: str, immutable: bool) -> Any:
    """Stream a file in chunks; answers a Range (also a suffix), and 416 for one that does not fit."""
    size = path.stat().st_size
    start, end, status = 0, size - 1, 200
    asked = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", ""))
    if asked and (asked[1] or asked[2]):
        status = 206
        if asked[1]:
            start = int(asked[1])
            end = min(int(asked[2]), size - 1) if asked[2] else size - 1
        else:
            start = max(size - int(asked[2]), 0)
        if start >= size or start > end:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
    headers = {"Accept-Ranges": "bytes", "Content-Length": str(end - start + 1)}
    headers["Cache-Control"] = IMMUTABLE if immutable else "private, no-store"
    if status == 206:
        headers["Content-Range"] = f"bytes {start}-{end}/{size}"
    return StreamingHttpResponse(_chunks(path, start, end), status=status, content_type=kind, headers=headers)


async def _chunks(path: Path, start: int, end: int) -> AsyncIterator[bytes]:
    with path.open("rb") as source:
        source.seek(start)
        left = end - start + 1
        while left > 0:
            chunk = await asyncio.to_thread(source.read, min(CHUNK, left))
            if not chunk:
                return
            left -= len(chunk)
            yield chunk
