"""Objects on the shelf."""

from rest_framework import serializers as s

from objects.selectors import LOOK, OWNER, STAGES, WORK

ROLES = (OWNER, WORK, LOOK)


class NewObject(s.Serializer):
    title = s.CharField(max_length=120)
    notes = s.CharField(required=False, allow_blank=True, max_length=4000)


class Stage(s.Serializer):
    name = s.ChoiceField(choices=STAGES)
    state = s.ChoiceField(choices=("done", "current", "waiting"))
    findings = s.IntegerField()


class ShelfItem(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()
    notes = s.CharField()
    size_mm = s.FloatField(allow_null=True)
    passes = s.IntegerField()
    state = s.CharField()
    stages = Stage(many=True)
    picture = s.CharField(allow_null=True)
    room_bytes = s.IntegerField()
    role = s.ChoiceField(choices=ROLES)
    owner = s.CharField(allow_blank=True, help_text="Who shares it, when it is somebody else’s.")
    changed = s.DateTimeField()
