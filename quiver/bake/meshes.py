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
    shapes as it takes (principal components, by singular values); without, one for each frame. To save memory, offsets that are
    float32 in one piece are used up.
    """
    left = np.ascontiguousarray(offsets, np.float32)
    reach = np.empty(offsets.shape[:2], np.float32)
    # Frame by frame, in place: the matrices of all vertices at all frames would not fit into memory.
    for frame, placed in enumerate(world):
        turned = _linear_parts(mesh, vertices, placed)
        # Where skinning squeezes the space to nothing no shape can show, so none is asked for.
        flat = np.abs(np.linalg.det(turned)) < FLAT
        moves = np.where(flat[:, None], 0.0, left[frame])
        left[frame] = np.linalg.solve(np.where(flat[:, None, None], np.eye(3), turned), moves[..., None])[..., 0]
        reach[frame] = _largest_stretch(turned)
    if tolerance <= 0.0:
        return Shapes(mesh_index, vertices, left, np.eye(len(left), dtype=np.float32), 0.0)
    deltas, weights = _components(left, reach, tolerance)
    error = 0.0
    for frame, placed in enumerate(world):
        off = np.einsum("rij,rj->ri", _linear_parts(mesh, vertices, placed), left[frame])
        error = max(error, float(np.linalg.norm(off, axis=1).max(initial=0.0)))
    return Shapes(mesh_index, vertices, deltas, weights, error)


def _largest_stretch(matrices):
    """By how much matrices (R, 3, 3) lengthen vectors at the most: their largest singular values (Smith 1961)."""
    squared = np.swapaxes(matrices, 1, 2) @ matrices
    mean = np.trace(squared, axis1=1, axis2=2) / 3.0
    centred = squared - mean[:, None, None] * np.eye(3)
    spread = np.sqrt(np.sum(centred * centred, axis=(1, 2)) / 6.0)
    half = np.linalg.det(centred / np.maximum(spread, 1e-30)[:, None, None]) / 2.0
    return np.sqrt(np.maximum(mean + 2.0 * spread * np.cos(np.arccos(np.clip(half, -1.0, 1.0)) / 3.0), 0.0))


def _components(left, reach, tolerance):
    """(deltas (T, R, 3), weights (F, T)): principal components of moves ``left`` (F, R, 3), taken off until no more is left than tolerated.

    reach (F, R) by how much skinning may enlarge a move
    """
    rows = left.reshape(len(left), -1)
    _, frames = np.linalg.eigh(rows @ rows.T)
    deltas, weights, error = [], [], _worst(left, reach)
    for direction in frames.T[::-1]:
        if deltas and error <= tolerance:
            break
        shape = direction.astype(np.float32) @ rows
        size = max(float(np.abs(direction).max()), 1e-12)
        # Shapes as large as they ever get, so that weights stay within -1..1.
        deltas.append((shape * size).reshape(left.shape[1:]))
        weights.append(direction / size)
        for frame, share in enumerate(direction):
            rows[frame] -= np.float32(share) * shape
        error = _worst(left, reach)
    return np.stack(deltas), np.stack(weights, 1).astype(np.float32)


def _worst(left, reach):
    return max(float((np.linalg.norm(moves, axis=1) * far).max(initial=0.0)) for moves, far in zip(left, reach, strict=True))


def all_shapes(character, moved, offsets, world, tolerance=0.0):
    """Shapes of every moved mesh that the character has: ``moved`` {mesh index: vertices}, offsets (F, R, 3) of all of them in that order;
    they may be used up.
    """
    shapes, at = [], 0
    for index, vertices in moved.items():
        own = offsets[:, at : at + len(vertices)]
        at += len(vertices)
        if int(index) >= len(character.meshes):
            continue
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
    """How skinning turns and stretches around each vertex: (R, 3, 3), with node matrices (J, 3, 4)."""
    if mesh.skin < 0:
        return np.repeat(world[None, mesh.node, :, :3], len(vertices), 0)
    matrices = skin_matrices(mesh, world)[..., :3]
    slots, weights = slots_of(mesh)[vertices], mesh.weights[vertices].astype(float)
    return sum(weights[:, k, None, None] * matrices[slots[:, k]] for k in range(slots.shape[1]))
