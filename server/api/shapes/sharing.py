"""Who else may look at an object or work on it."""

from rest_framework import serializers as s

from objects.models import Share


class NewShare(s.Serializer):
    username = s.CharField(max_length=150)
    role = s.ChoiceField(choices=Share.Role.choices)


class ShareView(s.Serializer):
    id = s.IntegerField()
    username = s.CharField(source="person.username")
    role = s.CharField()


class NewLink(s.Serializer):
    days = s.IntegerField(min_value=1, max_value=366, default=14)
    note = s.CharField(max_length=120, required=False, allow_blank=True, default="")


class LinkView(s.Serializer):
    id = s.IntegerField()
    note = s.CharField(allow_blank=True)
    expires = s.DateTimeField()
    created = s.DateTimeField()


class MadeLink(LinkView):
    secret = s.CharField(help_text="Told this once: the address is /look#secret.")


class Sharing(s.Serializer):
    people = ShareView(many=True)
    links = LinkView(many=True)


class OpenLink(s.Serializer):
    secret = s.CharField(max_length=100)


class Opened(s.Serializer):
    object_id = s.UUIDField()
