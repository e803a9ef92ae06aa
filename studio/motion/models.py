"""What belongs to the Motion step beside the setup: own presets, and the building of conforming solids."""

from django.conf import settings
from django.db import models

from studio.characters.models import Character
from studio.jobs.models import Job


class OwnPreset(models.Model):
    """Dials that an artist saved under a name, for one kind of layer; without accounts it is nobody's in particular."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, null=True, related_name="presets")
    name = models.CharField(max_length=100)
    kind = models.CharField(max_length=20)
    values = models.JSONField()

    class Meta:
        ordering = ["name"]
        unique_together = [("owner", "kind", "name")]


class SolidBuild(models.Model):
    """The building of a conforming solid for a layer; its result goes into the setup."""

    character = models.ForeignKey(Character, models.CASCADE, related_name="solid_builds")
    job = models.OneToOneField(Job, models.CASCADE, related_name="solid_build")
    layer_id = models.CharField(max_length=100)

    class Meta:
        ordering = ["-pk"]
