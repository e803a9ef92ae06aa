"""Baking a take's vertex offsets: as shapes (morph targets) whose weights are animated."""

from dataclasses import dataclass

import numpy as np

from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skin_matrices, slots_of

FLAT = 1e-12
"""A blend of joints that squeezes volumes to such a share has no way back."""


@dataclass(frozen=True)
class Shapes:
    """Shapes of one mesh and how much of each is used: deltas float32 (T, R, 3) in the mesh's own space at rest, of vertices (R,);

    weights float32 (F, T); error [file units]: how far any vertex of any frame is from the take.
    """

    mesh_index: int
    vertices: np.ndarray
    deltas: np.ndarray
    weights: np.ndarray
    error: float


def shapes_of(mesh_index, mesh, vertices, offsets, world, tolerance=0.0):
    """The Shapes that, skinned, move ``vertices`` (R,) by offsets (F, R, 3) in the world.

    world (F, J, 3, 4) the take's own node matrices at those frames. With a ``tolerance`` [file units] there are only as many
    shapes as it takes (principal components, by singular values); without, one for each frame.
    """
    turned = _linear_parts(mesh, vertices, world)
    # Where skinning squeezes the space to nothing no shape can show, so none is asked for.
    flat = np.abs(np.linalg.det(turned)) < FLAT
    local = np.linalg.solve(np.where(flat[..., None, None], np.eye(3), turned), np.where(flat[..., None], 0.0, offsets)[..., None])[..., 0]
    if tolerance <= 0.0:
        return Shapes(mesh_index, vertices, local.astype(np.float32), np.eye(len(local), dtype=np.float32), 0.0)
    left, sizes, right = np.linalg.svd(local.reshape(len(local), -1), full_matrices=False)
    reach = np.linalg.norm(turned, ord=2, axis=(2, 3))
    count = 0
    while True:
        near = ((left[:, :count] * sizes[:count]) @ right[:count]).reshape(local.shape)
        error = float((np.linalg.norm(near - local, axis=2) * reach).max(initial=0.0))
        if error <= tolerance or count == len(sizes):
            break
        count += 1
    count = max(count, 1)
    deltas = right[:count].reshape(count, *local.shape[1:])
    # Shapes as large as they ever get, so that weights stay within -1..1.
    weights = left[:, :count] * sizes[:count]
    largest = np.maximum(np.abs(weights).max(0), 1e-12)
    shaped = (deltas * largest[:, None, None]).astype(np.float32)
    return Shapes(mesh_index, vertices, shaped, (weights / largest).astype(np.float32), error)


def all_shapes(character, moved, offsets, world, tolerance=0.0):
    """Shapes of every moved mesh: ``moved`` {mesh index: vertices}, offsets (F, R, 3) of all of them in that order."""
    shapes, at = [], 0
    for index, vertices in moved.items():
        own = offsets[:, at : at + len(vertices)]
        at += len(vertices)
        shapes.append(shapes_of(int(index), character.meshes[int(index)], np.asarray(vertices), own, world, tolerance))
    return shapes


def take_pose(character, clip, frames, frame_rate, rotated, translated, rotations, translations):
    """The Pose (F, J) of a take at ``frames`` (F,): the clip, with the take's rotations (F, K, 4) and translations (F, M, 3)."""
    pose = clip.sample(character.skeleton, np.asarray(frames, float) / frame_rate)
    pose.rotations[:, rotated] = rotations
    if len(translated):
        pose.translations[:, translated] = translations
    return pose


def take_world(character, *arguments):
    """Node matrices (F, J, 3, 4) of a take; arguments as `take_pose` has them."""
    return world_matrices(character.skeleton, take_pose(character, *arguments))


def _linear_parts(mesh, vertices, world):
    """How skinning turns and stretches around each vertex: (F, R, 3, 3)."""
    if mesh.skin < 0:
        return np.repeat(world[:, None, mesh.node, :, :3], len(vertices), 1)
    matrices = skin_matrices(mesh, world)[..., :3]
    slots, weights = slots_of(mesh)[vertices], mesh.weights[vertices].astype(float)
    return sum(weights[:, k, None, None] * matrices[:, slots[:, k]] for k in range(slots.shape[1]))
