"""Jobs."""

from typing import Any

from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers as s

from jobs.services import can_run_again
from objects.core_door import by_hand
from objects.models import Capture


class DeliveryMade(s.Serializer):
    name = s.CharField()
    bytes = s.IntegerField()
    files = s.ListField(child=s.CharField())


class JobOrder(s.Serializer):
    jobs = s.ListField(child=s.UUIDField(), min_length=1, max_length=500)


class LogLine(s.Serializer):
    seconds = s.FloatField(help_text="Since the job began.")
    words = s.CharField()


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
    paused = s.BooleanField(source="pause_wish")
    waiting = s.CharField(help_text="Why it stands still.")
    error = s.CharField()
    repeatable = s.SerializerMethodField()
    capture = s.SerializerMethodField()
    planned = s.SerializerMethodField()
    frames = s.SerializerMethodField(help_text="Of a capture that is under way: the frames so far.")
    shots = s.SerializerMethodField(help_text="Whether it takes single shots, each when it is asked for.")
    by_hand = s.SerializerMethodField(help_text="Whether it is a pass by hand, which somebody ends.")
    delivery = s.SerializerMethodField(
        help_text="Of a delivery that is done: the name and bytes of its file, and what is in it."
    )
    stuck = s.SerializerMethodField(help_text="Of a replay: the title of the step that could not be done again.")
    place = s.FloatField(source="rank", help_text="Among those that wait; the least is next.")
    batch = s.BooleanField(help_text="One of many that were asked for at once.")
    created = s.DateTimeField()
    started = s.DateTimeField(allow_null=True)
    finished = s.DateTimeField(allow_null=True)
    changed = s.DateTimeField(help_text="Of two views of a job the later one is true.")

    def get_capture(self, job: Any) -> str | None:
        return job.payload.get("capture")

    def get_frames(self, job: Any) -> int | None:
        if job.kind != "capture" or job.state != "running":
            return None
        return Capture.objects.filter(pk=job.payload["capture"]).values_list("frames", flat=True).first()

    def get_stuck(self, job: Any) -> str | None:
        at = job.result.get("stuck") if job.kind == "replay" else None
        return None if at is None else job.payload["steps"][at]["title"]

    def get_shots(self, job: Any) -> bool:
        return bool(job.payload.get("plan", {}).get("shots"))

    def get_by_hand(self, job: Any) -> bool:
        return job.kind == "capture" and by_hand(job.payload.get("plan", {}))

    @extend_schema_field(DeliveryMade(allow_null=True))
    def get_delivery(self, job: Any) -> dict[str, Any] | None:
        made = job.kind == "deliver" and job.state == "done"
        return {name: job.result[name] for name in ("name", "bytes", "files")} if made else None

    def get_repeatable(self, job: Any) -> bool:
        return can_run_again(job)

    def get_planned(self, job: Any) -> int | None:
        return None if self.get_shots(job) or self.get_by_hand(job) else job.payload.get("planned")
