"""The bench of one object."""

from rest_framework import serializers as s

from api.shapes.jobs import JobView
from api.shapes.shelf import ROLES, Stage


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


class CameAsPoints(s.Serializer):
    count = s.IntegerField()
    triangles = s.IntegerField()
    size_mm = s.FloatField()
    spacing_mm = s.FloatField()
    unit = s.CharField()
    unit_from = s.CharField()
    normals_from = s.CharField()
    coloured = s.BooleanField()


class PassFigures(s.Serializer):
    title = s.CharField()
    capture = s.CharField()
    tracking = s.CharField()
    width = s.IntegerField(default=0)
    frames = s.IntegerField()
    frames_in = s.ListField(child=s.BooleanField())
    fit_mm = s.ListField(child=s.FloatField(allow_null=True))
    kept_share = s.ListField(child=s.FloatField(), allow_null=True)
    rms_mm = s.FloatField(allow_null=True)
    noise_mm = s.FloatField()
    knocked = s.ListField(child=s.IntegerField(), required=False)
    loose = s.ListField(child=s.IntegerField(), required=False)
    posed = s.BooleanField()
    cut = s.BooleanField()
    placed = s.BooleanField()
    off = s.BooleanField(default=False)
    T_object_pass = s.ListField(child=s.ListField(child=s.FloatField()), required=False)
    points = CameAsPoints(allow_null=True, required=False)


class FindingView(s.Serializer):
    name = s.CharField(help_text="Tells it from the others of its state.")
    kind = s.CharField()
    stage = s.CharField()
    title = s.CharField()
    detail = s.CharField()
    figure = s.CharField()
    operation = s.CharField(allow_null=True)
    place = s.ListField(child=s.FloatField(), allow_null=True)


class AcceptedView(FindingView):
    id = s.IntegerField()
    word = s.CharField()
    who = s.CharField(allow_blank=True)
    created = s.DateTimeField()


class FindingToAccept(s.Serializer):
    name = s.CharField(max_length=400)
    word = s.CharField(max_length=200, help_text="Why it is lived with.")


class StepView(s.Serializer):
    id = s.IntegerField()
    operation = s.CharField()
    title = s.CharField()
    stage = s.CharField()
    seconds = s.FloatField()
    parameters = s.JSONField()
    report = s.JSONField()
    headline = s.CharField(allow_blank=True)
    undone = s.BooleanField()
    known = s.BooleanField(help_text="Its result was known from before and not computed again.")
    who = s.CharField(allow_blank=True)
    version = s.CharField(allow_blank=True, help_text="Of the program.")
    before = s.UUIDField(allow_null=True)
    after = s.UUIDField()
    created = s.DateTimeField()


class BranchView(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    current = s.BooleanField()
    steps = s.IntegerField()
    own = s.IntegerField(help_text="Steps that the branch that is worked on does not have.")
    parts_at = s.CharField(allow_blank=True, help_text="The last step that both have.")
    last = s.CharField(allow_blank=True)
    tip = s.UUIDField(allow_null=True)
    surface = s.BooleanField()
    created = s.DateTimeField()


class GoTo(s.Serializer):
    snapshot = s.UUIDField(required=False, allow_null=True, help_text="The state to go on from; null: the beginning.")
    branch = s.IntegerField(required=False, min_value=1, help_text="A branch, to go on from its tip.")


class BranchName(s.Serializer):
    name = s.CharField(max_length=60)


class StepChange(s.Serializer):
    step = s.IntegerField(min_value=1)
    parameters = s.DictField(required=False, help_text="What differs; empty: as it was.")
    leave_out = s.BooleanField(default=False)


class Replay(s.Serializer):
    changes = StepChange(many=True)
    name = s.CharField(max_length=60, required=False, allow_blank=True, help_text="Of the branch that it makes.")


class HeldPass(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()
    frames = s.IntegerField()
    planned = s.IntegerField()
    outlook = s.JSONField(allow_null=True)


class TakeView(s.Serializer):
    name = s.CharField()
    voxel_mm = s.FloatField()
    character = s.CharField()
    passes = s.ListField(child=s.CharField())
    triangles = s.IntegerField()
    created = s.DateTimeField(allow_null=True, help_text="When it was fused.")


class Adjust(s.Serializer):
    white = s.ListField(child=s.FloatField(), allow_null=True, help_text="sRGB (0-255) of what should be grey.")
    light = s.FloatField()
    contrast = s.FloatField()
    highlights = s.FloatField()
    shadows = s.FloatField()
    warmth = s.FloatField()
    tint = s.FloatField()
    saturation = s.FloatField()
    gamma = s.FloatField()


class LengthView(s.Serializer):
    name = s.CharField()
    kind = s.CharField()
    value = s.FloatField(help_text="mm; degrees of an angle.")
    sd = s.FloatField(allow_null=True)
    rms_mm = s.FloatField(allow_null=True)
    caliper_mm = s.FloatField(allow_null=True)
    places = s.ListField(child=s.ListField(child=s.FloatField()))


class ScaleView(s.Serializer):
    factor = s.FloatField()
    by_caliper = s.BooleanField()


class Bench(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()
    notes = s.CharField()
    role = s.ChoiceField(choices=ROLES)
    snapshot = s.UUIDField(allow_null=True)
    set_up = s.JSONField(help_text="Of the last pass, for the next one.")
    passes = PassFigures(many=True)
    mesh = MeshFigures(allow_null=True)
    glance = s.BooleanField(
        help_text="Whether the mesh is shown with fewer triangles first: it is large, and looked back at."
    )
    points = s.IntegerField()
    upright = s.BooleanField()
    fused = s.BooleanField()
    takes = TakeView(many=True)
    of_take = s.CharField(allow_null=True, help_text="The take that the surface came from.")
    adjust = Adjust(allow_null=True, help_text="How the laid colour is shown and delivered.")
    roughness = s.FloatField()
    lengths = LengthView(many=True)
    scale = ScaleView(allow_null=True)
    findings = FindingView(many=True)
    accepted = AcceptedView(many=True)
    looked = s.BooleanField(help_text="Whether the closer look behind the steps is done.")
    steps = StepView(many=True)
    branches = BranchView(many=True)
    looking_back = s.BooleanField(help_text="Shown as it was after an earlier step.")
    stages = Stage(many=True)
    job = JobView(allow_null=True)
    held = HeldPass(allow_null=True, help_text="A pass that waits to be accepted or thrown away.")
