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
    branch = models.ForeignKey("Branch", on_delete=models.SET_NULL, null=True, related_name="+")  # that is worked on
    demo_model = models.CharField(max_length=40, blank=True, default="")
    set_up = models.JSONField(default=dict, blank=True)  # of its last pass, for the next one
    room_bytes = models.BigIntegerField(default=0)  # on disk, as last measured: captures and the arrays of snapshots
    tags = models.JSONField(default=list, blank=True)
    archived = models.DateTimeField(null=True, blank=True)  # put away: the shelf shows it when it is asked for
    deleted = models.DateTimeField(null=True, blank=True)  # thrown away: it goes for good when its grace is over
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["created"]

    def __str__(self) -> str:
        return self.title


class Capture(models.Model):
    """A capture folder of an object: the images of one pass, immutable once complete."""

    class State(models.TextChoices):
        LIVE = "live"
        HELD = "held"  # taken to its end, and not accepted yet
        COMPLETE = "complete"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="captures")
    title = models.CharField(max_length=120)
    state = models.CharField(max_length=10, choices=State, default=State.LIVE)
    frames = models.IntegerField(default=0)
    planned = models.IntegerField(default=0)
    outlook = models.JSONField(null=True)  # what its first stops promise: see core_door.outlook
    instrument = models.CharField(max_length=20, blank=True, default="")
    created = models.DateTimeField(auto_now_add=True)


class Upload(models.Model):
    """A file that is coming in, piece by piece; what has come lies in the data folder under its id."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="uploads")
    who = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=200)
    bytes = models.BigIntegerField()
    stamp = models.CharField(max_length=60, blank=True, default="")  # tells it from another file of that name and size
    created = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name


class Snapshot(models.Model):
    """An immutable state of an object: the core's manifest, and figures to show."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="snapshots")
    manifest = models.JSONField()
    summary = models.JSONField()
    findings = models.JSONField(default=list)
    looked = models.JSONField(null=True)  # further findings, from a closer look behind the step; None: not looked yet
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
    undone = models.DateTimeField(null=True)  # when it was taken back, and not done again since
    number = models.IntegerField(default=0)  # among the steps of its job: none is recorded twice
    version = models.CharField(max_length=20, blank=True, default="")  # of the program
    key = models.CharField(max_length=40, blank=True, default="", db_index=True)  # names what it was made of, and how
    known = models.BooleanField(default=False)  # it was not computed: the same had been before
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint(
                fields=["job", "number"], condition=models.Q(job__isnull=False), name="one_step_of_a_job_for_a_number"
            )
        ]


class Branch(models.Model):
    """A way through the steps of an object, from its beginning to a tip."""

    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="branches")
    name = models.CharField(max_length=60)
    tip = models.ForeignKey(Snapshot, on_delete=models.CASCADE, related_name="+", null=True)
    kept = models.BooleanField(default=False)  # named by a person or made by a replay: it stays until it is thrown away
    job = models.UUIDField(null=True)  # the replay that made it
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return self.name


class AcceptedFinding(models.Model):
    """A finding that somebody lives with, and why; it holds for the same kind at the same place."""

    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="accepted")
    kind = models.CharField(max_length=40)
    about = models.CharField(max_length=200, blank=True, default="")
    figure = models.CharField(max_length=60, blank=True, default="")
    place = models.JSONField(null=True)
    title = models.CharField(max_length=200)
    word = models.CharField(max_length=200)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]


class OwnRecipe(models.Model):
    """A recipe that a person made."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="recipes")
    title = models.CharField(max_length=60)
    help = models.CharField(max_length=200, blank=True, default="")
    steps = models.JSONField(default=list)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["title", "created"]

    def __str__(self) -> str:
        return self.title


class Share(models.Model):
    """What an owner lets another person do with an object."""

    class Role(models.TextChoices):
        WORK = "work"
        LOOK = "look"

    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="shares")
    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="shares")
    role = models.CharField(max_length=8, choices=Role)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint(fields=["scan_object", "person"], name="one_share_of_an_object_a_person")
        ]

    def __str__(self) -> str:
        return f"{self.person} may {self.role}"


class LookLink(models.Model):
    """A link with which anybody may look at an object until it expires or is taken back; only its digest is kept."""

    scan_object = models.ForeignKey(ScanObject, on_delete=models.CASCADE, related_name="links")
    digest = models.CharField(max_length=64, unique=True)
    note = models.CharField(max_length=120, blank=True, default="")
    expires = models.DateTimeField()
    taken_back = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return self.note or "link"
