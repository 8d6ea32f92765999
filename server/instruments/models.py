"""Instruments as they stand now, and the history of their checks."""

import uuid

from django.conf import settings
from django.db import models


class Stand(models.Model):
    """How one instrument stands: connected or not, who drives it and who asks to, and the fault that is provoked."""

    name = models.CharField(max_length=20, primary_key=True)
    connected = models.BooleanField(default=True)
    fault = models.CharField(max_length=20, blank=True, default="")
    driver = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="+")
    driven = models.DateTimeField(null=True)
    asked_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="+")
    changed = models.DateTimeField(auto_now=True, db_index=True)

    def __str__(self) -> str:
        return self.name


class NamedSetUp(models.Model):
    """A set-up of a pass that a person keeps under a name, for any object."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="set_ups")
    name = models.CharField(max_length=60)
    set_up = models.JSONField()

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["person", "name"], name="one_set_up_of_a_person_a_name")]

    def __str__(self) -> str:
        return self.name


class Check(models.Model):
    """One check of an instrument, under way or ended; its newest picture lies in the cache under its id."""

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        STOPPED = "stopped"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    instrument = models.CharField(max_length=20)
    kind = models.CharField(max_length=10)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="+")
    state = models.CharField(max_length=10, choices=State, default=State.WAITING, db_index=True)
    words = models.CharField(max_length=400, blank=True, default="Waiting")
    done = models.IntegerField(default=0)
    of = models.IntegerField(default=1)
    pictures = models.IntegerField(default=0)
    outline = models.JSONField(default=list)  # where the board is wanted, in shares of the picture's sides
    ok = models.BooleanField(default=False)
    figures = models.JSONField(default=dict)
    stop_wish = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True, db_index=True)

    class Meta:
        ordering = ["-created"]

    ENDED = (State.DONE, State.FAILED, State.STOPPED)

    def __str__(self) -> str:
        return f"{self.kind} of {self.instrument}"
