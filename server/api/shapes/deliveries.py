"""Delivering."""

from rest_framework import serializers as s

from api.shapes.catalogue import ParameterView
from objects.core_door import RECEIVER_NAMES


class ReceiverCheck(s.Serializer):
    holds = s.BooleanField()
    words = s.CharField()


class ReceiverView(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    help = s.CharField()
    parameters = ParameterView(many=True)
    values = s.JSONField(help_text="What was chosen for it last, or its defaults.")
    checks = ReceiverCheck(many=True)


class Wish(s.Serializer):
    receiver = s.ChoiceField(choices=RECEIVER_NAMES)
    values = s.JSONField(required=False)


class Wishes(s.Serializer):
    wishes = Wish(many=True, allow_empty=False, max_length=12)
