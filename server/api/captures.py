"""New passes: captured or imported."""

import os
import uuid
from typing import Any

from django.conf import settings
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view, parser_classes
from rest_framework.response import Response

from api.asking import checked
from api.reading import RawPiece, RawUpload
from api.shapes.captures import (
    Acceptance,
    Accepted,
    Arrivals,
    BringOver,
    CapturePlan,
    NewUpload,
    PieceAt,
    UploadName,
    UploadView,
)
from api.shapes.jobs import JobView
from instruments import desk
from jobs import services as jobs
from objects import actions, core_door, room

FIRST_SEED = 11  # of an object's virtual passes, so that no two are alike
CHUNK = 1 << 20
ZIP_START = b"PK"


@extend_schema(request=CapturePlan, responses={201: JobView})
@api_view(["POST"])
def captures(request: Any, object_id: uuid.UUID) -> Response:
    """Start a pass on the virtual turntable."""
    scan_object = actions.asked_to_work(object_id, request.user)
    plan = dict(checked(CapturePlan, request))
    model = plan.pop("model", "") or scan_object.demo_model or "owl"
    if plan.get("instrument"):
        core_door.check_set_up(plan)
        desk.drive(plan["instrument"], request.user)
        actions.remember_set_up(object_id, request.user, plan)
    actions.remember_model(object_id, request.user, model)
    seed = scan_object.captures.count() + FIRST_SEED
    job = jobs.start_capture(scan_object, request.user, plan, model, seed)
    return Response(JobView(job).data, status=201)


@extend_schema(methods=["POST"], request=Acceptance, responses={201: Accepted})
@extend_schema(methods=["DELETE"], request=None, responses={204: None})
@api_view(["POST", "DELETE"])
def held(request: Any, capture_id: uuid.UUID) -> Response:
    """Accept a pass that was looked at, with the frames that are to stay in, and place it; or throw it away."""
    if request.method == "DELETE":
        actions.throw_away_capture(capture_id, request.user)
        return Response(status=204)
    asked = checked(Acceptance, request)
    step = actions.accept_capture(capture_id, request.user, asked["first"] - 1, asked.get("last") and asked["last"] - 1)
    scan_object = actions.asked_to_work(step.scan_object_id, request.user)
    title = scan_object.head.summary["passes"][-1]["title"]
    job = jobs.start_placing(scan_object, request.user, title) if asked["place"] else None
    return Response(Accepted({"title": title, "job": job}).data, status=201)


@extend_schema(
    request={"application/zip": bytes},
    parameters=[OpenApiParameter("name", str, required=True, description="The file’s name, for messages.")],
    responses={201: JobView},
)
@api_view(["POST"])
@parser_classes([RawUpload])
def imports(request: Any, object_id: uuid.UUID) -> Response:
    """Import a capture folder as a .zip; it is checked in a job before anything is kept."""
    scan_object = actions.asked_to_work(object_id, request.user)
    asked = UploadName(data=request.query_params)
    asked.is_valid(raise_exception=True)
    name = _printable(os.path.basename(asked.validated_data["name"])) or "capture.zip"
    target = settings.DATA / "uploads" / f"{uuid.uuid4()}.zip"
    try:
        _receive(request.data.get("stream"), target, name)
        # What came is a .zip, whatever it is called.
        called = name if name.lower().endswith(".zip") else f"{name}.zip"
        job = jobs.start_import(scan_object, request.user, [(str(target), called)])
    except BaseException:
        target.unlink(missing_ok=True)
        raise
    return Response(JobView(job).data, status=201)


@extend_schema(request=NewUpload, responses={201: UploadView})
@api_view(["POST"])
def uploads(request: Any, object_id: uuid.UUID) -> Response:
    """Begin to send a file in pieces; one that broke off is found again by its name and size."""
    actions.asked_to_work(object_id, request.user)
    asked = checked(NewUpload, request)
    name = _file_name(asked["name"])
    return Response(
        _seen(actions.begin_upload(object_id, request.user, name, asked["bytes"], asked.get("stamp", ""))), status=201
    )


@extend_schema(methods=["GET"], request=None, responses={200: UploadView})
@extend_schema(
    methods=["PUT"],
    request={"application/octet-stream": bytes},
    parameters=[OpenApiParameter("at", int, required=True, description="Where in the file the piece begins.")],
    responses={200: UploadView},
)
@extend_schema(methods=["DELETE"], request=None, responses={204: None})
@api_view(["GET", "PUT", "DELETE"])
@parser_classes([RawPiece])
def upload(request: Any, upload_id: uuid.UUID) -> Response:
    """How much of a file has come; send the piece that follows; or drop it."""
    there = actions.own_upload(upload_id, request.user)
    if request.method == "DELETE":
        actions.drop_upload(there)
        return Response(status=204)
    if request.method == "PUT":
        asked = PieceAt(data=request.query_params)
        asked.is_valid(raise_exception=True)
        actions.take_piece(there, asked.validated_data["at"], request.data["stream"])
    return Response(_seen(there))


def _seen(there: Any) -> dict[str, Any]:
    facts = {"id": there.pk, "name": there.name, "bytes": there.bytes, "received": actions.received_bytes(there)}
    return UploadView({**facts, "piece_bytes": settings.PIECE_BYTES}).data


@extend_schema(request=Arrivals, responses={201: JobView})
@api_view(["POST"])
def arrivals(request: Any, object_id: uuid.UUID) -> Response:
    """Make passes of files that were sent: captures, RGB-D folders, points, meshes, and .zip of them; checked in a job."""
    scan_object = actions.asked_to_work(object_id, request.user)
    said = dict(checked(Arrivals, request))
    files = actions.whole_uploads(scan_object, request.user, said.pop("uploads"))
    sent = [(str(actions.upload_path(f)), f.name) for f in files]
    job = jobs.start_import(scan_object, request.user, sent, core_door.check_said(said))
    return Response(JobView(job).data, status=201)


@extend_schema(request=BringOver, responses={201: JobView})
@api_view(["POST"])
def passes(request: Any, object_id: uuid.UUID) -> Response:
    """Bring passes of another object over, as they are cleaned there; they are to be aligned here."""
    scan_object = actions.asked_to_work(object_id, request.user)
    asked = checked(BringOver, request)
    job = jobs.start_bring(scan_object, request.user, asked["source"], asked["passes"])
    return Response(JobView(job).data, status=201)


def _file_name(name: str) -> str:
    """The last part of a name, fit for a file."""
    plain = _printable(os.path.basename(name.replace("\\", "/"))).strip()
    return plain if plain not in ("", ".", "..") else "scan"


def _printable(name: str) -> str:
    return "".join(c if c.isprintable() else "·" for c in name)


def _receive(stream: Any, target: Any, name: str) -> None:
    """Write what comes into a file; what is no .zip is refused at its first bytes."""
    size = 0
    with target.open("wb") as out:
        while chunk := stream.read(CHUNK) if stream is not None else b"":
            if not size and not chunk.startswith(ZIP_START):
                break
            size += len(chunk)
            if size > settings.MAX_UPLOAD_BYTES:
                raise core_door.InputError(f"{name}: more than {settings.MAX_UPLOAD_BYTES / 1e9:.0f} GB.")
            room.need()
            out.write(chunk)
    if not size:
        raise core_door.InputError(f"{name}: this is not a .zip file; a capture is sent as one.")
