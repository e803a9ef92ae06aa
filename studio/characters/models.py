"""Characters and the versions of their setups."""

from django.conf import settings
from django.db import models, transaction

from quiver.rig.clip import frames_in
from quiver.rig.made_clips import try_outs
from quiver.run.keyed import try_out_seconds
from quiver.setup import model as setups
from studio.characters import versions
from studio.pieces import packed, unpacked


class ThereManager(models.Manager):
    """What was not removed: rows of a model whose ``removed`` says when they were, or None."""

    def get_queryset(self):
        return super().get_queryset().filter(removed=None)


class Character(models.Model):
    """A character that was brought in. ``facts`` and ``findings`` are what the core said of the file."""

    name = models.CharField(max_length=200)
    file_name = models.CharField(max_length=200)
    file_bytes = models.BigIntegerField()
    facts = models.JSONField()
    findings = models.JSONField(default=list)
    picture = models.BinaryField()
    active_clip = models.CharField(max_length=400, blank=True)
    follows_changes = models.BooleanField(default=True)
    current = models.ForeignKey("SetupVersion", models.SET_NULL, null=True, related_name="+")
    is_demo = models.BooleanField(default=False)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="characters")
    created = models.DateTimeField(auto_now_add=True)
    removed = models.DateTimeField(null=True, default=None)
    objects = ThereManager()
    everything = models.Manager()
    person = None
    """Who looks at it, a User, where there are accounts (pages.py)."""

    class Meta:
        ordering = ["-created"]

    def source(self):
        """The file's bytes as they came in."""
        return b"".join(unpacked(chunk.data) for chunk in self.source_chunks.order_by("number"))

    def keep_source(self, parts):
        """Keep the file, given in parts of any size."""
        for number, piece in enumerate(packed(parts)):
            SourceChunk.objects.create(character=self, number=number, data=piece)

    @property
    def setup(self):
        """The current Setup."""
        return self.current.setup if self.current_id else setups.Setup()

    def save_setup(self, setup, label):
        """Keep a setup as a new version after the current one, and make it current, whatever it was. Edits go through studio.edits."""
        version = SetupVersion.write(self, self.current, setup, label)
        self.current = version
        self.save(update_fields=["current"])
        return version

    @property
    def undo_version(self):
        return self.current.parent if self.current else None

    @property
    def redo_version(self):
        """The newest version that was made from the current one."""
        return self.versions.filter(parent=self.current).defer("data").order_by("-pk").first() if self.current else None

    @property
    def clips(self):
        """The facts of all clips, each with its "frames" at the setup's frame rate."""
        rate = self.setup.frame_rate
        return [clip | {"frames": frames_in(clip["seconds"], rate)} for clip in self.facts["clips"]]

    def clip_facts(self, name=None):
        """What is known of a clip, or try-out motion, the active one if not said; None in the rest pose."""
        name = self.active_clip if name is None else name
        return next((clip for clip in (*self.clips, *self.try_outs) if clip["name"] == name), None)

    @property
    def try_outs(self):
        """The same of all try-out motions, with the "label" that they go by."""
        setup, size = self.setup, self.facts.get("size", [1.0, 1.0, 1.0])
        found = []
        for name, motion in try_outs().items():
            seconds = try_out_seconds(motion, size[1], setup)
            found.append({"name": name, "label": motion.label, "says": motion.says, "seconds": seconds})
        return [clip | {"frames": frames_in(clip["seconds"], setup.frame_rate)} for clip in found]

    @property
    def runs_around(self):
        """Whether takes of the active clip run around until the motion repeats."""
        return self.active_clip in self.setup.cycles


class Share(models.Model):
    """Somebody who may look at a character that is not theirs, or change it too (rights.py)."""

    character = models.ForeignKey(Character, models.CASCADE, related_name="shares")
    person = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="shares")
    may_edit = models.BooleanField(default=False)

    class Meta:
        unique_together = [("character", "person")]


class SourceChunk(models.Model):
    """A piece of a character's file, compressed."""

    character = models.ForeignKey(Character, models.CASCADE, related_name="source_chunks")
    number = models.IntegerField()
    data = models.BinaryField()

    class Meta:
        unique_together = [("character", "number")]


class Blob(models.Model):
    """A long text of setups, such as a painted region: stored once, named by its digest."""

    digest = models.CharField(max_length=64, unique=True)
    data = models.BinaryField()


class SetupVersion(models.Model):
    """One state of a character's setup, a small document (see versions.py); versions form a tree by ``parent``, so that undo never loses
    anything.
    """

    character = models.ForeignKey(Character, models.CASCADE, related_name="versions")
    parent = models.ForeignKey("self", models.SET_NULL, null=True, related_name="children")
    data = models.BinaryField()
    blobs = models.ManyToManyField(Blob, related_name="versions")
    label = models.CharField(max_length=200)
    created = models.DateTimeField(auto_now_add=True)

    @classmethod
    @transaction.atomic
    def write(cls, character, parent, setup, label):
        """Store a setup as a version, and what of it is not stored yet."""
        data, texts = versions.packed(setup)
        known = dict(Blob.objects.filter(digest__in=texts).values_list("digest", "pk"))
        for digest, text in texts.items():
            if digest not in known:
                known[digest] = Blob.objects.create(digest=digest, data=versions.text_bytes(text)).pk
        version = cls.objects.create(character=character, parent=parent, data=data, label=label[:200])
        version.blobs.set(known.values())
        return version

    @property
    def setup(self):
        """The Setup, parsed once for each version."""
        return versions.setup_of(bytes(self.data), self._texts)

    def _texts(self):
        return {digest: versions.bytes_text(data) for digest, data in self.blobs.values_list("digest", "data")}
