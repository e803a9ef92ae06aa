"""Rows of the arrays of kernels/chains.py, and what its parts do with vectors and matrices of lanes.

Chains that grow on each other are one *tree* in one lane, all trees of a block alike: first the trunk's segments, then each branch's, so
that each segment follows the one before it, but for the first of a branch, the *rider*: its begin, its *foot*, is carried by an
earlier segment, the *carrier*, as by a rigid body. ``forks``, int32 (n, 4), says so for each segment: CARRIER, the row of the carrier, -1
for what is no rider; RIDE, which of the riders it is, -1; CARRIES, whether it is a carrier; DENSE, whether it or one
after it on the same branch is one.
"""

from numba.extending import register_jitable

from quiver.kernels.lanes import larger, load, sqrt, store, where_less

CARRIER, RIDE, CARRIES, DENSE = range(4)

INVERSE_MASS = 0
"""0 where a particle is held."""
BEND = 1
"""Stiffness of the bend times dt squared [kg]."""
STRETCH_COMPLIANCE = 2
"""Of the length, over dt squared; DISCONNECTED where nothing holds it."""
DISCONNECTED = 1e12
"""A compliance at which a constraint moves nothing any more (float32 keeps about seven digits)."""
DAMPING_FACTOR = 3
"""Share of the velocity relative to the keyed motion that survives one substep."""
DRAG_FACTOR = 4
"""Share of the world velocity that survives one substep."""
GRAVITY = 5
"""Velocity that gravity adds in one substep, three rows."""
COS_LIMIT = 8
SIN_LIMIT = 9
SPEED_LIMIT = 10
"""The most a particle may move against its keyed motion [m/s]; no sane motion comes near it."""
TAUT = 11
"""1 where both ends are held, else 0."""
STRETCH_LIMIT = 12
"""How far beyond its keyed length, as a share of it, a segment goes at the most."""
MASS = 13
"""What resists a particle: its mass, or, where it is held, much more than the others'."""
FOLD = 14
"""What resists it that a segment folds back onto the one before, times dt squared [kg]: see `FOLDED` of kernels/bends.py."""
PARAMS = 15

START, ERROR, AIM, WAY, INVERSE, BEGAN, ROOM = 0, 3, 6, 9, 12, 13, 16
"""Scratch rows of a segment: where its end was when the substep began; how far it is from where its bend wants it; that vector, from its
begin, as long as it is; where it looks, one over its length, where it looked when the substep began; and room for one solve."""
BLOCKED = ROOM + 29
"""One way in which a segment must not swing, zeros where it may; then 1 where it must not at all."""
SCRATCH = BLOCKED + 4
OFFSET, FOOT, OFFSET_START, FOOT_START = 0, 3, 6, 9
"""Fork rows, more rows of a segment of a tree. Of a rider: how far its foot is from its carrier's begin, and its foot's displacement; both
when the substep began."""
TURN, MOVED, TURNED, KEYED = 12, 16, 19, 22
"""Of a carrier: its turn (w x y z), how far its begin moved in the last step and how far it turned, where its begin is keyed."""
HANGS, PULLS = 25, 52
"""Of a carrier, and of what is dense: what hangs on it in a solve; how it, or a rider, pulls at what it hangs on."""
WAY_START, TURN_START = 94, 97
"""Of what is dense: where it looked when the substep began, and how it turned then, as `turns_of` of kernels/lengths.py says."""
FORK = 109
ALONG_AXIS = 1e-3
"""Squared sine of the angle between a segment and an axis along which it lies."""
TINY = 1e-20
"""Guards divisions by a squared length; far below the square of any length a character has."""


@register_jitable
def load3(array, row):
    return load(array, row), load(array, row + 1), load(array, row + 2)


@register_jitable
def store3(array, row, x, y, z):
    store(array, row, x)
    store(array, row + 1, y)
    store(array, row + 2, z)


@register_jitable
def load6(array, row):
    return (*load3(array, row), *load3(array, row + 3))


@register_jitable
def load9(array, row):
    return (*load6(array, row), *load3(array, row + 6))


@register_jitable
def store6(array, row, m):
    store3(array, row, m[0], m[1], m[2])
    store3(array, row + 3, m[3], m[4], m[5])


@register_jitable
def store9(array, row, m):
    store6(array, row, m[0:6])
    store3(array, row + 6, m[6], m[7], m[8])


@register_jitable
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@register_jitable
def cross(a, b):
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@register_jitable
def plus(a, b):
    return a[0] + b[0], a[1] + b[1], a[2] + b[2]


@register_jitable
def minus(a, b):
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@register_jitable
def with_share(a, b, share):
    """a + share b."""
    return a[0] + b[0] * share, a[1] + b[1] * share, a[2] + b[2] * share


@register_jitable
def with_outer(m, a, b):
    """A matrix and the outer product of two vectors."""
    x, y, z = with_share(m[0:3], b, a[0]), with_share(m[3:6], b, a[1]), with_share(m[6:9], b, a[2])
    return x[0], x[1], x[2], y[0], y[1], y[2], z[0], z[1], z[2]


@register_jitable
def plus9(a, b):
    return a[0] + b[0], a[1] + b[1], a[2] + b[2], a[3] + b[3], a[4] + b[4], a[5] + b[5], a[6] + b[6], a[7] + b[7], a[8] + b[8]


@register_jitable
def minus9(a, b):
    return a[0] - b[0], a[1] - b[1], a[2] - b[2], a[3] - b[3], a[4] - b[4], a[5] - b[5], a[6] - b[6], a[7] - b[7], a[8] - b[8]


@register_jitable
def scaled(a, share):
    return a[0] * share, a[1] * share, a[2] * share


