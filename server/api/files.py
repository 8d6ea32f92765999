"""Files and geometry: made by the live service, streamed in chunks, immutable where their name is their content."""

import mimetypes
import uuid
from typing import Any

from asgiref.sync import sync_to_async
from django.http import Http404, HttpRequest, HttpResponse

from api.streaming import ranged, signed_in, stem_of, to_take_away
from live.making import made
from objects import core_door
from objects.models import Capture
from objects.selectors import captures_of, objects_of, snapshots_of

BYTES = "application/octet-stream"
GLB = "model/gltf-binary"


async def _first(rows: Any) -> Any:
    found = await rows.afirst()
    if found is None:
        raise Http404
    return found


async def _sent(request: HttpRequest, name: str, kind: str, what: str, **facts: Any) -> HttpResponse:
    """A file of the cache, made when it is not there; another time when it was cleared away in between."""
    for _ in range(2):
        path = await sync_to_async(core_door.shown_file)(name) or await made(what, **facts)
        try:
            return await ranged(request, path, kind, immutable=True)
        except FileNotFoundError:
            continue
    raise Http404


@signed_in
async def mesh(request: HttpRequest, user: Any, snapshot_id: uuid.UUID) -> HttpResponse:
    """A snapshot's mesh as compressed GLB."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    name = core_door.mesh_file(core_door.mesh_entry(snapshot.manifest))
    return await _sent(request, name, GLB, "mesh", snapshot=str(snapshot_id))


@signed_in
async def glance(request: HttpRequest, user: Any, snapshot_id: uuid.UUID) -> HttpResponse:
    """A snapshot's mesh with fewer triangles as compressed GLB, for a look within a second."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    name = core_door.glance_file(core_door.mesh_entry(snapshot.manifest))
    return await _sent(request, name, GLB, "glance", snapshot=str(snapshot_id))


@signed_in
async def pass_points(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, number: int) -> HttpResponse:
    """The points of one pass of a snapshot, in the object's frame."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    if number >= len(snapshot.manifest["passes"]):
        raise Http404
    name = core_door.pass_file(snapshot.manifest["passes"][number])
    return await _sent(request, name, BYTES, "pass", snapshot=str(snapshot_id), number=number)


@signed_in
async def pass_shift(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, number: int) -> HttpResponse:
    """How far the points of one pass of a snapshot lie off the other passes."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    if number >= len(snapshot.manifest["passes"]):
        raise Http404
    name = core_door.shift_file(snapshot.manifest, number)
    return await _sent(request, name, BYTES, "shift", snapshot=str(snapshot_id), number=number)


@signed_in
async def pass_unanswered(
    request: HttpRequest, user: Any, snapshot_id: uuid.UUID, number: int, index: int
) -> HttpResponse:
    """What of the object gave no answer in one frame of a pass of a snapshot, and why."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    if number >= len(snapshot.manifest["passes"]):
        raise Http404
    entry = snapshot.manifest["passes"][number]
    instrument = await Capture.objects.filter(pk=entry["capture"]).values_list("instrument", flat=True).afirst() or ""
    name = core_door.unanswered_file(entry, index, instrument)
    facts = {"number": number, "index": index, "instrument": instrument}
    return await _sent(request, name, BYTES, "unanswered", snapshot=str(snapshot_id), **facts)


@signed_in
async def measure(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, what: str) -> HttpResponse:
    """Of a snapshot's mesh its holes, how thick its walls are, its photographs, or how far it lies off what it was held against."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    if what not in core_door.MEASURES:
        raise Http404
    name = core_door.measure_file(snapshot.manifest, what)
    return await _sent(request, name, BYTES, what, snapshot=str(snapshot_id))


def _whole(request: HttpRequest) -> bool:
    """Whether all of a large surface is asked for, and not what is shown of it at a glance."""
    return request.GET.get("whole") == "1"


@signed_in
async def take(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, number: int) -> HttpResponse:
    """A take of a snapshot as compressed GLB."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    entry = core_door.take_entry(snapshot.manifest, number)
    if entry is None:
        raise Http404
    whole = _whole(request)
    name = core_door.take_file(entry, whole)
    return await _sent(request, name, GLB, "take", snapshot=str(snapshot_id), number=number, whole=whole)


@signed_in
async def take_off(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, number: int, other: int) -> HttpResponse:
    """How far the vertices of a take lie off another one."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    one, two = (core_door.take_entry(snapshot.manifest, n) for n in (number, other))
    if one is None or two is None:
        raise Http404
    whole = _whole(request)
    name = core_door.off_file(one, two, whole)
    facts = {"snapshot": str(snapshot_id), "number": number, "other": other, "whole": whole}
    return await _sent(request, name, BYTES, "off", **facts)


