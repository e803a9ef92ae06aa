"""From a baked clip to the file the artist takes away."""

from quiver.formats.gltf import container, mending, writing


def glb_parts(document, character, baked, name, shapes=()):
    """A copy of the character's file with one more clip, as parts of a GLB. What a strict reader refuses is mended.

    ``shapes`` (quiver.bake.meshes.Shapes) have one row of weights for each of ``baked.times``. Meshes of the character that the file does
    not have are added. Raises BadInput.
    """
    document = document.copy()
    mending.mend(document)
    meshes = writing.add_meshes(document, character.meshes)
    writing.add_clip(document, free_clip_name(character, name), baked.tracks, character.skeleton, baked.kept_from)
    if shapes:
        writing.add_shapes(document, meshes, shapes, baked.times)
    return container.glb_parts(document)


def glb_with_clip(*arguments):
    """The same as bytes."""
    return b"".join(glb_parts(*arguments))


def free_clip_name(character, name):
    """The name, with a number where a clip of the character has it already."""
    taken = {clip.name for clip in character.clips}
    free, number = name, 2
    while free in taken:
        free, number = f"{name} {number}", number + 1
    return free
