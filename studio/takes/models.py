"""Takes: what was simulated, with everything that it depended on."""

from django.db import models

from studio.characters.models import Character, SetupVersion
from studio.jobs.models import Job


class Take(models.Model):
    """One simulation of a setup version on a clip and a range. Its frames are in TakeChunks; ``added`` is in millimetres.

    ``measures`` holds for each soft layer's id its "volume" and "stretch" [%], frame by frame, and its "cost" [ms a frame]; for a layer
    that meets colliders its "clip" depth and that of the keyed skin, "keyed_clip" [mm], and the "deepest" [mesh, vertex], frame by frame.
    """

    character = models.ForeignKey(Character, models.CASCADE, related_name="takes")
    version = models.ForeignKey(SetupVersion, models.PROTECT, related_name="takes")
    job = models.OneToOneField(Job, models.PROTECT, related_name="take")
    clip_name = models.CharField(max_length=400, blank=True)
    first_frame = models.IntegerField(default=0)
    last_frame = models.IntegerField()
    frame_rate = models.FloatField()
    substeps = models.IntegerField(default=0)
    is_kept = models.BooleanField(default=False)
    layer_ids = models.JSONField(default=list)
    rotated = models.JSONField(default=list)
    translated = models.JSONField(default=list)
    moved = models.JSONField(default=dict)
    notes = models.JSONField(default=list)
    added = models.JSONField(default=list)
    measures = models.JSONField(default=dict)
    cost_ms = models.FloatField(default=0.0)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    @property
    def frame_count(self):
        return self.last_frame - self.first_frame + 1

    @property
    def is_built(self):
        """Whether the run was compiled, so that its nodes are known."""
        return self.substeps > 0


class TakeChunk(models.Model):
    """Some frames of a take: Blosc-compressed float32 rotations (F, K, 4), then translations (F, M, 3).

    ``offsets`` are int16 (F, R, 3), compressed, in steps of ``offset_step`` [file units], of the vertices that ``Take.moved`` names.
    """

    take = models.ForeignKey(Take, models.CASCADE, related_name="chunks")
    first_frame = models.IntegerField()
    frames = models.IntegerField()
    data = models.BinaryField()
    offsets = models.BinaryField(default=b"")
    offset_step = models.FloatField(default=0.0)

    class Meta:
        unique_together = [("take", "first_frame")]
        ordering = ["first_frame"]


class RingTest(models.Model):
    """A ring test of one layer of a setup version; ``report`` is what it gave (see quiver.ring)."""

    version = models.ForeignKey(SetupVersion, models.CASCADE, related_name="ring_tests")
    job = models.OneToOneField(Job, models.CASCADE, related_name="ring_test")
    layer_id = models.CharField(max_length=100)
    report = models.JSONField(default=dict)
