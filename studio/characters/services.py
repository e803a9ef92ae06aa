"""What the app asks of the core about characters."""

import threading
from datetime import timedelta
from pathlib import PurePath

import numpy as np
from cachetools import LRUCache
from django.db import transaction
from django.utils import timezone

from quiver.errors import BadInput
from quiver.formats import frames
from quiver.formats.gltf.reading import read_character
from quiver.intake import kept_of
from quiver.run.keyed import keyed_clip
from quiver.setup import model as setups
from studio.characters.models import Character
from studio.events import hub

KEPT_BYTES = 2**30
"""Memory for characters that were read, where one takes so many times its file."""
MEMORY_PER_BYTE = 4
REMOVED_SECONDS = 3600.0
"""So long what was removed, a character or a take, can be brought back."""
_characters, _reading = LRUCache(KEPT_BYTES, getsizeof=lambda loaded: loaded.bytes), threading.RLock()


def bring_in(data, file_name, setup=None, is_demo=False, owner=None):
    """Read a file, given as bytes, and keep it as a new Character of an owner. Raises BadFormat with all findings; then nothing is kept."""
    character, _ = read_character(data, plain_name(file_name))
    return keep(file_name, kept_of(character), [data], len(data), setup, is_demo, owner)


def plain_name(file_name):
    """A character's name from the name of its file."""
    return PurePath(file_name.replace("\\", "/")).stem[:200] or "character"


def keep(file_name, kept, parts, size, setup=None, is_demo=False, owner=None):
    """Keep what was read of a file (`quiver.intake.kept_of`), and the file itself, in parts of any size, as a new Character."""
    facts, setup = kept["facts"], setup or setups.Setup(metres_per_unit=kept["metres_per_unit"], frame_rate=kept["frame_rate"])
    with transaction.atomic():
        row = Character.objects.create(
            name=plain_name(file_name),
            file_name=PurePath(file_name.replace("\\", "/")).name[:200],
            file_bytes=size,
            facts=facts,
            findings=kept["findings"],
            picture=kept["picture"],
            active_clip=facts["clips"][0]["name"] if facts["clips"] else "",
            is_demo=is_demo,
            owner=owner,
        )
        row.keep_source(parts)
        row.save_setup(setup, "Brought in")
    return row


def loaded(character_id):
    """(core Character, Document) of a row, kept in memory: a character's file never changes. Raises BadFormat, BadInput."""
    with _reading:
        known = _characters.get(character_id)
        if known is None:
            row = Character.objects.filter(pk=character_id).first()
            if row is None:
                raise BadInput("this character was removed")
            data = row.source()
            known = _Loaded(read_character(data, row.name), len(data))
            _characters[character_id] = known
        return known.pair


class _Loaded:
    """What was read, and how much memory it takes, but never more than there is for all."""

    def __init__(self, pair, size):
        self.pair, self.bytes = pair, min(MEMORY_PER_BYTE * size, KEPT_BYTES)


def forget_loaded():
    """Forget what was read, for tests, whose rows come and go."""
    with _reading:
        _characters.clear()


def clip_stream(row, clip_name):
    """The keyed motion of a clip at the setup's frame rate, as one byte string for the stage. Raises BadInput."""
    character, _ = loaded(row.pk)
    rate = row.setup.frame_rate
    clip = keyed_clip(character, row.setup, clip_name)
    times = np.arange(clip.frame_count(rate)) / rate
    pose = clip.sample(character.skeleton, times)
    keyed = {path: clip.keyed_nodes(path) for path in ("rotation", "translation", "scale")}
    header = frames.header(keyed["rotation"], keyed["translation"], keyed["scale"], rate, 0, len(times))
    parts = [pose.rotations[:, keyed["rotation"]], pose.translations[:, keyed["translation"]], pose.scales[:, keyed["scale"]]]
    return header + frames.chunk(0, *parts) + frames.ending({"state": "finished"})


def joint_tree(row):
    """The joints for the tree, depth first: name, depth, node, whether a skin uses it."""
    nodes = row.facts["nodes"]
    children = {index: [] for index in range(-1, len(nodes))}
    for index, node in enumerate(nodes):
        children[node["parent"]].append(index)
    has_joint = [node["joint"] for node in nodes]
    for index in reversed(_depth_first(children)):
        parent = nodes[index]["parent"]
        if has_joint[index] and parent >= 0:
            has_joint[parent] = True
    shown = has_joint if any(has_joint) else [True] * len(nodes)
    depth = {-1: -1}
    rows = []
    for index in _depth_first(children):
        depth[index] = depth[nodes[index]["parent"]] + 1
        if shown[index]:
            rows.append({"node": index, "name": nodes[index]["name"], "depth": depth[index], "joint": nodes[index]["joint"]})
    return rows


def _depth_first(children):
    order, waiting = [], list(reversed(children[-1]))
    while waiting:
        index = waiting.pop()
        order.append(index)
        waiting.extend(reversed(children[index]))
    return order


def joint_names(row, text):
    """The joints that a text names, with commas between them; a joint's own name may have a comma in it."""
    if any(node["name"] == text for node in row.facts["nodes"]):
        return [text]
    return [name.strip() for name in text.split(",") if name.strip()]


def remove(row):
    """Take a character out of the library; what still runs for it is asked to stop. `restore` brings it back until `forget_removed`."""
    for stop in _when_removed:
        stop(row)
    Character.objects.filter(pk=row.pk).update(removed=timezone.now())
    hub.publish(row.pk, "removed")


def restore(pk):
    """Bring a removed character back. Raises BadInput where it is gone for good."""
    if not Character.everything.filter(pk=pk).update(removed=None):
        raise BadInput("this character is gone for good; bring its file in again")


def removed():
    """The characters that can still be brought back, the latest first."""
    return Character.everything.exclude(removed=None).defer("picture", "facts").order_by("-removed")


def forget_removed():
    """Delete what was removed a while ago, with all that was made of it. The worker gives the space back."""
    for row in Character.everything.filter(removed__lt=timezone.now() - timedelta(seconds=REMOVED_SECONDS)):
        for prepare in _before_removal:
            prepare(row)
        with transaction.atomic():
            row.delete()


_before_removal, _when_removed = [], []


def when_removed(stop):
    """Let ``stop(row)`` end what runs for a character that is taken out of the library."""
    _when_removed.append(stop)


def before_removal(prepare):
    """Let ``prepare(row)`` delete what an app made of a character, before the character is deleted."""
    _before_removal.append(prepare)
