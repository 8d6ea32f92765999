"""Addresses of the API."""

from django.urls import path, re_path

from api import events, files, views

urlpatterns = [
    path("session", views.session),
    path("catalogue", views.catalogue),
    path("objects", views.shelf),
    path("objects/<uuid:object_id>", views.bench),
    path("objects/<uuid:object_id>/captures", views.captures),
    path("objects/<uuid:object_id>/imports", views.imports),
    path("objects/<uuid:object_id>/runs", views.runs),
    path("objects/<uuid:object_id>/undo", views.undo),
    path("objects/<uuid:object_id>/redo", views.redo),
    path("objects/<uuid:object_id>/picture", files.picture),
    path("objects/<uuid:object_id>/download/<str:kind>", files.download),
    path("snapshots/<uuid:snapshot_id>/mesh", files.mesh),
    path("snapshots/<uuid:snapshot_id>/passes/<int:number>", files.pass_points),
    path("captures/<uuid:capture_id>/frames/<int:index>/points", files.frame_points),
    path("captures/<uuid:capture_id>/frames/<int:index>/colour", files.frame_colour),
    path("jobs", views.queue),
    re_path(r"^jobs/(?P<job_id>[0-9a-f-]{36})/(?P<action>cancel|finish|again)$", views.job_action),
    path("events", events.events),
]
