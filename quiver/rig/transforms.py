"""Rotations and placements as NumPy arrays: quaternions are x, y, z, w (the order of glTF); any leading shape is allowed."""

import numpy as np

IDENTITY = np.array([0.0, 0.0, 0.0, 1.0])


def normalised(quaternions):
    """Unit quaternions, shape (..., 4); a quaternion of no length becomes the identity."""
    quaternions = np.asarray(quaternions, float)
    length = np.linalg.norm(quaternions, axis=-1, keepdims=True)
    return np.where(length > 1e-12, quaternions / np.where(length > 1e-12, length, 1.0), IDENTITY)


def multiply(a, b):
    """The rotation b followed by a, shapes (..., 4)."""
    ax, ay, az, aw = _parts(np.asarray(a, float))
    bx, by, bz, bw = _parts(np.asarray(b, float))
    return _joined(
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


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
    ax, ay, az = _parts(a)
    bx, by, bz = _parts(b)
    return _joined(ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx)


def inverse(quaternions):
    """The opposite rotations of unit quaternions, shape (..., 4)."""
    return np.asarray(quaternions) * np.array([-1.0, -1.0, -1.0, 1.0])


def rotate(quaternions, vectors):
    """Turn vectors (..., 3) by unit quaternions (..., 4)."""
    xyz, w = quaternions[..., :3], quaternions[..., 3:]
    vectors = np.asarray(vectors, float)
    twice = 2.0 * crossed(xyz, vectors)
    return vectors + w * twice + crossed(xyz, twice)


def seen_in(rotations, frames):
    """Rotations of the world, quaternions (..., 4), as they are in orthonormal frames (..., 3, 3), which may be mirrored."""
    axes = np.einsum("...ji,...j->...i", frames, rotations[..., :3]) * np.sign(np.linalg.det(frames))[..., None]
    return np.concatenate([axes, rotations[..., 3:]], axis=-1)


def slerp(a, b, share):
    """From unit quaternion a to b along the shorter way; ``share`` has the leading shape. Exact at 0 and where a is b."""
    share = np.asarray(share, float)[..., None]
    dot = np.sum(a * b, axis=-1, keepdims=True)
    b = np.where(dot < 0.0, -b, b)
    if (share == 1.0).all():
        return normalised(b)
    angle = np.arccos(np.clip(np.abs(dot), 0.0, 1.0))
    sine = np.sin(angle)
    near = sine < 1e-6
    safe = np.where(near, 1.0, sine)
    from_a = np.where(near, 1.0 - share, np.sin((1.0 - share) * angle) / safe)
    from_b = np.where(near, share, np.sin(share * angle) / safe)
    unmoved = (share == 0.0) | np.all(a == b, axis=-1, keepdims=True)
    return np.where(unmoved, a, normalised(from_a * a + from_b * b))


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
    m = np.asarray(matrices, float)
    trace = m[..., 0, 0] + m[..., 1, 1] + m[..., 2, 2]
    quarters = _joined(*(1.0 - trace + 2.0 * m[..., k, k] for k in range(3)), 1.0 + trace)
    largest = np.argmax(quarters, -1)
    a, b, c = m[..., 2, 1], m[..., 0, 2], m[..., 1, 0]
    d, e, f = m[..., 1, 2], m[..., 2, 0], m[..., 0, 1]
    xy, xz, yz = c + f, b + e, a + d
    flat = _joined(
        *(quarters[..., 0], xy, xz, a - d),
        *(xy, quarters[..., 1], yz, b - e),
        *(xz, yz, quarters[..., 2], c - f),
        *(a - d, b - e, c - f, quarters[..., 3]),
    )
    choices = flat.reshape(*flat.shape[:-1], 4, 4)
    return normalised(np.take_along_axis(choices, largest[..., None, None], -2)[..., 0, :])


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
    columns = np.linalg.norm(linear, axis=-2, keepdims=True)
    unit = linear / np.maximum(columns, 1e-12)
    gram = np.swapaxes(unit, -1, -2) @ unit
    if np.abs(gram - np.eye(3)).max(initial=0.0) < 1e-6:
        return unit
    left, _, right = np.linalg.svd(linear)
    return left @ right
