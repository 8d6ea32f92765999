"""Objects, their captures, snapshots and steps."""

import uuid

from django.conf import settings
from django.db import models


class ScanObject(models.Model):
    """What is being digitised; `head` is the snapshot that is shown (undo moves it)."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="scan_objects")
    title = models.CharField(max_length=120)
    notes = models.TextField(blank=True, default="")
    head = models.ForeignKey("Snapshot", on_delete=models.SET_NULL, null=True, related_name="+")
    demo_model = models.CharField(max_length=40, blank=True, default="")
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["created"]


class Capture(models.Model):
    """A capture folder of an object: the images of one pass, immutable once complete."""

    class State(models.TextChoices):
        LIVE = "live"
        COMPLETE = "complete"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="captures")
    title = models.CharField(max_length=120)
    state = models.CharField(max_length=10, choices=State, default=State.LIVE)
    frames = models.IntegerField(default=0)
    planned = models.IntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)


class Snapshot(models.Model):
    """An immutable state of an object: the core's manifest, and figures to show."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="snapshots")
    manifest = models.JSONField()
    summary = models.JSONField()
    findings = models.JSONField(default=list)
    created = models.DateTimeField(auto_now_add=True)


class Step(models.Model):
    """One entry of the run sheet."""

    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="steps")
    operation = models.CharField(max_length=40)
    title = models.CharField(max_length=160)
    stage = models.CharField(max_length=20)
    parameters = models.JSONField(default=dict)
    before = models.ForeignKey(Snapshot, on_delete=models.CASCADE, null=True, related_name="+")
    after = models.ForeignKey(Snapshot, on_delete=models.CASCADE, related_name="+")
    report = models.JSONField(default=dict)
    seconds = models.FloatField(default=0)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    job = models.UUIDField(null=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
