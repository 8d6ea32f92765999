"""Running operations and recipes, and the queue of what runs."""

import uuid
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api.asking import checked
from api.shapes.bench import Replay
from api.shapes.captures import Run
from api.shapes.jobs import JobOrder, JobView, LogLine
from jobs import services as jobs
from jobs import waiting
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


@extend_schema(request=Replay, responses={201: JobView})
@api_view(["POST"])
def replays(request: Any, object_id: uuid.UUID) -> Response:
    """Do the steps from a changed one on again, as a branch; it is made while the others stay."""
    scan_object = actions.asked_to_work(object_id, request.user)
    body = checked(Replay, request)
    changes = {c["step"]: None if c["leave_out"] else c.get("parameters", {}) for c in body["changes"]}
    job = jobs.start_replay(scan_object, request.user, changes, body.get("name", ""))
    return Response(JobView(job).data, status=201)


@extend_schema(request=None, responses={201: JobView})
@api_view(["POST"])
def without(request: Any, job_id: uuid.UUID) -> Response:
    """Go on behind the step that a replay stuck at."""
    job = get_object_or_404(jobs.jobs_of(request.user), pk=job_id)
    actions.asked_to_work(job.scan_object_id, request.user)
    return Response(JobView(jobs.go_on_without(job, request.user)).data, status=201)


@extend_schema(responses=JobView(many=True))
@api_view(["GET"])
def queue(request: Any) -> Response:
    """The person's jobs, newest first."""
    rows = jobs.jobs_of(request.user)[:SHOWN_JOBS]
    return Response(JobView(rows, many=True).data)


@extend_schema(request=JobOrder, responses=JobView(many=True))
@api_view(["POST"])
def order(request: Any) -> Response:
    """Say in which order jobs that wait are to be done; those that are not named come behind."""
    rows = waiting.in_order(request.user, checked(JobOrder, request)["jobs"])
    return Response(JobView(rows, many=True).data)


@extend_schema(responses=LogLine(many=True))
@api_view(["GET"])
def log(request: Any, job_id: uuid.UUID) -> Response:
    """What a job did, in plain words."""
    job = get_object_or_404(jobs.jobs_of(request.user), pk=job_id)
    return Response([{"seconds": seconds, "words": words} for seconds, words in job.log])


@extend_schema(request=None, responses=JobView)
@api_view(["POST"])
def job_action(request: Any, job_id: uuid.UUID, action: str) -> Response:
    """Stop a job or run it again; pause a capture, let it go on, go a stop back, or end it with what it has."""
    job = get_object_or_404(jobs.jobs_of(request.user), pk=job_id)
    actions.asked_to_work(job.scan_object_id, request.user)
    return Response(JobView(ACTIONS[action](job)).data)
