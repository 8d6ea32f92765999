"""Capturing, importing and running."""

from rest_framework import serializers as s

from objects.core_door import DEMO_OBJECTS


class CapturePlan(s.Serializer):
    title = s.CharField(max_length=60, default="upright")
    stops = s.IntegerField(min_value=3, max_value=72, default=24)
    elevation_deg = s.FloatField(min_value=-10, max_value=80, default=24)
    tip_deg = s.FloatField(min_value=-180, max_value=180, default=0)
    tip_about_deg = s.FloatField(min_value=-360, max_value=360, default=0)
    model = s.ChoiceField(choices=tuple(DEMO_OBJECTS), required=False)


class UploadName(s.Serializer):
    name = s.CharField(max_length=200)


class Run(s.Serializer):
    recipe = s.CharField(required=False, max_length=60)
    operation = s.CharField(required=False, max_length=60)
    parameters = s.DictField(required=False)
