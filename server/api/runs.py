"""Running operations and recipes, and the queue of what runs."""

import uuid
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api.asking import checked
from api.shapes.captures import Run
from api.shapes.jobs import JobView
from jobs import services as jobs
from objects import actions, core_door

SHOWN_JOBS = 100
ACTIONS = {
    "cancel": jobs.cancel, "finish": jobs.finish_capture, "again": jobs.run_again, "pause": jobs.pause,
    "go_on": jobs.go_on, "step_back": jobs.step_back, "shoot": jobs.shoot,
}  # fmt: skip


@extend_schema(request=Run, responses={201: JobView})
@api_view(["POST"])
def runs(request: Any, object_id: uuid.UUID) -> Response:
    """Run a recipe or one operation."""
    scan_object = actions.asked_to_work(object_id, request.user)
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
    rows = jobs.jobs_of(request.user)[:SHOWN_JOBS]
    return Response(JobView(rows, many=True).data)


@extend_schema(request=None, responses=JobView)
@api_view(["POST"])
def job_action(request: Any, job_id: uuid.UUID, action: str) -> Response:
    """Stop a job or run it again; pause a capture, let it go on, go a stop back, or end it with what it has."""
    job = get_object_or_404(jobs.jobs_of(request.user), pk=job_id)
    actions.asked_to_work(job.scan_object_id, request.user)
    return Response(JobView(ACTIONS[action](job)).data)