@register_jitable
def through(m, v):
    """A matrix (nine, row by row) times a vector."""
    return dot(m[0:3], v), dot(m[3:6], v), dot(m[6:9], v)


@register_jitable
def back_through(m, v):
    """A transposed matrix times a vector."""
    return with_share(with_share(scaled(m[0:3], v[0]), m[3:6], v[1]), m[6:9], v[2])


@register_jitable
def mirrored(m):
    """A matrix transposed."""
    return m[0], m[3], m[6], m[1], m[4], m[7], m[2], m[5], m[8]


@register_jitable
def product(a, b):
    """A matrix times a matrix."""
    b = mirrored(b)
    x, y, z = through(a, b[0:3]), through(a, b[3:6]), through(a, b[6:9])
    return x[0], y[0], z[0], x[1], y[1], z[1], x[2], y[2], z[2]


@register_jitable
def outer(a, b):
    return a[0] * b[0], a[0] * b[1], a[0] * b[2], a[1] * b[0], a[1] * b[1], a[1] * b[2], a[2] * b[0], a[2] * b[1], a[2] * b[2]


@register_jitable
def crossing(v):
    """The matrix M with M x = v x x; transposed, with x x v."""
    x, y, z = v
    zero = x * 0.0
    return zero, -z, y, z, zero, -x, -y, x, zero


@register_jitable
def inverted(m, least):
    """(the inverse of a matrix, its determinant), which is taken for so much at the least."""
    a, b, c = cross(m[3:6], m[6:9]), cross(m[6:9], m[0:3]), cross(m[0:3], m[3:6])
    volume = dot(m[0:3], a)
    share = 1.0 / larger(larger(volume, least), TINY)
    a, b, c = scaled(a, share), scaled(b, share), scaled(c, share)
    return (a[0], b[0], c[0], a[1], b[1], c[1], a[2], b[2], c[2]), volume


@register_jitable
def rotate(qw, qx, qy, qz, x, y, z):
    """Turn a vector by a unit quaternion; exact where the quaternion is the identity."""
    tx = 2.0 * (qy * z - qz * y)
    ty = 2.0 * (qz * x - qx * z)
    tz = 2.0 * (qx * y - qy * x)
    return x + qw * tx + (qy * tz - qz * ty), y + qw * ty + (qz * tx - qx * tz), z + qw * tz + (qx * ty - qy * tx)


@register_jitable
def blocked_way(axes, row, qw, qx, qy, qz, aim):
    """(the way in which a segment must not swing, 1 where it must in none): rows of its two axes, turned by a quaternion; its aim, a unit.

    About the first axis it must not turn, or it must about the second only; either may be zeros. What lies along a hinge stays there.
    """
    axis, hinge = rotate(qw, qx, qy, qz, *load3(axes, row)), rotate(qw, qx, qy, qz, *load3(axes, row + 3))
    x, y, z = with_share(plus(cross(axis, aim), hinge), aim, -dot(hinge, aim))
    square = x * x + y * y + z * z
    share = where_less(ALONG_AXIS, square, 1.0 / sqrt(larger(square, ALONG_AXIS)), 0.0)
    return (x * share, y * share, z * share), where_less(0.25, dot(hinge, hinge), where_less(ALONG_AXIS, square, 0.0, 1.0), 0.0)


@register_jitable
def turn_onto(qw, qx, qy, qz, ax, ay, az, bx, by, bz):
    """The quaternion q followed by the shortest turn from direction a onto direction b."""
    lengths = sqrt((ax * ax + ay * ay + az * az) * (bx * bx + by * by + bz * bz))
    # Opposite directions have no shortest turn; the floor picks one instead of dividing by zero.
    rw = larger(lengths + (ax * bx + ay * by + az * bz), lengths * 1e-4 + TINY)
    rx = ay * bz - az * by
    ry = az * bx - ax * bz
    rz = ax * by - ay * bx
    inverse = 1.0 / sqrt(rw * rw + (rx * rx + ry * ry + rz * rz))
    # x * (1 / x) need not be one.
    rw = where_less(0.0, rx * rx + ry * ry + rz * rz, rw * inverse, 1.0)
    rx = rx * inverse
    ry = ry * inverse
    rz = rz * inverse
    return (
        rw * qw - rx * qx - ry * qy - rz * qz,
        rw * qx + rx * qw + ry * qz - rz * qy,
        rw * qy - rx * qz + ry * qw + rz * qx,
        rw * qz + rx * qy - ry * qx + rz * qw,
    )


@register_jitable
def turn_of(scratch, carrier):
    """The turn of a carrier (its fork row), w x y z."""
    return load(scratch, carrier + TURN), *load3(scratch, carrier + TURN + 1)


@register_jitable
def twist_of(aim, way):
    """By how much the shortest turn from an aim onto a way, both units, twists as the way swings."""
    return scaled(cross(aim, way), 1.0 / larger(1.0 + dot(aim, way), 1e-4))


@register_jitable
def carried_along(scratch, carrier, rider):
    """How far the foot of a rider moved in the last step of its carrier (fork rows of both)."""
    x, y, z = cross(load3(scratch, carrier + TURNED), load3(scratch, rider + OFFSET))
    mx, my, mz = load3(scratch, carrier + MOVED)
    return mx + x, my + y, mz + z


@register_jitable
def begin_of(i, n, state, s0, forks, scratch):
    """The displacement of where a segment begins: the end of the one before it, the root, or its foot."""
    if forks[i, CARRIER] >= 0:
        return load3(scratch, SCRATCH * n + FORK * i + FOOT)
    if i == 0:
        zero = load(state, s0) * 0.0
        return zero, zero, zero
    return load3(state, s0 + 6 * i - 6)
