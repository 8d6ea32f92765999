"""Files and geometry: streamed in chunks, with ranges, immutable where their name is their content."""

import asyncio
import mimetypes
import re
import uuid
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

from asgiref.sync import sync_to_async
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse

from objects import core_door
from objects.actions import picture_path
from objects.selectors import captures_of, objects_of, snapshots_of

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


async def _first(rows: Any) -> Any:
    found = await rows.afirst()
    if found is None:
        raise Http404
    return found


def _geometry(data: bytes, kind: str) -> HttpResponse:
    return HttpResponse(data, content_type=kind, headers={"Cache-Control": IMMUTABLE})


@signed_in
async def mesh(request: HttpRequest, user: Any, snapshot_id: uuid.UUID) -> HttpResponse:
    """A snapshot's mesh as compressed GLB."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    return _geometry(await sync_to_async(core_door.mesh_glb)(snapshot.manifest), "model/gltf-binary")


@signed_in
async def pass_points(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, number: int) -> HttpResponse:
    """The points of one pass of a snapshot, in the object's frame."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    if number >= len(snapshot.manifest["passes"]):
        raise Http404
    data = await sync_to_async(core_door.pass_cloud)(snapshot.manifest, number)
    return _geometry(data, "application/octet-stream")


@signed_in
async def frame_points(request: HttpRequest, user: Any, capture_id: uuid.UUID, index: int) -> HttpResponse:
    """The points of one frame of a capture, also while it is being captured."""
    capture = await _first(captures_of(user).filter(pk=capture_id))
    if index >= capture.frames:
        raise Http404
    data = await sync_to_async(core_door.live_points)(str(capture.id), index)
    return _geometry(data, "application/octet-stream")


@signed_in
async def frame_colour(request: HttpRequest, user: Any, capture_id: uuid.UUID, index: int) -> HttpResponse:
    """The photograph of one frame."""
    capture = await _first(captures_of(user).filter(pk=capture_id))
    path = await sync_to_async(core_door.photograph)(str(capture.id), index) if index < capture.frames else None
    if path is None:
        raise Http404
    kind = mimetypes.guess_type(path.name)[0] or "application/octet-stream"
    return await ranged(request, path, kind, immutable=True)


@signed_in
async def picture(request: HttpRequest, user: Any, object_id: uuid.UUID) -> HttpResponse:
    """The shelf picture of an object."""
    scan_object = await _first(objects_of(user).filter(pk=object_id))
    path = picture_path(scan_object)
    if not path.exists():
        raise Http404
    return await ranged(request, path, "image/png", immutable=True)


@signed_in
async def download(request: HttpRequest, user: Any, object_id: uuid.UUID, kind: str) -> HttpResponse:
    """The object's mesh in an open format (OBJ comes zipped with its texture), or its gathered points as PLY."""
    scan_object = await _first(objects_of(user).filter(pk=object_id))
    if kind not in (*core_door.MESH_FORMATS, core_door.POINTS):
        raise Http404
    if scan_object.head is None:
        raise core_door.InputError("There is no mesh to download yet.")
    stem = re.sub(r"[^A-Za-z0-9]+", "-", scan_object.title).strip("-").lower() or "object"
    name, path = await sync_to_async(core_door.download)(scan_object.head.manifest, kind, stem)
    response = await ranged(request, path, "application/octet-stream", immutable=False)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


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
