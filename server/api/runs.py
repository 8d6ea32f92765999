"""Running operations and recipes, and the queue of what runs."""

import uuid
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api.asking import asked_object, checked
from api.shapes.captures import Run
from api.shapes.jobs import JobView
from jobs import services as jobs
from jobs.models import Job
from objects import core_door

SHOWN_JOBS = 100


@extend_schema(request=Run, responses={201: JobView})
@api_view(["POST"])
def runs(request: Any, object_id: uuid.UUID) -> Response:
    """Run a recipe or one operation."""
    scan_object = asked_object(request, object_id)
    body = checked(Run, request)
    parameters = body.get("parameters", {})
    if "recipe" in body:
        job = jobs.start_recipe(scan_object, request.user, body["recipe"], parameters)
    elif "operation" in body:
        job = jobs.start_operation(scan_object, request.user, body["operation"], parameters)
    else:
        raise core_door.InputError("Name a recipe or an operation to run.")
    return Response(JobView(job).data, status=201)


@extend_schema(responses=JobView(many=True))
@api_view(["GET"])
def queue(request: Any) -> Response:
    """The person's jobs, newest first."""
    rows = Job.objects.filter(who=request.user).select_related("scan_object")[:SHOWN_JOBS]
    return Response(JobView(rows, many=True).data)


@extend_schema(request=None, responses=JobView)
@api_view(["POST"])
def job_action(request: Any, job_id: uuid.UUID, action: str) -> Response:
    """Stop a job, end a capture with what it has, or run a stopped job again."""
    job = get_object_or_404(Job.objects.filter(who=request.user).select_related("scan_object"), pk=job_id)
    act = {"cancel": jobs.cancel, "finish": jobs.finish_capture, "again": jobs.run_again}[action]
    return Response(JobView(act(job)).data)
