"""Views outside of REST framework: who may ask, refusals as JSON, and files streamed with ranges."""

import asyncio
import logging
import os
import re
from collections.abc import AsyncIterator
from pathlib import Path
from typing import IO, Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse

from api.errors import UNEXPECTED, status_of
from api.people import seen_by

CHUNK = 1 << 20
IMMUTABLE = "private, max-age=31536000, immutable"
log = logging.getLogger(__name__)


def refused(status: int, sentence: str) -> JsonResponse:
    """An answer that says no."""
    return JsonResponse({"error": sentence}, status=status)


def signed_in(view: Any) -> Any:
    """Answer 403 to strangers, 404 to what is not theirs, 400 to what cannot be made."""

    async def inner(request: HttpRequest, *args: Any, **kwargs: Any) -> Any:
        if request.method not in ("GET", "HEAD"):
            return refused(405, "Only GET is answered here.")
        person = await seen_by(request)
        if person is None:
            return refused(403, "Sign in first.")
        try:
            return await view(request, person, *args, **kwargs)
        except Http404:
            return refused(404, "There is no such thing here.")
        except Exception as error:
            status = status_of(error)
            if status is None:
                log.exception("A file could not be sent")
                return refused(500, UNEXPECTED)
            return refused(status, str(error))

    return inner


async def ranged(request: HttpRequest, path: Path, kind: str, immutable: bool) -> Any:
    """Stream a file in chunks; answers a Range (also a suffix), and 416 for one that does not fit.

    The file is opened first: whatever happens to its name then, what was begun is sent whole.
    """
    source = await asyncio.to_thread(path.open, "rb")
    size = os.fstat(source.fileno()).st_size
    start, end, status = 0, size - 1, 200
    asked = re.fullmatch(r"bytes=(\d{0,18})-(\d{0,18})", request.headers.get("Range", ""))
    if asked and (asked[1] or asked[2]):
        status = 206
        if asked[1]:
            start = int(asked[1])
            end = min(int(asked[2]), size - 1) if asked[2] else size - 1
        else:
            start = max(size - int(asked[2]), 0)
        if start >= size or start > end:
            source.close()
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
    headers = {"Accept-Ranges": "bytes", "Content-Length": str(end - start + 1)}
    headers["Cache-Control"] = IMMUTABLE if immutable else "private, no-store"
    if status == 206:
        headers["Content-Range"] = f"bytes {start}-{end}/{size}"
    if request.method == "HEAD":
        source.close()
        return HttpResponse(status=status, content_type=kind, headers=headers)
    response = StreamingHttpResponse(_chunks(source, start, end), status=status, content_type=kind, headers=headers)
    response._resource_closers.append(source.close)  # also when nobody reads on
    return response


async def _chunks(source: IO[bytes], start: int, end: int) -> AsyncIterator[bytes]:
    with source:
        source.seek(start)
        left = end - start + 1
        while left > 0:
            chunk = await asyncio.to_thread(source.read, min(CHUNK, left))
            if not chunk:
                return
            left -= len(chunk)
            yield chunk


def stem_of(scan_object: Any) -> str:
    """What the files of an object are called."""
    return re.sub(r"[^A-Za-z0-9]+", "-", scan_object.title).strip("-").lower() or "object"


def to_take_away(response: HttpResponse, name: str) -> HttpResponse:
    """A response as a file of that name, which browsers save."""
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    response["Cache-Control"] = "private, no-store"
    return response
