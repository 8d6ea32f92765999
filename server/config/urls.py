"""All addresses: the API below /api/, everything else is the single-page application."""

from django.contrib import admin
from django.urls import include, path, re_path

from api.page import page

admin.site.site_header = admin.site.site_title = "Lucid Relic"
admin.site.index_title = "People and objects"
admin.site.site_url = "/"

urlpatterns = [
    path("admin/", admin.site.urls),
    path("api/", include("api.urls")),
    re_path(r"^(?!api/|static/|admin/).*$", page),
]
