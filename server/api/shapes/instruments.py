"""Instruments and their checks."""

from rest_framework import serializers as s

from api.shapes.captures import CapturePlan
from api.shapes.catalogue import InstrumentView
from objects.core_door import CHECK_NAMES, FAULTS


class NewCheck(s.Serializer):
    kind = s.ChoiceField(choices=tuple(CHECK_NAMES))


class Act(s.Serializer):
    fault = s.ChoiceField(choices=tuple(FAULTS), required=False, allow_blank=True, help_text="Empty puts it right.")


class CheckView(s.Serializer):
    id = s.UUIDField()
    instrument = s.CharField()
    kind = s.CharField()
    who = s.CharField(source="who.username", default="")
    state = s.ChoiceField(choices=("waiting", "running", "done", "failed", "stopped"))
    words = s.CharField()
    done = s.IntegerField()
    of = s.IntegerField()
    pictures = s.IntegerField(help_text="How many there were; the newest can be fetched.")
    outline = s.ListField(child=s.ListField(child=s.FloatField()), help_text="Where the board is wanted.")
    ok = s.BooleanField()
    figures = s.DictField()
    created = s.DateTimeField()


class NewSetUp(s.Serializer):
    name = s.CharField(max_length=60)
    set_up = CapturePlan()


class NamedSetUpView(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    set_up = s.JSONField()


class Named(s.Serializer):
    name = s.CharField()
    title = s.CharField()


class Due(s.Serializer):
    kind = s.CharField()
    words = s.CharField()


class StandView(InstrumentView):
    connected = s.BooleanField()
    fault = s.CharField()
    driver = s.CharField(help_text="Who drives it; empty when nobody does.")
    driven_by_me = s.BooleanField()
    asked_by = s.CharField(help_text="Who asks to take it over.")
    kinds = Named(many=True)
    checks = CheckView(many=True)
    due = Due(many=True)
    faults = Named(many=True)
