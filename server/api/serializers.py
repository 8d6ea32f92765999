"""The shapes of requests and answers; the typed client of the front end is generated from them."""

from rest_framework import serializers as s

from objects.core_door import DEMO_OBJECTS
from objects.selectors import STAGES


class ErrorAnswer(s.Serializer):
    error = s.CharField()


class SignIn(s.Serializer):
    username = s.CharField(max_length=150)
    password = s.CharField(max_length=200, trim_whitespace=False)


class Session(s.Serializer):
    signed_in = s.BooleanField()
    username = s.CharField(allow_blank=True)
    demo = s.BooleanField()


class NewObject(s.Serializer):
    title = s.CharField(max_length=120)
    notes = s.CharField(required=False, allow_blank=True, max_length=4000)


class Stage(s.Serializer):
    name = s.ChoiceField(choices=STAGES)
    state = s.ChoiceField(choices=("done", "current", "waiting"))
    findings = s.IntegerField()


class JobView(s.Serializer):
    id = s.UUIDField()
    object_id = s.UUIDField(source="scan_object_id")
    object_title = s.CharField(source="scan_object.title")
    kind = s.CharField()
    title = s.CharField()
    state = s.ChoiceField(choices=("queued", "running", "done", "failed", "cancelled"))
    fraction = s.FloatField()
    message = s.CharField()
    seconds_left = s.FloatField(allow_null=True)
    stopping = s.BooleanField(source="cancel_wish")
    error = s.CharField()
    capture = s.SerializerMethodField()
    planned = s.SerializerMethodField()
    created = s.DateTimeField()
    started = s.DateTimeField(allow_null=True)
    finished = s.DateTimeField(allow_null=True)

    def get_capture(self, job) -> str | None:
        return job.payload.get("capture")

    def get_planned(self, job) -> int | None:
        return job.payload.get("plan", {}).get("stops")


class ShelfItem(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()
    notes = s.CharField()
    size_mm = s.FloatField(allow_null=True)
    passes = s.IntegerField()
    state = s.CharField()
    stages = Stage(many=True)
    picture = s.CharField(allow_null=True)
    changed = s.DateTimeField()


class HoleFigures(s.Serializer):
    count = s.IntegerField()
    longest_mm = s.FloatField(required=False)
    place = s.ListField(child=s.FloatField(), required=False)


class MeshFigures(s.Serializer):
    triangles = s.IntegerField()
    vertices = s.IntegerField()
    size_mm = s.ListField(child=s.FloatField())
    low_mm = s.ListField(child=s.FloatField())
    high_mm = s.ListField(child=s.FloatField())
    watertight = s.BooleanField()
    volume_mm3 = s.FloatField(allow_null=True)
    area_mm2 = s.FloatField()
    made_up_area_fraction = s.FloatField()
    textured = s.BooleanField()
    texture_size = s.IntegerField(allow_null=True)
    holes = HoleFigures()
    pieces = s.IntegerField()


class PassFigures(s.Serializer):
    title = s.CharField()
    capture = s.CharField()
    tracking = s.CharField()
    frames = s.IntegerField()
    frames_in = s.ListField(child=s.BooleanField())
    fit_mm = s.ListField(child=s.FloatField(allow_null=True))
    kept_share = s.ListField(child=s.FloatField(), allow_null=True)
    rms_mm = s.FloatField(allow_null=True)
    noise_mm = s.FloatField()
    posed = s.BooleanField()
    cut = s.BooleanField()
    placed = s.BooleanField()


class FindingView(s.Serializer):
    kind = s.CharField()
    stage = s.CharField()
    title = s.CharField()
    detail = s.CharField()
    figure = s.CharField()
    operation = s.CharField(allow_null=True)
    place = s.ListField(child=s.FloatField(), allow_null=True)


class StepView(s.Serializer):
    id = s.IntegerField()
    operation = s.CharField()
    title = s.CharField()
    stage = s.CharField()
    seconds = s.FloatField()
    parameters = s.JSONField()
    report = s.JSONField()
    undone = s.BooleanField()
    created = s.DateTimeField()


class Bench(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()
    notes = s.CharField()
    snapshot = s.UUIDField(allow_null=True)
    passes = PassFigures(many=True)
    mesh = MeshFigures(allow_null=True)
    points = s.IntegerField()
    upright = s.BooleanField()
    findings = FindingView(many=True)
    steps = StepView(many=True)
    stages = Stage(many=True)
    job = JobView(allow_null=True)


class CapturePlan(s.Serializer):
    title = s.CharField(max_length=60, default="upright")
    stops = s.IntegerField(min_value=3, max_value=72, default=24)
    elevation_deg = s.FloatField(min_value=-10, max_value=80, default=24)
    tip_deg = s.FloatField(min_value=-180, max_value=180, default=0)
    tip_about_deg = s.FloatField(min_value=-360, max_value=360, default=0)
    model = s.ChoiceField(choices=tuple(DEMO_OBJECTS), required=False)


class Run(s.Serializer):
    recipe = s.CharField(required=False)
    operation = s.CharField(required=False)
    parameters = s.DictField(required=False)


class ImportFile(s.Serializer):
    file = s.FileField()


class ParameterView(s.Serializer):
    name = s.CharField()
    type = s.CharField()
    default = s.JSONField()
    help = s.CharField()
    unit = s.CharField(allow_blank=True)
    low = s.FloatField(allow_null=True)
    high = s.FloatField(allow_null=True)
    choices = s.ListField(child=s.CharField())


class OperationView(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    stage = s.CharField()
    help = s.CharField()
    parameters = ParameterView(many=True)


class RecipeStepView(s.Serializer):
    operation = s.CharField()
    parameters = s.DictField()


class RecipeView(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    help = s.CharField()
    steps = RecipeStepView(many=True)


class Catalogue(s.Serializer):
    operations = OperationView(many=True)
    recipes = RecipeView(many=True)
    models = s.ListField(child=s.DictField())
    formats = s.ListField(child=s.CharField())
