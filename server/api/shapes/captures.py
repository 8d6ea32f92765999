"""Capturing, importing and running."""

from rest_framework import serializers as s

from objects.core_door import DEMO_OBJECTS, UNITS_MM


class CapturePlan(s.Serializer):
    title = s.CharField(max_length=60, default="upright")
    stops = s.IntegerField(min_value=3, max_value=72, default=24)
    elevation_deg = s.FloatField(min_value=-10, max_value=80, default=24)
    tip_deg = s.FloatField(min_value=-180, max_value=180, default=0)
    tip_about_deg = s.FloatField(min_value=-360, max_value=360, default=0)
    model = s.ChoiceField(choices=tuple(DEMO_OBJECTS), required=False)


class UploadName(s.Serializer):
    name = s.CharField(max_length=200)


class NewUpload(s.Serializer):
    name = s.CharField(max_length=200)
    bytes = s.IntegerField(min_value=1, max_value=2**40)
    stamp = s.CharField(
        max_length=60,
        required=False,
        help_text="Tells the file from another of that name and size, as when it was changed.",
    )


class UploadView(s.Serializer):
    id = s.UUIDField()
    name = s.CharField()
    bytes = s.IntegerField()
    received = s.IntegerField()
    piece_bytes = s.IntegerField(help_text="The most that one piece may hold.")


class PieceAt(s.Serializer):
    at = s.IntegerField(min_value=0, max_value=2**40)


class CameraShape(s.Serializer):
    width = s.IntegerField(min_value=8, max_value=16384)
    height = s.IntegerField(min_value=8, max_value=16384)
    fx = s.FloatField(min_value=1e-3, max_value=1e6)
    fy = s.FloatField(min_value=1e-3, max_value=1e6)
    cx = s.FloatField(min_value=-1e6, max_value=1e6)
    cy = s.FloatField(min_value=-1e6, max_value=1e6)


class Arrivals(s.Serializer):
    uploads = s.ListField(child=s.UUIDField(), min_length=1, max_length=200)
    unit = s.ChoiceField(choices=tuple(UNITS_MM), required=False, help_text="Of points and meshes; else it is guessed.")
    camera = CameraShape(required=False, help_text="Of RGB-D folders.")
    depth_unit_mm = s.FloatField(required=False, min_value=1e-6, max_value=1000)


class BringOver(s.Serializer):
    source = s.UUIDField(help_text="The object that the passes are of.")
    passes = s.ListField(child=s.CharField(max_length=200), min_length=1, max_length=50)


class Run(s.Serializer):
    recipe = s.CharField(required=False, max_length=60)
    operation = s.CharField(required=False, max_length=60)
    parameters = s.DictField(required=False)
