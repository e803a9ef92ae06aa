"""A take as poses and places of vertices, as its chunks are read."""

import numpy as np

from quiver.bake import meshes
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions
from quiver.run.keyed import keyed_clip
from studio.takes.services import unpack, unpack_offsets


def scenes(take, character, frames, mesh_indices):
    """For each of ``frames``, as the take's chunks are read: (Pose of all nodes, positions float32 (V, 3) of each mesh) [file units]."""
    clip, wanted = keyed_clip(character, take.version.setup, take.clip_name), set(frames.tolist())
    starts = dict(zip(take.moved, np.cumsum([0, *(len(vertices) for vertices in take.moved.values())]), strict=False))
    for chunk in take.chunks.iterator():
        rows = [row for row in range(chunk.frames) if chunk.first_frame + row in wanted]
        if not rows:
            continue
        rotations, translations = (values[rows] for values in unpack(take, chunk))
        own = chunk.first_frame + np.array(rows)
        pose = meshes.take_pose(character, clip.uncarried, own, take.frame_rate, take.rotated, take.translated, rotations, translations)
        world = world_matrices(character.skeleton, pose)
        offsets = clip.uncarry(own / take.frame_rate, unpack_offsets(take, chunk)[rows] * np.float32(chunk.offset_step))
        for number in range(len(rows)):
            yield pose[number], [_placed(take, character, index, world[number], offsets[number], starts) for index in mesh_indices]


def _placed(take, character, index, world, offsets, starts):
    positions = skinned_positions(character.meshes[index], world)
    vertices = take.moved.get(str(index))
    if vertices:
        start = starts[str(index)]
        positions[vertices] += offsets[start : start + len(vertices)]
    return positions
