"""What a person may take."""

from django.conf import settings
from django.db import models


class Allowance(models.Model):
    """How much room a person's objects may take; without one the installation's own figure holds."""

    person = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="allowance")
    gigabytes = models.FloatField(help_text="Room that the person’s objects may take together, in GB; 0 is no limit.")

    def __str__(self) -> str:
        return f"{self.person}: {self.gigabytes:g} GB"
