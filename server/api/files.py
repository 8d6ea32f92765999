"""Files and geometry: streamed in chunks, with ranges, immutable where their name is their content."""

import mimetypes
import re
import uuid
from typing import Any

from asgiref.sync import sync_to_async
from django.http import Http404, HttpRequest, HttpResponse

from api.streaming import IMMUTABLE, ranged, signed_in
from objects import core_door
from objects.actions import picture_path
from objects.selectors import captures_of, objects_of, snapshots_of


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
