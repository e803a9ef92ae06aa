"""Rotations and placements as NumPy arrays: quaternions are x, y, z, w (the order of glTF); any leading shape is allowed."""

import numpy as np

from quiver.kernels import turns

IDENTITY = np.array([0.0, 0.0, 0.0, 1.0])
ORTHOGONAL = 1e-6
"""Columns whose scalar products are smaller stand on each other."""


def normalised(quaternions):
    """Unit quaternions, shape (..., 4); a quaternion of no length becomes the identity."""
    return turns.normalised(quaternions)


def multiply(a, b):
    """The rotation b followed by a, shapes (..., 4)."""
    return turns.multiplied(a, b)


def _parts(values):
    """The numbers of quaternions or vectors one by one; far quicker than NumPy's own ways for small arrays."""
    return [values[..., k] for k in range(values.shape[-1])]


def _joined(*parts):
    out = np.empty((*np.shape(parts[0]), len(parts)))
    for k, part in enumerate(parts):
        out[..., k] = part
    return out


def crossed(a, b):
    """The cross product of vectors (..., 3)."""
    return turns.crossed(a, b)


def lengths(vectors):
    """How long vectors (..., 3) are."""
    return turns.long(vectors)


def inverse(quaternions):
    """The opposite rotations of unit quaternions, shape (..., 4)."""
    return np.asarray(quaternions) * np.array([-1.0, -1.0, -1.0, 1.0])


def rotate(quaternions, vectors):
    """Turn vectors (..., 3) by unit quaternions (..., 4)."""
    return turns.rotated(quaternions, vectors)


def seen_in(rotations, frames):
    """Rotations of the world, quaternions (..., 4), as they are in orthonormal frames (..., 3, 3), which may be mirrored."""
    return turns.seen_in(rotations, frames)


def slerp(a, b, share):
    """From unit quaternion a to b along the shorter way; ``share`` has the leading shape. Exact at 0 and where a is b."""
    return turns.between(a, b, share)


def from_axis_angle(axis, angle):
    """Quaternions that turn about ``axis`` (..., 3) by ``angle`` radians (...)."""
    axis = np.asarray(axis, float)
    half = np.asarray(angle, float)[..., None] / 2.0
    axis = axis / np.maximum(np.linalg.norm(axis, axis=-1, keepdims=True), 1e-12)
    return np.concatenate([np.sin(half) * axis, np.cos(half) + 0.0 * axis[..., :1]], axis=-1)


def shortest_turn(a, b):
    """The quaternion of the shortest turn from direction a to direction b, (..., 3); the identity where they agree exactly."""
    lengths = np.sqrt(np.sum(a * a, -1, keepdims=True) * np.sum(b * b, -1, keepdims=True))
    w = np.maximum(lengths + np.sum(a * b, -1, keepdims=True), lengths * 1e-4)
    return normalised(np.concatenate([crossed(a, b), w], axis=-1))


def to_matrices(quaternions):
    """Rotation matrices (..., 3, 3) of unit quaternions (..., 4)."""
    x, y, z, w = _parts(np.asarray(quaternions, float))
    flat = _joined(
        *(1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)),
        *(2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)),
        *(2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)),
    )
    return flat.reshape(*flat.shape[:-1], 3, 3)


def from_matrices(matrices):
    """Unit quaternions of proper rotation matrices (..., 3, 3), by Shepperd's choice of the largest part."""
    return turns.of_matrix(matrices, IDENTITY)


def compose(translations, rotations, scales):
    """Local matrices (..., 3, 4) from translation, rotation and scale."""
    linear = to_matrices(rotations) * np.asarray(scales, float)[..., None, :]
    return np.concatenate([linear, np.asarray(translations, float)[..., None]], axis=-1)


def decompose(matrices):
    """Translation, rotation, scale of matrices (..., 3 or 4, 4); a mirrored matrix gets a negative x scale; shear is lost."""
    matrices = np.asarray(matrices, float)
    linear = matrices[..., :3, :3]
    scales = np.linalg.norm(linear, axis=-2)
    scales = np.where(np.linalg.det(linear)[..., None] < 0.0, scales * np.array([-1.0, 1.0, 1.0]), scales)
    safe = np.where(np.abs(scales) > 1e-12, scales, 1.0)
    return matrices[..., :3, 3].copy(), from_matrices(linear / safe[..., None, :]), scales


def pure_rotations(linear):
    """The orthonormal matrix nearest to each linear part (..., 3, 3); keeps a mirror (determinant -1)."""
    unit, off = turns.of_unit_columns(linear)
    if off.max(initial=0.0) < ORTHOGONAL:
        return unit
    left, _, right = np.linalg.svd(linear)
    return left @ right
