"""What of characters nothing refers to any more."""

from django.db.models import Exists, OuterRef

from studio.characters.models import Blob, Character, SetupVersion

KEPT_VERSIONS = 500
"""Versions of a character's setup that undo can reach; older ones go where no take was made of them."""


def forget_old_versions():
    """Delete versions that are out of reach of undo and were never simulated."""
    for character in Character.objects.values_list("pk", flat=True):
        versions = SetupVersion.objects.filter(character=character)
        oldest = versions.order_by("-pk").values_list("pk", flat=True)[KEPT_VERSIONS : KEPT_VERSIONS + 1]
        for limit in oldest:
            versions.filter(pk__lte=limit, takes=None, ring_tests=None).exclude(pk__in=Character.objects.values("current")).delete()


def forget_blobs():
    """Delete blobs that no version refers to."""
    used = SetupVersion.blobs.through.objects.filter(blob_id=OuterRef("pk"))
    Blob.objects.filter(~Exists(used)).delete()
