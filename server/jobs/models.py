"""Jobs: operations under way. The row is the truth; the task queue only starts it."""

import uuid

from django.conf import settings
from django.db import models

from objects.models import ScanObject
from objects.turn import Turn


class JobQuerySet(models.QuerySet["Job"]):
    """Jobs by what they are doing."""

    def under_way(self) -> "JobQuerySet":
        """Jobs that wait or run."""
        return self.exclude(state__in=Job.ENDED)


class Job(models.Model):
    """One piece of work on an object, with lease and heartbeat so that a lost worker is noticed."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="jobs")
    who = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=20)
    title = models.CharField(max_length=160)
    payload = models.JSONField(default=dict)
    state = models.CharField(max_length=12, choices=State, default=State.QUEUED, db_index=True)
    fraction = models.FloatField(default=0)
    step = models.IntegerField(default=0)
    steps = models.IntegerField(default=0)
    message = models.CharField(max_length=200, default="Waiting")
    seconds_left = models.FloatField(null=True)
    cancel_wish = models.BooleanField(default=False)
    finish_wish = models.BooleanField(default=False)
    pause_wish = models.BooleanField(default=False)
    back_wish = models.IntegerField(default=0)  # how often this attempt was asked to go one stop back
    shot_wish = models.IntegerField(default=0)  # how often this attempt was asked to take a single shot
    waiting = models.CharField(max_length=300, blank=True, default="")  # why it stands still, until it goes on
    attempts = models.IntegerField(default=0)  # grows with every claim, so that an older attempt knows it is superseded
    log = models.JSONField(default=list)  # what it did, in plain words: [seconds since it began, sentence]
    batch = models.BooleanField(default=False)  # one of many that were asked for at once: it lets others pass
    rank = models.FloatField(default=0)  # among those that wait; the least is next
    losses = models.IntegerField(default=0)  # workers lost at it since it was queued by a person
    slot = models.IntegerField(default=0)  # of the worker that claimed it last
    lease_until = models.DateTimeField(null=True)
    error = models.TextField(default="")
    result = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)
    changed = models.DateTimeField(auto_now=True, db_index=True)

    objects = JobQuerySet.as_manager()

    @property
    def turn(self) -> Turn:
        """Who may write for this job: this attempt alone."""
        return Turn(self.id, self.attempts)

    class Meta:
        ordering = ["-created"]

    ENDED = (State.DONE, State.FAILED, State.CANCELLED)
