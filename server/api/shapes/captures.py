"""Capturing, importing and running."""

from rest_framework import serializers as s

from api.shapes.jobs import JobView
from objects.core_door import DEMO_OBJECTS, INSTRUMENT_NAMES, PATHS, SWEEP_NAMES, UNITS_MM, USES


class SetUp(s.Serializer):
    """How the instrument takes a pass; left out, the plain head of earlier versions takes it."""

    instrument = s.ChoiceField(choices=INSTRUMENT_NAMES, required=False)
    path = s.ChoiceField(choices=PATHS, required=False, help_text="Of a table of two axes, in place of stops.")
    exposure_ms = s.ListField(
        child=s.FloatField(min_value=0, max_value=1000), required=False, max_length=5, help_text="Several are merged."
    )
    gain_db = s.FloatField(required=False, min_value=0, max_value=60)
    infrared = s.BooleanField(required=False)
    gate_mm = s.ListField(
        child=s.FloatField(min_value=0, max_value=100_000), required=False, min_length=2, max_length=2,
        help_text="The nearest and farthest depth that is kept.",
    )  # fmt: skip
    spacing_mm = s.FloatField(required=False, min_value=0, max_value=50, help_text="Of the points; 0: of the pixels.")
    colour = s.BooleanField(required=False, default=True)
    delay_s = s.FloatField(required=False, min_value=0, max_value=120, help_text="That the desk waits before it asks.")


class CapturePlan(SetUp):
    title = s.CharField(max_length=60, default="upright")
    stops = s.IntegerField(min_value=3, max_value=72, default=24)
    start_deg = s.FloatField(
        min_value=0, max_value=360, required=False, help_text="How far the plate stands turned at a turn's first stop."
    )
    elevation_deg = s.FloatField(min_value=-10, max_value=80, required=False)
    tip_deg = s.FloatField(min_value=-180, max_value=180, default=0)
    tip_about_deg = s.FloatField(min_value=-360, max_value=360, default=0)
    model = s.ChoiceField(choices=tuple(DEMO_OBJECTS), required=False)
    shots = s.BooleanField(required=False, help_text="Single shots, the object turned by hand between them.")
    sweep = s.ChoiceField(
        choices=SWEEP_NAMES, required=False, help_text="By hand: a recorded sweep in place of a head that is steered."
    )
    fine = s.BooleanField(required=False, help_text="By hand: all pixels, fewer frames a second.")
    use = s.ChoiceField(choices=USES, required=False, help_text="By hand: what must be seen enough for.")
    held_by = s.ChoiceField(
        choices=("axis", "shape", "markers"),
        required=False,
        help_text="What frames are placed by: the table's axis, shape alone, or markers on the tray.",
    )
    hold = s.BooleanField(required=False, help_text="Keep it until it is accepted or thrown away.")


class Acceptance(s.Serializer):
    first = s.IntegerField(min_value=1, max_value=100_000, default=1, help_text="Frame that is the first to stay in.")
    last = s.IntegerField(
        min_value=1, max_value=100_000, required=False, help_text="Frame that is the last to stay in."
    )
    place = s.BooleanField(default=True, help_text="Place it on what is there, in a job.")


class Accepted(s.Serializer):
    title = s.CharField()
    job = JobView(allow_null=True)


class UploadName(s.Serializer):
    name = s.CharField(max_length=200)


class NewUpload(s.Serializer):
    name = s.CharField(max_length=200)
    bytes = s.IntegerField(min_value=1, max_value=2**40)
    stamp = s.CharField(
        max_length=60,
        required=False,
        help_text="Tells the file from another of that name and size, as when it was changed.",
    )


class UploadView(s.Serializer):
    id = s.UUIDField()
    name = s.CharField()
    bytes = s.IntegerField()
    received = s.IntegerField()
    piece_bytes = s.IntegerField(help_text="The most that one piece may hold.")


class PieceAt(s.Serializer):
    at = s.IntegerField(min_value=0, max_value=2**40)


class CameraShape(s.Serializer):
    width = s.IntegerField(min_value=8, max_value=16384)
    height = s.IntegerField(min_value=8, max_value=16384)
    fx = s.FloatField(min_value=1e-3, max_value=1e6)
    fy = s.FloatField(min_value=1e-3, max_value=1e6)
    cx = s.FloatField(min_value=-1e6, max_value=1e6)
    cy = s.FloatField(min_value=-1e6, max_value=1e6)


class Arrivals(s.Serializer):
    uploads = s.ListField(child=s.UUIDField(), min_length=1, max_length=200)
    unit = s.ChoiceField(choices=tuple(UNITS_MM), required=False, help_text="Of points and meshes; else it is guessed.")
    camera = CameraShape(required=False, help_text="Of RGB-D folders.")
    depth_unit_mm = s.FloatField(required=False, min_value=1e-6, max_value=1000)


class BringOver(s.Serializer):
    source = s.UUIDField(help_text="The object that the passes are of.")
    passes = s.ListField(child=s.CharField(max_length=200), min_length=1, max_length=50)


class Run(s.Serializer):
    recipe = s.CharField(required=False, max_length=60)
    operation = s.CharField(required=False, max_length=60)
    parameters = s.DictField(required=False)
