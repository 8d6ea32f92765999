"""All addresses: the API below /api/, everything else is the single-page application."""

from django.urls import include, path, re_path

from api.page import page

urlpatterns = [
    path("api/", include("api.urls")),
    re_path(r"^(?!api/|static/).*$", page),
]
