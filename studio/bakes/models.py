"""Bakes: files made from takes."""

from django.db import models

from studio.jobs.models import Job
from studio.pieces import packed, unpacked
from studio.takes.models import Take


class Bake(models.Model):
    """A file made of a take: a GLB with the motion as a new clip, or a point cache of one mesh (``mesh`` is its index).

    A GLB may have the clips of ``more`` takes, by their numbers. With ``has_muscles``, muscles that were made here are meshes of it.
    """

    class Form(models.TextChoices):
        GLB = "glb", "GLB: joints and shapes"
        PC2 = "pc2", "PC2: point cache of one mesh"
        MDD = "mdd", "MDD: point cache of one mesh"
        USD = "usdc", "USD: all points over time, and the skeleton"

    take = models.ForeignKey(Take, models.CASCADE, related_name="bakes")
    job = models.OneToOneField(Job, models.PROTECT, related_name="bake")
    name = models.CharField(max_length=200)
    first_frame = models.IntegerField()
    last_frame = models.IntegerField()
    step = models.IntegerField(default=1)
    skin_limit = models.FloatField(default=0.0)
    form = models.CharField(max_length=4, choices=Form, default=Form.GLB)
    mesh = models.IntegerField(default=0)
    shape_limit = models.FloatField(default=0.0)
    has_muscles = models.BooleanField(default=False)
    more = models.JSONField(default=list)
    report = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    def keep(self, parts):
        """Keep the file, given in parts of any size; returns its length."""
        total = 0

        def counted():
            nonlocal total
            for part in parts:
                total += len(part)
                yield part

        for number, piece in enumerate(packed(counted())):
            BakeChunk.objects.create(bake=self, number=number, data=piece)
        return total

    async def parts(self):
        """The file's bytes, piece by piece."""
        async for chunk in self.file_chunks.order_by("number").aiterator():
            yield unpacked(chunk.data)


class BakeChunk(models.Model):
    """A piece of a baked file, compressed."""

    bake = models.ForeignKey(Bake, models.CASCADE, related_name="file_chunks")
    number = models.IntegerField()
    data = models.BinaryField()

    class Meta:
        unique_together = [("bake", "number")]
