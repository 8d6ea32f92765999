"""Objects on the shelf."""

from typing import Any

from rest_framework import serializers as s

from objects.selectors import LOOK, OWNER, STAGES, WORK

ROLES = (OWNER, WORK, LOOK)
STANDINGS = ("empty", "captured", "surface", "ready", "computing")


class NewObject(s.Serializer):
    title = s.CharField(max_length=120)
    notes = s.CharField(required=False, allow_blank=True, max_length=4000)


class NewlyMade(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()


class ObjectChange(s.Serializer):
    title = s.CharField(max_length=120, required=False)
    notes = s.CharField(required=False, allow_blank=True, max_length=4000)
    tags = s.ListField(child=s.CharField(max_length=40), required=False, max_length=20)
    archived = s.BooleanField(required=False)

    def validate(self, told: dict[str, Any]) -> dict[str, Any]:
        if not told:
            raise s.ValidationError("Name what is to be changed: title, notes, tags or archived.")
        return told


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
    created = s.DateTimeField()
    tags = s.ListField(child=s.CharField())
    standing = s.ChoiceField(choices=STANDINGS, help_text="How far it is, for filters.")
    archived = s.BooleanField()
    deleted = s.DateTimeField(allow_null=True, help_text="When it was thrown away.")
    gone = s.DateTimeField(allow_null=True, help_text="When it goes for good.")
