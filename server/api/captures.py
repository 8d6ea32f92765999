"""New passes: captured or imported."""

import os
import uuid
from typing import Any

from django.conf import settings
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, parser_classes
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response

from api.asking import asked_object, checked
from api.shapes.captures import CapturePlan, ImportFile
from api.shapes.jobs import JobView
from jobs import services as jobs
from objects import actions, core_door
from objects.errors import Busy
from objects.models import Capture

FIRST_SEED = 11  # of an object's virtual passes, so that no two are alike
TITLE_LENGTH = 120


@extend_schema(request=CapturePlan, responses={201: JobView})
@api_view(["POST"])
def captures(request: Any, object_id: uuid.UUID) -> Response:
    """Start a pass on the virtual turntable."""
    scan_object = asked_object(request, object_id)
    plan = dict(checked(CapturePlan, request))
    model = plan.pop("model", "") or scan_object.demo_model or "owl"
    actions.remember_model(object_id, request.user, model)
    seed = scan_object.captures.count() + FIRST_SEED
    job = jobs.start_capture(scan_object, request.user, plan, model, seed)
    return Response(JobView(job).data, status=201)


@extend_schema(request=ImportFile, responses={201: JobView})
@api_view(["POST"])
@parser_classes([MultiPartParser])
def imports(request: Any, object_id: uuid.UUID) -> Response:
    """Import a capture folder as a .zip; it is checked in a job before anything is kept."""
    scan_object = asked_object(request, object_id)
    upload = checked(ImportFile, request)["file"]
    if upload.size > settings.MAX_UPLOAD_BYTES:
        raise core_door.InputError(f"{upload.name}: {upload.size / 1e9:.1f} GB; at most 8 GB are taken at once.")
    target = settings.DATA / "uploads" / f"{uuid.uuid4()}.zip"
    with target.open("wb") as out:
        for chunk in upload.chunks():
            out.write(chunk)
    capture = Capture.objects.create(scan_object=scan_object, title=os.path.basename(upload.name)[:TITLE_LENGTH])
    payload = {"upload": str(target), "capture": str(capture.id), "name": upload.name}
    try:
        job = jobs.start(scan_object, request.user, "import", f"Import “{upload.name[:100]}”", payload)
    except Busy:
        capture.delete()
        target.unlink()
        raise
    return Response(JobView(job).data, status=201)
