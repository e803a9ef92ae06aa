"""Takes: what was simulated, with everything that it depended on."""

from functools import cached_property

from django.db import models

from studio.characters.models import Character, SetupVersion, ThereManager
from studio.jobs.models import Job


class Take(models.Model):
    """One simulation of a setup version on a clip and a range. Its frames, and what was measured, are in TakeChunks.

    ``digest`` stands for all that its motion depends on: a setup that would show the same has the same.
    """

    character = models.ForeignKey(Character, models.CASCADE, related_name="takes")
    version = models.ForeignKey(SetupVersion, models.PROTECT, related_name="takes")
    job = models.OneToOneField(Job, models.PROTECT, related_name="take")
    digest = models.CharField(max_length=64, blank=True, db_index=True)
    sweep = models.ForeignKey("Sweep", models.SET_NULL, null=True, related_name="takes")
    clip_name = models.CharField(max_length=400, blank=True)
    first_frame = models.IntegerField(default=0)
    last_frame = models.IntegerField()
    frame_rate = models.FloatField()
    substeps = models.IntegerField(default=0)
    name = models.CharField(max_length=100, blank=True, default="")
    note = models.TextField(blank=True, default="")
    is_kept = models.BooleanField(default=False)
    layer_ids = models.JSONField(default=list)
    rotated = models.JSONField(default=list)
    translated = models.JSONField(default=list)
    moved = models.JSONField(default=dict)
    notes = models.JSONField(default=list)
    loop = models.JSONField(default=dict)
    cost_ms = models.FloatField(default=0.0)
    created = models.DateTimeField(auto_now_add=True)
    removed = models.DateTimeField(null=True, default=None)
    objects = ThereManager()
    everything = models.Manager()

    class Meta:
        ordering = ["-pk"]

    @property
    def label(self):
        """What it is called: its name, or its number."""
        return self.name or f"Take {self.pk}"

    @property
    def loop_words(self):
        """What is told of a clip that was run around; "" of other takes."""
        if not self.loop:
            return ""
        names = {layer.id: layer.name for layer in self.version.setup.layers}
        led = [
            f"{names.get(layer, layer)} by " + (f"{mm:.1f} mm" if mm > degrees else f"{degrees:.1f}°")
            for layer, (mm, degrees) in self.loop["led"].items()
        ]
        around = f"run around {self.loop['cycles']} times, closes exactly"
        return f"{around}; led over at the end: {', '.join(led)}" if led else f"{around}; all repeats"

    @property
    def frame_count(self):
        return self.last_frame - self.first_frame + 1

    @property
    def has_muscles(self):
        return any(layer.muscles for layer in self.version.setup.layers)

    @property
    def is_built(self):
        """Whether the run was compiled, so that its nodes are known."""
        return self.substeps > 0

    @cached_property
    def _stats(self):
        return list(self.chunks.order_by("first_frame").values_list("stats", flat=True))

    @cached_property
    def added(self):
        """For each frame what each layer added at the most [mm]."""
        return [row for stats in self._stats for row in stats.get("added", [])]

    @cached_property
    def measures(self):
        """{layer id: {name: values}}: "volume", "area", "stretch" [%] and "clip" [mm], the same as keyed with "keyed_" in front, "turn"
        [degrees], "deepest" [mesh, vertex] and "against" (which of the setup's colliders is touched), all frame by frame,
        and its "cost" [ms a frame].
        """
        found = {}
        for stats in self._stats:
            for layer_id, measured in stats.get("measures", {}).items():
                kept = found.setdefault(layer_id, {})
                for name, values in measured.items():
                    if isinstance(values, list):
                        kept.setdefault(name, []).extend(values)
                    else:
                        kept[name] = values
        return found

    def refresh_from_db(self, *args, **kwargs):
        """As Django's; what was put together of the chunks is put together anew."""
        for name in ("_stats", "added", "measures"):
            self.__dict__.pop(name, None)
        super().refresh_from_db(*args, **kwargs)


class TakeChunk(models.Model):
    """Some frames of a take: Blosc-compressed float32 rotations (F, K, 4), then translations (F, M, 3).

    ``offsets`` are int16 (F, R, 3), compressed, in steps of ``offset_step`` [file units], of the vertices that ``Take.moved`` names;
    ``stats`` is what was measured in these frames.
    """

    take = models.ForeignKey(Take, models.CASCADE, related_name="chunks")
    first_frame = models.IntegerField()
    frames = models.IntegerField()
    data = models.BinaryField()
    offsets = models.BinaryField(default=b"")
    offset_step = models.FloatField(default=0.0)
    stats = models.JSONField(default=dict)

    class Meta:
        unique_together = [("take", "first_frame")]
        ordering = ["first_frame"]


class Sweep(models.Model):
    """Takes of a setup version on a clip with one or two dials over a range: ``dials`` [[layer id, dial]], and of each its ``values``; from
    take to take the last dial changes first.
    """

    version = models.ForeignKey(SetupVersion, models.CASCADE, related_name="sweeps")
    clip_name = models.CharField(max_length=400, blank=True)
    dials = models.JSONField()
    values = models.JSONField()


class MovingPicture(models.Model):
    """A take in small: WebP with so many pictures one below the other, one of every ``step`` frames."""

    take = models.OneToOneField(Take, models.CASCADE, related_name="moving")
    pictures = models.IntegerField()
    step = models.IntegerField()
    data = models.BinaryField()


class RingTest(models.Model):
    """A ring test of one layer of a setup version; ``report`` is what it gave (see quiver.ring)."""

    version = models.ForeignKey(SetupVersion, models.CASCADE, related_name="ring_tests")
    job = models.OneToOneField(Job, models.CASCADE, related_name="ring_test")
    layer_id = models.CharField(max_length=100)
    report = models.JSONField(default=dict)


class Solve(models.Model):
    """A search for dials of a setup version on a clip: what is ``asked`` (layer, dials, what is wanted), and the ``report``."""

    version = models.ForeignKey(SetupVersion, models.CASCADE, related_name="solves")
    job = models.OneToOneField(Job, models.CASCADE, related_name="solve")
    clip_name = models.CharField(max_length=400, blank=True)
    asked = models.JSONField()
    report = models.JSONField(default=dict)
