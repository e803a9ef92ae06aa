"""Two rigid bodies that knock against each other, after a substep of each (rigid.py); what one gets the other gives.

To the other, each body is a rounded box along its principal axes. ``shapes`` (2, SHAPE) are the boxes' cores as contacts.py says, with the
friction between both as GRIP; ``boxes`` (2, 4) their centres from the centres of mass along the principal axes, and how far their surfaces
are from the cores [m].
"""

import numpy as np
from numba import njit
from numba.extending import register_jitable

from quiver.kernels.contacts import ABOVE, BELOW, BOUND, DEEP, FRAME, GRIP, WIDE, into, touched, turned
from quiver.kernels.rigid import FREE, INVERSE_MASS, PIVOT, apart, hang, pushed, resisted, spun

ROUNDS = 4
TINY = 1e-12


@register_jitable
def put(state, box, frames, at):
    """Write where a body's box is into the frames of a collider: now at 0, a substep ago at 12."""
    qx, qy, qz, qw = state[3], state[4], state[5], state[6]
    cx, cy, cz = spun(qx, qy, qz, qw, box[0], box[1], box[2])
    frames[0, at], frames[0, at + 1], frames[0, at + 2] = state[0] + cx, state[1] + cy, state[2] + cz
    for k in range(3):
        x, y, z = spun(qx, qy, qz, qw, 1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
        frames[0, at + 3 + k], frames[0, at + 6 + k], frames[0, at + 9 + k] = x, y, z


@register_jitable
def gives(body, state, rx, ry, rz, nx, ny, nz):
    """How much a body gives way at r from its centre along n, for an impulse of one."""
    cx, cy, cz = ry * nz - rz * ny, rz * nx - rx * nz, rx * ny - ry * nx
    gx, gy, gz = resisted(body, state, cx, cy, cz)
    return body[INVERSE_MASS] + cx * gx + cy * gy + cz * gz


@register_jitable
def exchanged(one, body_one, other, body_other, x, y, z, px, py, pz, most):
    """Move a place that both bodies have in common by p against each other, by equal impulses of at most ``most``; returns the impulse."""
    length = np.sqrt(px * px + py * py + pz * pz)
    if length <= TINY:
        return 0.0
    nx, ny, nz = px / length, py / length, pz / length
    ax, ay, az = x - one[0], y - one[1], z - one[2]
    bx, by, bz = x - other[0], y - other[1], z - other[2]
    give = gives(body_one, one, ax, ay, az, nx, ny, nz) + gives(body_other, other, bx, by, bz, nx, ny, nz)
    push = min(length / give, most)
    pushed(body_one, one, ax, ay, az, push * nx, push * ny, push * nz)
    pushed(body_other, other, bx, by, bz, -push * nx, -push * ny, -push * nz)
    return push


@register_jitable
def out_of(one, old_one, body_one, points, other, old_other, body_other, shape, box, frames, pressed):
    """Push the points of one body out of the other's box, one after another.

    pressed (M, 5) as in rigid.py: impulses across and along in this substep, and where the surface looks
    """
    put(old_other, box, frames, 12)
    reach = box[3]
    for m in range(len(points)):
        put(other, box, frames, 0)
        ox, oy, oz = spun(old_one[3], old_one[4], old_one[5], old_one[6], points[m, 0], points[m, 1], points[m, 2])
        rx, ry, rz = spun(one[3], one[4], one[5], one[6], points[m, 0], points[m, 1], points[m, 2])
        x, y, z = one[0] + rx, one[1] + ry, one[2] + rz
        dx, dy, dz = x - frames[0, 0], y - frames[0, 1], z - frames[0, 2]
        sx, sy, sz = x - old_one[0] - ox - frames[0, 0] + frames[0, 12], y - old_one[1] - oy - frames[0, 1] + frames[0, 13], 0.0
        sz = z - old_one[2] - oz - frames[0, 2] + frames[0, 14]
        bound = shape[BOUND] + reach + np.sqrt(sx * sx + sy * sy + sz * sz)
        if dx * dx + dy * dy + dz * dz > bound * bound:
            continue
        bx, by, bz = into(frames, 0, 0, x, y, z)
        ax, ay, az = into(frames, 0, 12, old_one[0] + ox, old_one[1] + oy, old_one[2] + oz)
        tx, ty, tz = touched(ax, ay, az, bx, by, bz, shape[WIDE], shape[DEEP], shape[ABOVE], shape[BELOW], reach, 0.0)
        px, py, pz = turned(frames, 0, tx - bx, ty - by, tz - bz)
        length = np.sqrt(px * px + py * py + pz * pz)
        kept = pressed[m]
        if length > TINY:
            kept[0] += exchanged(one, body_one, other, body_other, x, y, z, px, py, pz, np.inf)
            kept[2], kept[3], kept[4] = px / length, py / length, pz / length
        left = shape[GRIP] * kept[0] - kept[1]
        if left <= 0.0:
            continue
        # Along the surface: from where the point would be, had it stuck to the other.
        put(other, box, frames, 0)
        rx, ry, rz = spun(one[3], one[4], one[5], one[6], points[m, 0], points[m, 1], points[m, 2])
        x, y, z = one[0] + rx, one[1] + ry, one[2] + rz
        sx, sy, sz = turned(frames, 0, ax, ay, az)
        sx, sy, sz = x - frames[0, 0] - sx, y - frames[0, 1] - sy, z - frames[0, 2] - sz
        along = sx * kept[2] + sy * kept[3] + sz * kept[4]
        sx, sy, sz = along * kept[2] - sx, along * kept[3] - sy, along * kept[4] - sz
        kept[1] += exchanged(one, body_one, other, body_other, x, y, z, sx, sy, sz, left)


@register_jitable
def hang_again(body, state, kind, aim):
    """Bring a body's pivot back to where it hangs, if it does."""
    if kind != FREE:
        rx, ry, rz = spun(aim[3], aim[4], aim[5], aim[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
        hang(body, state, aim[0] + rx, aim[1] + ry, aim[2] + rz)


@register_jitable
def quicken(state, before, dt):
    """Let the velocities know how the body was moved since ``before``."""
    wx, wy, wz = apart(before, state)
    for k, spin in enumerate((wx, wy, wz)):
        state[7 + k] += (state[k] - before[k]) / dt
        state[10 + k] += spin / dt


def _knock(
    one,
    old_one,
    body_one,
    kind_one,
    aim_one,
    points_one,
    other,
    old_other,
    body_other,
    kind_other,
    aim_other,
    points_other,
    shapes,
    boxes,
    dt,
):
    """Keep two bodies out of each other after a substep, in place.

    one, other (13,) their states as in rigid.py, old ones a substep ago; kinds, bodies, points likewise; aims (7,) where they are keyed
    """
    frames = np.empty((1, FRAME))
    pressed_one, pressed_other = np.zeros((len(points_one), 5)), np.zeros((len(points_other), 5))
    before_one, before_other = one.copy(), other.copy()
    for _ in range(ROUNDS):
        out_of(one, old_one, body_one, points_one, other, old_other, body_other, shapes[1], boxes[1], frames, pressed_one)
        out_of(other, old_other, body_other, points_other, one, old_one, body_one, shapes[0], boxes[0], frames, pressed_other)
        hang_again(body_one, one, kind_one, aim_one)
        hang_again(body_other, other, kind_other, aim_other)
    quicken(one, before_one, dt)
    quicken(other, before_other, dt)


knock = njit(nogil=True, cache=True, error_model="numpy")(_knock)
