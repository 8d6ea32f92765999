"""Addresses of the API."""

from django.urls import path, re_path, register_converter

from api import (
    bench,
    captures,
    catalogue,
    deliveries,
    events,
    files,
    health,
    instruments,
    recipes,
    runs,
    session,
    sharing,
    shelf,
)
from api.errors import nothing_here
from api.runs import ACTIONS


class JobAction:
    """What may be done with a job."""

    regex = "|".join(ACTIONS)

    def to_python(self, value: str) -> str:
        return value

    def to_url(self, value: str) -> str:
        return value


class StandAct:
    """What may be done with an instrument."""

    regex = "|".join(instruments.ACTS)

    def to_python(self, value: str) -> str:
        return value

    def to_url(self, value: str) -> str:
        return value


class Count:
    """A number that fits everywhere."""

    regex = "[0-9]{1,9}"

    def to_python(self, value: str) -> int:
        return int(value)

    def to_url(self, value: int) -> str:
        return str(value)


register_converter(JobAction, "job_action")
register_converter(StandAct, "stand_act")
register_converter(Count, "count")
urlpatterns = [
    path("health", health.health),
    path("session", session.session),
    path("catalogue", catalogue.catalogue),
    path("objects", shelf.shelf),
    path("objects/<uuid:object_id>", bench.bench),
    path("objects/<uuid:object_id>/captures", captures.captures),
    path("objects/<uuid:object_id>/imports", captures.imports),
    path("objects/<uuid:object_id>/uploads", captures.uploads),
    path("objects/<uuid:object_id>/passes", captures.passes),
    path("objects/<uuid:object_id>/passes/<count:number>/download/<str:kind>", files.pass_download),
    path("objects/<uuid:object_id>/arrivals", captures.arrivals),
    path("uploads/<uuid:upload_id>", captures.upload),
    path("objects/<uuid:object_id>/runs", runs.runs),
    path("objects/<uuid:object_id>/undo", bench.undo),
    path("objects/<uuid:object_id>/redo", bench.redo),
    path("objects/<uuid:object_id>/duplicate", bench.duplicate),
    path("objects/<uuid:object_id>/back", bench.back),
    path("objects/<uuid:object_id>/head", bench.head),
    path("objects/<uuid:object_id>/accepted", bench.accepted),
    path("objects/<uuid:object_id>/accepted/<count:accepted_id>", bench.minded),
    path("objects/<uuid:object_id>/branches/<count:branch_id>", bench.branch),
    path("objects/<uuid:object_id>/replays", runs.replays),
    path("objects/<uuid:object_id>/recipe", recipes.of_object),
    path("recipes", recipes.recipes),
    path("recipes/judged", recipes.judged),
    path("recipes/runs", recipes.runs),
    path("recipes/<uuid:recipe_id>", recipes.recipe),
    path("objects/<uuid:object_id>/sharing", sharing.sharing),
    path("objects/<uuid:object_id>/sharing/people", sharing.people),
    path("objects/<uuid:object_id>/sharing/people/<count:share_id>", sharing.person),
    path("objects/<uuid:object_id>/sharing/links", sharing.links),
    path("objects/<uuid:object_id>/sharing/links/<count:link_id>", sharing.link),
    path("look", sharing.look),
    path("objects/<uuid:object_id>/deliveries", deliveries.deliveries),
    path("deliveries/<uuid:job_id>", deliveries.delivery),
    path("objects/<uuid:object_id>/picture", files.picture),
    path("objects/<uuid:object_id>/download/<str:kind>", files.download),
    path("snapshots/<uuid:snapshot_id>/mesh", files.mesh),
    path("snapshots/<uuid:snapshot_id>/glance", files.glance),
    path("snapshots/<uuid:snapshot_id>/passes/<count:number>/unanswered/<count:index>", files.pass_unanswered),
    path("snapshots/<uuid:snapshot_id>/passes/<count:number>", files.pass_points),
    path("snapshots/<uuid:snapshot_id>/passes/<count:number>/shift", files.pass_shift),
    path("snapshots/<uuid:snapshot_id>/takes/<count:number>", files.take),
    path("snapshots/<uuid:snapshot_id>/takes/<count:number>/off/<count:other>", files.take_off),
    path("snapshots/<uuid:snapshot_id>/picture", files.step_picture),
    path("snapshots/<uuid:snapshot_id>/surface", files.surface),
    path("snapshots/<uuid:snapshot_id>/off/<uuid:other_id>", files.surface_off),
    path("snapshots/<uuid:snapshot_id>/<slug:what>", files.measure),
    path("captures/<uuid:capture_id>", captures.held),
    path("captures/<uuid:capture_id>/frames/<count:index>/points", files.frame_points),
    path("captures/<uuid:capture_id>/frames/<count:index>/colour", files.frame_colour),
    path("instruments", instruments.instruments),
    path("instruments/<slug:name>/checks", instruments.checks),
    path("instruments/<slug:name>/<stand_act:act>", instruments.act),
    path("checks/<uuid:check_id>", instruments.check),
    path("checks/<uuid:check_id>/picture", instruments.check_picture),
    path("set-ups", instruments.set_ups),
    path("set-ups/<count:set_up_id>", instruments.set_up),
    path("jobs", runs.queue),
    path("jobs/order", runs.order),
    path("jobs/<uuid:job_id>/log", runs.log),
    path("jobs/<uuid:job_id>/without", runs.without),
    path("jobs/<uuid:job_id>/<job_action:action>", runs.job_action),
    path("events", events.events),
    re_path("", nothing_here),
]
