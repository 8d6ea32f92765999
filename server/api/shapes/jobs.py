"""Jobs."""

from typing import Any

from rest_framework import serializers as s

from jobs.services import can_run_again


class JobView(s.Serializer):
    id = s.UUIDField()
    object_id = s.UUIDField(source="scan_object_id")
    object_title = s.CharField(source="scan_object.title")
    kind = s.CharField()
    title = s.CharField()
    state = s.ChoiceField(choices=("queued", "running", "done", "failed", "cancelled"))
    fraction = s.FloatField()
    step = s.IntegerField()
    steps = s.IntegerField()
    message = s.CharField()
    seconds_left = s.FloatField(allow_null=True)
    stopping = s.BooleanField(source="cancel_wish")
    error = s.CharField()
    repeatable = s.SerializerMethodField()
    capture = s.SerializerMethodField()
    planned = s.SerializerMethodField()
    created = s.DateTimeField()
    started = s.DateTimeField(allow_null=True)
    finished = s.DateTimeField(allow_null=True)

    def get_capture(self, job: Any) -> str | None:
        return job.payload.get("capture")

    def get_repeatable(self, job: Any) -> bool:
        return can_run_again(job)

    def get_planned(self, job: Any) -> int | None:
        return job.payload.get("plan", {}).get("stops")
