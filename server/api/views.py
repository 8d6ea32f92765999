"""The JSON API; rules live in the services, shapes in the serializers."""

import os
import uuid
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.middleware.csrf import get_token
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, parser_classes, permission_classes
from rest_framework.parsers import MultiPartParser
from rest_framework.permissions import AllowAny
from rest_framework.response import Response

from accounts import services as accounts
from api import present
from api import serializers as shapes
from jobs import services as jobs
from jobs.models import Job
from objects import core_door
from objects import services as objects
from objects.models import Capture, ScanObject
from objects.selectors import objects_of


def _valid(shape: type[Any], request: Any) -> dict[str, Any]:
    body = shape(data=request.data)
    body.is_valid(raise_exception=True)
    return body.validated_data


def _object(request: HttpRequest, object_id: uuid.UUID) -> ScanObject:
    return get_object_or_404(objects_of(request.user), pk=object_id)


@extend_schema(methods=["GET"], responses=shapes.Session)
@extend_schema(methods=["POST"], request=shapes.SignIn, responses=shapes.Session)
@extend_schema(methods=["DELETE"], responses={200: shapes.Session})
@api_view(["GET", "POST", "DELETE"])
@permission_classes([AllowAny])
def session(request: Any) -> Response:
    """Who is signed in; sign in; sign out."""
    if request.method == "POST":
        body = _valid(shapes.SignIn, request)
        accounts.sign_in(request._request, body["username"], body["password"])
    elif request.method == "DELETE":
        accounts.sign_out(request._request)
    elif not request.user.is_authenticated:
        accounts.sign_in_demo(request._request)
    get_token(request._request)
    user = request._request.user
    return Response({"signed_in": user.is_authenticated, "username": user.username, "demo": settings.DEMO})


@extend_schema(methods=["GET"], responses=shapes.ShelfItem(many=True))
@extend_schema(methods=["POST"], request=shapes.NewObject, responses={201: shapes.ShelfItem})
@api_view(["GET", "POST"])
def shelf(request: Any) -> Response:
    """All objects of the person; a new one."""
    if request.method == "POST":
        body = _valid(shapes.NewObject, request)
        created = objects.create_object(request.user, body["title"], body.get("notes", ""))
        return Response(shapes.ShelfItem(present.shelf_item(created)).data, status=201)
    items = [present.shelf_item(o) for o in objects_of(request.user)]
    return Response(shapes.ShelfItem(items, many=True).data)


@extend_schema(methods=["GET"], responses=shapes.Bench)
@extend_schema(methods=["PATCH"], request=shapes.NewObject, responses=shapes.Bench)
@extend_schema(methods=["DELETE"], responses={204: None})
@api_view(["GET", "PATCH", "DELETE"])
def bench(request: Any, object_id: uuid.UUID) -> Response:
    """Everything the bench shows; rename; delete."""
    scan_object = _object(request, object_id)
    if request.method == "DELETE":
        if scan_object.jobs.exclude(state__in=Job.ENDED).exists():
            raise jobs.Busy("This object has a job under way. Stop it before deleting the object.")
        objects.delete_object(scan_object)
        return Response(status=204)
    if request.method == "PATCH":
        body = _valid(shapes.NewObject, request)
        scan_object.title, scan_object.notes = body["title"], body.get("notes", scan_object.notes)
        scan_object.save(update_fields=["title", "notes", "changed"])
    return Response(shapes.Bench(present.bench(scan_object)).data)


@extend_schema(request=shapes.CapturePlan, responses={201: shapes.JobView})
@api_view(["POST"])
def captures(request: Any, object_id: uuid.UUID) -> Response:
    """Start a pass on the virtual turntable."""
    scan_object = _object(request, object_id)
    plan = dict(_valid(shapes.CapturePlan, request))
    model = plan.pop("model", "") or scan_object.demo_model or "owl"
    if not scan_object.demo_model:
        scan_object.demo_model = model
        scan_object.save(update_fields=["demo_model"])
    seed = scan_object.captures.count() + 11
    job = jobs.start_capture(scan_object, request.user, plan, model, seed)
    return Response(shapes.JobView(job).data, status=201)


