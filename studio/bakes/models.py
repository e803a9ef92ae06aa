"""Bakes: files made from takes."""

import zlib

from django.db import models

from studio.jobs.models import Job
from studio.takes.models import Take

CHUNK_BYTES = 4 * 2**20


class Bake(models.Model):
    """A GLB with the take's motion as a new clip."""

    take = models.ForeignKey(Take, models.CASCADE, related_name="bakes")
    job = models.OneToOneField(Job, models.PROTECT, related_name="bake")
    name = models.CharField(max_length=200)
    first_frame = models.IntegerField()
    last_frame = models.IntegerField()
    step = models.IntegerField(default=1)
    turn_limit = models.FloatField(default=0.0)
    report = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    def keep(self, data):
        for number, start in enumerate(range(0, len(data), CHUNK_BYTES)):
            BakeChunk.objects.create(bake=self, number=number, data=zlib.compress(data[start : start + CHUNK_BYTES], 1))

    async def parts(self):
        """The file's bytes, piece by piece."""
        async for chunk in self.file_chunks.order_by("number").aiterator():
            yield zlib.decompress(chunk.data)


class BakeChunk(models.Model):
    """A piece of a baked file, compressed."""

    bake = models.ForeignKey(Bake, models.CASCADE, related_name="file_chunks")
    number = models.IntegerField()
    data = models.BinaryField()

    class Meta:
        unique_together = [("bake", "number")]
