"""Rotations one by one, for arrays of any leading shape: what rig/transforms.py is made of. Quaternions are x y z w."""

import math
from functools import cached_property, update_wrapper

from numba import guvectorize
from numba.extending import register_jitable

from quiver.kernels.kinematics import after, handedness, turned

NEAR = 1e-12
"""What is shorter has no direction."""
SMALL = 1e-6
"""Between two turns whose angle has a smaller sine, the way is a straight line."""


class _Each:
    """A function of one rotation, for arrays of them: compiled when it is first called, so that importing it costs nothing."""

    def __init__(self, function, kinds, shapes):
        self._made_of = function, kinds, shapes
        update_wrapper(self, function)

    @cached_property
    def _compiled(self):
        function, kinds, shapes = self._made_of
        return guvectorize(kinds, shapes, nopython=True, cache=True)(function)

    def __call__(self, *arrays):
        return self._compiled(*arrays)


def each(kinds, shapes):
    """Make a function of one rotation one of arrays, as Numba's `guvectorize` takes kinds and shapes."""
    return lambda function: _Each(function, kinds, shapes)


@register_jitable
def unit(x, y, z, w):
    """A quaternion made one long; one of no length becomes the identity."""
    length = math.sqrt(x * x + y * y + z * z + w * w)
    if length > NEAR:
        return x / length, y / length, z / length, w / length
    return 0.0, 0.0, 0.0, 1.0


@each(["void(f8[:], f8[:])"], "(n)->(n)")
def normalised(quaternion, out):
    """A unit quaternion; one of no length becomes the identity."""
    out[0], out[1], out[2], out[3] = unit(quaternion[0], quaternion[1], quaternion[2], quaternion[3])


@each(["void(f8[:], f8[:], f8[:])"], "(n),(n)->(n)")
def multiplied(a, b, out):
    """The rotation b followed by a."""
    out[0], out[1], out[2], out[3] = after(a[0], a[1], a[2], a[3], b[0], b[1], b[2], b[3])


@each(["void(f8[:], f8[:], f8[:])"], "(n),(n)->(n)")
def crossed(a, b, out):
    """The cross product of vectors."""
    ax, ay, az, bx, by, bz = a[0], a[1], a[2], b[0], b[1], b[2]
    out[0], out[1], out[2] = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx


@each(["void(f8[:], f8[:])"], "(n)->()")
def long(vector, out):
    """How long a vector is."""
    out[0] = math.sqrt(vector[0] * vector[0] + vector[1] * vector[1] + vector[2] * vector[2])


@each(["void(f8[:, :], f8[:], f8[:])"], "(n,m),(n)->(n)")
def placed(m, point, out):
    """A point in the space of a placement, its matrix three by four, in the world."""
    x, y, z = point[0], point[1], point[2]
    for k in range(3):
        out[k] = m[k, 0] * x + m[k, 1] * y + m[k, 2] * z + m[k, 3]


@each(["void(f8[:], f8[:], f8[:])"], "(q),(n)->(n)")
def rotated(quaternion, vector, out):
    """A vector turned by a unit quaternion."""
    out[0], out[1], out[2] = turned(quaternion[0], quaternion[1], quaternion[2], quaternion[3], vector[0], vector[1], vector[2])


@each(["void(f8[:], f8[:], f8[:], f8[:])"], "(n),(n),()->(n)")
def between(a, b, share, out):
    """From unit quaternion a to b along the shorter way; exact at 0 and where a is b."""
    s, dot, same = share[0], 0.0, True
    for k in range(4):
        dot += a[k] * b[k]
        same = same and a[k] == b[k]
    if s == 0.0 or same:
        for k in range(4):
            out[k] = a[k]
        return
    side = -1.0 if dot < 0.0 else 1.0
    from_a, from_b = 1.0 - s, s
    angle = math.acos(min(abs(dot), 1.0))
    sine = math.sin(angle)
    if s == 1.0:
        from_a, from_b = 0.0, 1.0
    elif sine >= SMALL:
        from_a, from_b = math.sin((1.0 - s) * angle) / sine, math.sin(s * angle) / sine
    from_b *= side
    x, y = from_a * a[0] + from_b * b[0], from_a * a[1] + from_b * b[1]
    z, w = from_a * a[2] + from_b * b[2], from_a * a[3] + from_b * b[3]
    out[0], out[1], out[2], out[3] = unit(x, y, z, w)


@each(["void(f8[:, :], f8[:], f8[:])"], "(m,m),(q)->(q)")
def of_matrix(m, like, out):
    """The unit quaternion of a proper rotation matrix, by Shepperd's choice of the largest part; ``like`` is any quaternion."""
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    qx, qy, qz, qw = 1.0 - trace + 2.0 * m[0, 0], 1.0 - trace + 2.0 * m[1, 1], 1.0 - trace + 2.0 * m[2, 2], 1.0 + trace
    a, b, c, d, e, f = m[2, 1], m[0, 2], m[1, 0], m[1, 2], m[2, 0], m[0, 1]
    if qx >= qy and qx >= qz and qx >= qw:
        x, y, z, w = qx, c + f, b + e, a - d
    elif qy >= qz and qy >= qw:
        x, y, z, w = c + f, qy, a + d, b - e
    elif qz >= qw:
        x, y, z, w = b + e, a + d, qz, c - f
    else:
        x, y, z, w = a - d, b - e, c - f, qw
    out[0], out[1], out[2], out[3] = unit(x, y, z, w)


@each(["void(f8[:], f8[:, :], f8[:])"], "(q),(m,m)->(q)")
def seen_in(quaternion, m, out):
    """A rotation of the world as it is in an orthonormal frame, which may be mirrored."""
    x, y, z, w = quaternion[0], quaternion[1], quaternion[2], quaternion[3]
    side = handedness(m)
    out[0] = side * (m[0, 0] * x + m[1, 0] * y + m[2, 0] * z)
    out[1] = side * (m[0, 1] * x + m[1, 1] * y + m[2, 1] * z)
    out[2] = side * (m[0, 2] * x + m[1, 2] * y + m[2, 2] * z)
    out[3] = w


@each(["void(f8[:, :], f8[:, :], f8[:])"], "(m,m)->(m,m),()")
def of_unit_columns(m, out, off):
    """A matrix with its columns made one long, and how far these are from standing on each other: the largest scalar product."""
    most = 0.0
    for k in range(3):
        length = max(math.sqrt(m[0, k] * m[0, k] + m[1, k] * m[1, k] + m[2, k] * m[2, k]), NEAR)
        out[0, k], out[1, k], out[2, k] = m[0, k] / length, m[1, k] / length, m[2, k] / length
        most = max(most, abs(out[0, k] * out[0, k] + out[1, k] * out[1, k] + out[2, k] * out[2, k] - 1.0))
    for k in range(3):
        j = (k + 1) % 3
        most = max(most, abs(out[0, k] * out[0, j] + out[1, k] * out[1, j] + out[2, k] * out[2, j]))
    off[0] = most
