"""Addresses of the API."""

from django.urls import path, re_path

from api import bench, captures, catalogue, events, files, runs, session, shelf

urlpatterns = [
    path("session", session.session),
    path("catalogue", catalogue.catalogue),
    path("objects", shelf.shelf),
    path("objects/<uuid:object_id>", bench.bench),
    path("objects/<uuid:object_id>/captures", captures.captures),
    path("objects/<uuid:object_id>/imports", captures.imports),
    path("objects/<uuid:object_id>/runs", runs.runs),
    path("objects/<uuid:object_id>/undo", bench.undo),
    path("objects/<uuid:object_id>/redo", bench.redo),
    path("objects/<uuid:object_id>/picture", files.picture),
    path("objects/<uuid:object_id>/download/<str:kind>", files.download),
    path("snapshots/<uuid:snapshot_id>/mesh", files.mesh),
    path("snapshots/<uuid:snapshot_id>/passes/<int:number>", files.pass_points),
    path("captures/<uuid:capture_id>/frames/<int:index>/points", files.frame_points),
    path("captures/<uuid:capture_id>/frames/<int:index>/colour", files.frame_colour),
    path("jobs", runs.queue),
    re_path(r"^jobs/(?P<job_id>[0-9a-f-]{36})/(?P<action>cancel|finish|again)$", runs.job_action),
    path("events", events.events),
]
