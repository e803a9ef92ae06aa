"""From baked clips to the file the artist takes away."""

from quiver.formats.gltf import container, mending, writing


def glb_parts(document, character, clips):
    """A copy of the character's file with more clips, as parts of a GLB. What a strict reader refuses is mended.

    ``clips`` are (Baked, name, Shapes) of each; Shapes (quiver.bake.meshes) have one row of weights for each of the Baked's times. Meshes
    of the character that the file does not have are added. Raises BadInput.
    """
    document, taken = document.copy(), {clip.name for clip in character.clips}
    mending.mend(document)
    meshes = writing.add_meshes(document, character.meshes)
    for baked, name, _ in clips:
        free = _free(name, taken)
        taken.add(free)
        writing.add_clip(document, free, baked.tracks, character.skeleton, baked.kept_from)
    if any(shapes for _, _, shapes in clips):
        writing.add_shapes(document, meshes, [(baked.times, shapes) for baked, _, shapes in clips])
    return container.glb_parts(document)


def glb_with_clip(document, character, baked, name, shapes=()):
    """The same with one clip, as bytes."""
    return b"".join(glb_parts(document, character, [(baked, name, shapes)]))


def free_clip_name(character, name):
    """The name, with a number where a clip of the character has it already."""
    return _free(name, {clip.name for clip in character.clips})


def _free(name, taken):
    free, number = name, 2
    while free in taken:
        free, number = f"{name} {number}", number + 1
    return free