@signed_in
async def surface(request: HttpRequest, user: Any, snapshot_id: uuid.UUID) -> HttpResponse:
    """The bare surface of a snapshot as compressed GLB, to be held against another one."""
    snapshot = await _first(snapshots_of(user).filter(pk=snapshot_id))
    whole = _whole(request)
    name = core_door.take_file(core_door.surface_entry(snapshot.manifest), whole)
    return await _sent(request, name, GLB, "surface", snapshot=str(snapshot_id), whole=whole)


@signed_in
async def surface_off(request: HttpRequest, user: Any, snapshot_id: uuid.UUID, other_id: uuid.UUID) -> HttpResponse:
    """How far the surface of a snapshot lies off that of another one."""
    rows = [await _first(snapshots_of(user).filter(pk=pk)) for pk in (snapshot_id, other_id)]
    whole = _whole(request)
    one, two = (core_door.surface_entry(row.manifest) for row in rows)
    facts = {"snapshot": str(snapshot_id), "against": str(other_id), "whole": whole}
    return await _sent(request, core_door.off_file(one, two, whole), BYTES, "surface_off", **facts)


@signed_in
async def frame_points(request: HttpRequest, user: Any, capture_id: uuid.UUID, index: int) -> HttpResponse:
    """The points of one frame of a capture, also while it is being captured."""
    capture = await _first(captures_of(user).filter(pk=capture_id))
    if index >= capture.frames:
        raise Http404
    key = str(capture.id)
    return await _sent(request, core_door.frame_file(key, index), BYTES, "frame", key=key, index=index)


@signed_in
async def frame_colour(request: HttpRequest, user: Any, capture_id: uuid.UUID, index: int) -> HttpResponse:
    """The photograph of one frame."""
    capture = await _first(captures_of(user).filter(pk=capture_id))
    path = await made("photograph", key=str(capture.id), index=index) if index < capture.frames else None
    if path is None:
        raise Http404
    return await ranged(request, path, mimetypes.guess_type(path.name)[0] or BYTES, immutable=True)


@signed_in
async def picture(request: HttpRequest, user: Any, object_id: uuid.UUID) -> HttpResponse:
    """The shelf picture of an object as it is now."""
    scan_object = await _first(objects_of(user).filter(pk=object_id))
    if scan_object.head_id is None:
        raise Http404
    snapshot = str(scan_object.head_id)
    return await _sent(request, core_door.picture_file(snapshot), "image/png", "picture", snapshot=snapshot)


@signed_in
async def step_picture(request: HttpRequest, user: Any, snapshot_id: uuid.UUID) -> HttpResponse:
    """A picture of an object as it was after a step."""
    await _first(snapshots_of(user).filter(pk=snapshot_id))
    snapshot = str(snapshot_id)
    return await _sent(request, core_door.picture_file(snapshot), "image/png", "picture", snapshot=snapshot)


@signed_in
async def pass_download(request: HttpRequest, user: Any, object_id: uuid.UUID, number: int, kind: str) -> HttpResponse:
    """One pass of an object as points where they lie on it (PLY, XYZ, E57), or its capture folder as a .zip."""
    scan_object = await _first(objects_of(user).select_related("head").filter(pk=object_id))
    head = scan_object.head
    if kind not in core_door.PASS_KINDS or head is None or number >= len(head.manifest["passes"]):
        raise Http404
    name = core_door.pass_download_name(head.manifest, number, kind, stem_of(scan_object))
    file = core_door.pass_download_file(head.manifest, number, kind)
    response = await _sent(
        request, file, BYTES, "pass_download", snapshot=str(scan_object.head_id), number=number, format=kind
    )
    return to_take_away(response, name)


@signed_in
async def download(request: HttpRequest, user: Any, object_id: uuid.UUID, kind: str) -> HttpResponse:
    """The object's mesh in an open format (OBJ comes zipped with its texture), or its gathered points as PLY."""
    scan_object = await _first(objects_of(user).select_related("head").filter(pk=object_id))
    if kind not in (*core_door.MESH_FORMATS, core_door.POINTS):
        raise Http404
    if scan_object.head is None:
        raise core_door.InputError("There is no mesh to download yet.")
    stem = stem_of(scan_object)
    manifest, snapshot = scan_object.head.manifest, str(scan_object.head_id)
    name = core_door.download_name(manifest, kind, stem)
    file = core_door.download_file(manifest, kind, stem)
    return to_take_away(await _sent(request, file, BYTES, "download", snapshot=snapshot, format=kind, stem=stem), name)