@extend_schema(request=shapes.ImportFile, responses={201: shapes.JobView})
@api_view(["POST"])
@parser_classes([MultiPartParser])
def imports(request: Any, object_id: uuid.UUID) -> Response:
    """Import a capture folder as a .zip; it is checked in a job before anything is kept."""
    scan_object = _object(request, object_id)
    upload = _valid(shapes.ImportFile, request)["file"]
    if upload.size > settings.MAX_UPLOAD_BYTES:
        raise core_door.InputError(f"{upload.name}: {upload.size / 1e9:.1f} GB; at most 8 GB are taken at once.")
    target = settings.DATA / "uploads" / f"{uuid.uuid4()}.zip"
    with target.open("wb") as out:
        for chunk in upload.chunks():
            out.write(chunk)
    capture = Capture.objects.create(scan_object=scan_object, title=os.path.basename(upload.name)[:120])
    payload = {"upload": str(target), "capture": str(capture.id), "name": upload.name}
    try:
        job = jobs.start(scan_object, request.user, "import", f"Import “{upload.name[:100]}”", payload)
    except jobs.Busy:
        capture.delete()
        target.unlink()
        raise
    return Response(shapes.JobView(job).data, status=201)


@extend_schema(request=shapes.Run, responses={201: shapes.JobView})
@api_view(["POST"])
def runs(request: Any, object_id: uuid.UUID) -> Response:
    """Run a recipe or one operation."""
    scan_object = _object(request, object_id)
    body = _valid(shapes.Run, request)
    parameters = body.get("parameters", {})
    if "recipe" in body:
        job = jobs.start_recipe(scan_object, request.user, body["recipe"], parameters)
    elif "operation" in body:
        job = jobs.start_operation(scan_object, request.user, body["operation"], parameters)
    else:
        raise core_door.InputError("Name a recipe or an operation to run.")
    return Response(shapes.JobView(job).data, status=201)


@extend_schema(request=None, responses=shapes.Bench)
@api_view(["POST"])
def undo(request: Any, object_id: uuid.UUID) -> Response:
    """Undo the last step."""
    return _moved(request, object_id, objects.undo)


@extend_schema(request=None, responses=shapes.Bench)
@api_view(["POST"])
def redo(request: Any, object_id: uuid.UUID) -> Response:
    """Redo the step that was undone last."""
    return _moved(request, object_id, objects.redo)


def _moved(request: Any, object_id: uuid.UUID, move: Any) -> Response:
    scan_object = _object(request, object_id)
    if scan_object.jobs.exclude(state__in=Job.ENDED).exists():
        raise jobs.Busy("This object has a job under way. Wait for it or stop it first.")
    move(scan_object)
    return Response(shapes.Bench(present.bench(scan_object)).data)


@extend_schema(responses=shapes.JobView(many=True))
@api_view(["GET"])
def queue(request: Any) -> Response:
    """The person's jobs, newest first."""
    rows = Job.objects.filter(who=request.user).select_related("scan_object")[:100]
    return Response(shapes.JobView(rows, many=True).data)


@extend_schema(request=None, responses=shapes.JobView)
@api_view(["POST"])
def job_action(request: Any, job_id: uuid.UUID, action: str) -> Response:
    """Stop a job, end a capture with what it has, or run a stopped job again."""
    job = get_object_or_404(Job.objects.filter(who=request.user).select_related("scan_object"), pk=job_id)
    act = {"cancel": jobs.cancel, "finish": jobs.finish_capture, "again": jobs.run_again}[action]
    return Response(shapes.JobView(act(job)).data)


@extend_schema(responses=shapes.Catalogue)
@api_view(["GET"])
def catalogue(request: Any) -> Response:
    """Operations, recipes, demo models and formats."""
    models = [{"name": name, "title": demo.title} for name, demo in core_door.DEMO_OBJECTS.items()]
    return Response(
        shapes.Catalogue(
            {
                "operations": core_door.operations(),
                "recipes": core_door.recipes(),
                "models": models,
                "formats": list(core_door.MESH_FORMATS),
            }
        ).data
    )
