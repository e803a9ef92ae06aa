"""What the app asks of the core about characters."""

import io
from functools import lru_cache
from pathlib import PurePath

import numpy as np
from django.db import transaction
from PIL import Image

from quiver.setup import model as setups
from quiver.errors import BadInput
from quiver.formats import frames
from quiver.formats.gltf.reading import read_character
from quiver.picture import picture
from quiver.rig.pose import rest_matrices
from studio.characters.models import Character
from studio.events import hub

KEPT_IN_MEMORY = 6


def bring_in(data, file_name, setup=None, is_demo=False):
    """Read a file and keep it as a new Character. Raises BadFormat with all findings; then nothing is kept."""
    name = PurePath(file_name.replace("\\", "/")).stem[:200] or "character"
    character, _ = read_character(data, name)
    setup = setup or setups.Setup(metres_per_unit=_likely_scale(character))
    with transaction.atomic():
        row = Character.objects.create(
            name=name,
            file_name=PurePath(file_name.replace("\\", "/")).name[:200],
            file_bytes=len(data),
            facts=_facts(character, setup.frame_rate),
            findings=[finding.as_dict() for finding in character.findings],
            picture=_png(picture(character)),
            active_clip=character.clips[0].name if character.clips else "",
            is_demo=is_demo,
        )
        row.keep_source(data)
        row.save_setup(setup, "Brought in")
    return row


def _likely_scale(character):
    """Metres per unit: files of some hundred units are nearly always in centimetres."""
    world = rest_matrices(character.skeleton)
    span = float(np.ptp(world[:, :, 3], axis=0).max())
    return 0.01 if span > 25.0 else 1.0


def _facts(character, frame_rate):
    skeleton = character.skeleton
    return {
        "joints": character.joint_count,
        "vertices": character.vertex_count,
        "triangles": sum(len(mesh.triangles) for mesh in character.meshes),
        "meshes": [{"name": mesh.name, "vertices": len(mesh.positions), "skinned": mesh.skin >= 0} for mesh in character.meshes],
        "clips": [
            {"name": clip.name, "seconds": clip.seconds, "keys": clip.key_count, "frames": clip.frame_count(frame_rate)}
            for clip in character.clips
        ],
        "nodes": [
            {"name": name, "parent": int(parent), "joint": bool(is_joint)}
            for name, parent, is_joint in zip(skeleton.names, skeleton.parents, skeleton.is_joint, strict=True)
        ],
    }


def _png(pixels):
    file = io.BytesIO()
    Image.fromarray(pixels).save(file, "PNG", optimize=True)
    return file.getvalue()


@lru_cache(maxsize=KEPT_IN_MEMORY)
def loaded(character_id):
    """(core Character, Document) of a row, kept in memory: a character's file never changes. Raises BadFormat, BadInput."""
    row = Character.objects.filter(pk=character_id).first()
    if row is None:
        raise BadInput("expected a character of the library, this one is gone")
    return read_character(row.source(), row.name)


def clip_stream(row, clip_name):
    """The keyed motion of a clip at the setup's frame rate, as one byte string for the stage. Raises BadInput."""
    character, _ = loaded(row.pk)
    rate = row.setup.frame_rate
    clip = character.clip_or_still(clip_name)
    times = np.arange(clip.frame_count(rate)) / rate
    pose = clip.sample(character.skeleton, times)
    keyed = {path: sorted({c.node for c in clip.channels if c.path == path}) for path in ("rotation", "translation", "scale")}
    header = frames.header(keyed["rotation"], keyed["translation"], keyed["scale"], rate, 0, len(times))
    parts = [pose.rotations[:, keyed["rotation"]], pose.translations[:, keyed["translation"]], pose.scales[:, keyed["scale"]]]
    return header + frames.chunk(0, *parts) + frames.ending({"state": "finished"})


def refresh_clip_lengths(row):
    """Count the clips' frames again after the frame rate changed."""
    character, _ = loaded(row.pk)
    for facts, clip in zip(row.facts["clips"], character.clips, strict=True):
        facts["frames"] = clip.frame_count(row.setup.frame_rate)
    row.save(update_fields=["facts"])


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
    """Delete a character with all that was made of it; what still runs for it is asked to stop. The worker gives the space back."""
    for prepare in _before_removal:
        prepare(row)
    with transaction.atomic():
        row.delete()
    hub.publish(row.pk, "removed")


_before_removal = []


def before_removal(prepare):
    """Let ``prepare(row)`` remove what an app made of a character, before the character is."""
    _before_removal.append(prepare)
