"""A character that rests in another pose than its rig does."""

from dataclasses import replace

import numpy as np

from quiver.cache import Cache
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions

KEPT = 8
_known = Cache(KEPT)


def reposed(character, clip_name, seconds):
    """The Character as it is at some seconds of a clip, with that as its rest pose, kept. Raises BadInput where it has no such clip."""
    return _known.get(character, (clip_name, seconds), lambda: _reposed(character, character.clip(clip_name), seconds))


def _reposed(character, clip, seconds):
    pose = clip.sample(character.skeleton, np.array([float(seconds)]))
    world = world_matrices(character.skeleton, pose)[0]
    meshes = tuple(mesh if mesh.skin < 0 else _bound(mesh, world) for mesh in character.meshes)
    return replace(character, skeleton=replace(character.skeleton, rest=pose[0]), meshes=meshes)


def _bound(mesh, world):
    """A skinned mesh bound where node matrices (J, 3, 4) take it."""
    binds = np.zeros((len(mesh.bind_nodes), 4, 4))
    binds[:, :3], binds[:, 3, 3] = world[mesh.bind_nodes], 1.0
    return replace(mesh, positions=np.float32(skinned_positions(mesh, world)), inverse_binds=np.linalg.inv(binds)[:, :3])
