"""What there is to run."""

from rest_framework import serializers as s


class ParameterView(s.Serializer):
    name = s.CharField()
    kind = s.CharField()
    default = s.JSONField(allow_null=True)
    optional = s.BooleanField()
    help = s.CharField()
    unit = s.CharField(allow_blank=True)
    low = s.FloatField(allow_null=True)
    high = s.FloatField(allow_null=True)
    choices = s.ListField(child=s.CharField())
    written = s.CharField()


class NeedView(s.Serializer):
    name = s.CharField()
    sentence = s.CharField()


class FormatView(s.Serializer):
    name = s.CharField()
    help = s.CharField()
    carries = s.ListField(child=s.CharField())


class ModelView(s.Serializer):
    name = s.CharField()
    title = s.CharField()


class OperationView(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    stage = s.CharField()
    help = s.CharField()
    key = s.CharField()
    weight = s.FloatField()
    needs = NeedView(many=True)
    preview = s.BooleanField()
    parameters = ParameterView(many=True)


class RecipeStepView(s.Serializer):
    operation = s.CharField()
    parameters = s.DictField()


class RecipeView(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    help = s.CharField()
    steps = RecipeStepView(many=True)
    own = s.BooleanField(help_text="Made by the person, not shipped.")


class NewRecipe(s.Serializer):
    title = s.CharField(max_length=60)
    help = s.CharField(max_length=200, required=False, allow_blank=True)
    steps = RecipeStepView(many=True, max_length=500)


class StepsToJudge(s.Serializer):
    steps = RecipeStepView(many=True, max_length=500)


class JudgedStep(s.Serializer):
    fault = s.CharField(allow_blank=True, help_text="Why it cannot be run.")
    note = s.CharField(allow_blank=True, help_text="What to mind.")


class DrawnStep(s.Serializer):
    operation = s.CharField()
    parameters = s.DictField()
    marks = s.BooleanField(help_text="Whether a hand marked something in it.")
    why = s.CharField(allow_blank=True, help_text="What keeps it out of a recipe.")


class RecipeRun(s.Serializer):
    recipe = s.CharField(max_length=60)
    objects = s.ListField(child=s.UUIDField(), min_length=1, max_length=500)


class RefusedObject(s.Serializer):
    id = s.UUIDField()
    title = s.CharField()
    why = s.CharField()


class InstrumentView(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    kind = s.CharField()
    width = s.IntegerField()
    height = s.IntegerField()
    standoff_mm = s.FloatField()
    band_mm = s.ListField(child=s.FloatField())
    field_mm = s.ListField(child=s.FloatField())
    spacing_mm = s.FloatField()
    noise_mm = s.FloatField()
    frames_per_s = s.FloatField()
    exposure_ms = s.ListField(child=s.FloatField(), help_text="The shortest, the nominal and the longest.")
    infrared = s.BooleanField()
    tilt_deg = s.ListField(child=s.FloatField())
    largest_mm = s.FloatField()
    elevation_deg = s.FloatField()
    paths = s.ListField(child=s.CharField())


class Catalogue(s.Serializer):
    operations = OperationView(many=True)
    recipes = RecipeView(many=True)
    models = ModelView(many=True)
    formats = FormatView(many=True)
    instruments = InstrumentView(many=True)
    readable = s.ListField(child=s.CharField(), help_text="Suffixes of files that can become passes.")
