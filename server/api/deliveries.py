"""Delivering: what receivers need and get."""

import uuid
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.response import Response

from api.asking import checked
from api.shapes.deliveries import ReceiverView, Wishes
from api.shapes.jobs import JobView
from api.streaming import ranged, signed_in, stem_of, to_take_away
from instruments.checks import last_words
from jobs import services as jobs
from jobs.models import Job
from objects import actions, core_door
from objects.selectors import current_steps, objects_of

BYTES = "application/octet-stream"
GONE = "This delivery was cleared away since it was made. Deliver it again; it is made anew."


@extend_schema(methods=["GET"], request=None, responses=ReceiverView(many=True))
@extend_schema(methods=["POST"], request=Wishes, responses={201: JobView})
@api_view(["GET", "POST"])
def deliveries(request: Any, object_id: uuid.UUID) -> Response:
    """Who may receive an object, with what was chosen for them last; or make what some of them get, several as one .zip."""
    if request.method == "GET":
        scan_object = get_object_or_404(objects_of(request.user).select_related("head"), pk=object_id)
        summary = scan_object.head.summary if scan_object.head else {}
        told = core_door.receivers(summary, jobs.last_wishes(request.user))
        return Response(ReceiverView(told, many=True).data)
    scan_object = actions.asked_to_work(object_id, request.user)
    asked = checked(Wishes, request)["wishes"]
    wishes = [core_door.check_wishes(w["receiver"], _values(w)) for w in asked]
    steps = [
        {
            "operation": s.operation,
            "title": s.title,
            "parameters": s.parameters,
            "headline": core_door.headline(s.operation, s.report),
            "report": s.report,
            "seconds": s.seconds,
        }
        for s in current_steps(scan_object)[0]
    ]
    facts = {
        "title": scan_object.title,
        "stem": stem_of(scan_object),
        "notes": scan_object.notes,
        "steps": steps,
        "checked": last_words(scan_object.captures.values_list("instrument", flat=True)),
    }
    return Response(JobView(jobs.start_delivery(scan_object, request.user, wishes, facts)).data, status=201)


def _values(wish: dict[str, Any]) -> dict[str, Any]:
    values = wish.get("values", {})
    if not isinstance(values, dict):
        raise core_door.InputError("The values of a receiver must be an object of names and values.")
    return values


@signed_in
async def delivery(request: HttpRequest, user: Any, job_id: uuid.UUID) -> HttpResponse:
    """What a delivery made, to take away."""
    job = await jobs.jobs_of(user).filter(pk=job_id, kind="deliver", state=Job.State.DONE).afirst()
    if job is None:
        raise Http404
    path = core_door.shown_file(job.result["file"])
    if path is None:
        raise core_door.InputError(GONE)
    return to_take_away(await ranged(request, path, BYTES, immutable=True), job.result["name"])
