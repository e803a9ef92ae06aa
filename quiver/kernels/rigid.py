"""A rigid body on a pivot, in small substeps: position-based rigid bodies (Müller et al. 2020), one body at a time, in float64.

``state`` (13,): centre of mass x y z [m], turn x y z w (from the body's principal axes to the world), velocity [m/s], spin [rad/s].
``keyed`` (S + 1, 7): the body's keyed place and turn before the first and after each of S substeps. ``body`` (10,): see the constants.
"""

import numpy as np
from numba import njit
from numba.extending import register_jitable

from quiver.kernels.contacts import ABOVE, BELOW, BOUND, DEEP, GRIP, NEVER, WIDE, into, touched, turned

INVERSE_MASS = 0
INVERSE_INERTIA = 1
"""About the three principal axes [1/(kg m2)]."""
PIVOT = 4
"""Where it hangs, from the centre of mass along the principal axes [m]."""
AXIS = 7
"""The hinge's axis along the principal axes; zero for none."""
BODY = 10
BALL, HINGE, FREE = 0, 1, 2
ROUNDS = 4
"""Times that contacts and pivot are solved after each other in a substep."""
MIDDLES = 3
"""Times that the turn in the middle of a substep is found anew."""
TINY = 1e-12


@register_jitable
def spun(qx, qy, qz, qw, x, y, z):
    """A vector turned by a quaternion."""
    tx, ty, tz = 2.0 * (qy * z - qz * y), 2.0 * (qz * x - qx * z), 2.0 * (qx * y - qy * x)
    return x + qw * tx + qy * tz - qz * ty, y + qw * ty + qz * tx - qx * tz, z + qw * tz + qx * ty - qy * tx


@register_jitable
def resisted(body, state, x, y, z):
    """The inverse inertia in the world times a vector."""
    qx, qy, qz, qw = state[3], state[4], state[5], state[6]
    x, y, z = spun(-qx, -qy, -qz, qw, x, y, z)
    return spun(qx, qy, qz, qw, body[INVERSE_INERTIA] * x, body[INVERSE_INERTIA + 1] * y, body[INVERSE_INERTIA + 2] * z)


@register_jitable
def resisting(body, state, x, y, z):
    """The inertia in the world times a vector."""
    qx, qy, qz, qw = state[3], state[4], state[5], state[6]
    x, y, z = spun(-qx, -qy, -qz, qw, x, y, z)
    return spun(qx, qy, qz, qw, x / body[INVERSE_INERTIA], y / body[INVERSE_INERTIA + 1], z / body[INVERSE_INERTIA + 2])


@register_jitable
def turn_by(state, x, y, z):
    """Turn the body by a rotation vector."""
    qx, qy, qz, qw = state[3], state[4], state[5], state[6]
    angle = np.sqrt(x * x + y * y + z * z)
    share = np.sin(0.5 * angle) / angle if angle > TINY else 0.5
    hx, hy, hz, hw = share * x, share * y, share * z, np.cos(0.5 * angle)
    nx, ny, nz = hw * qx + hx * qw + hy * qz - hz * qy, hw * qy + hy * qw + hz * qx - hx * qz, hw * qz + hz * qw + hx * qy - hy * qx
    nw = hw * qw - hx * qx - hy * qy - hz * qz
    length = np.sqrt(nx * nx + ny * ny + nz * nz + nw * nw)
    state[3], state[4], state[5], state[6] = nx / length, ny / length, nz / length, nw / length


@register_jitable
def swing_by(body, state, x, y, z):
    """Turn the body about its pivot by a rotation vector."""
    ax, ay, az = spun(state[3], state[4], state[5], state[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
    turn_by(state, x, y, z)
    bx, by, bz = spun(state[3], state[4], state[5], state[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
    state[0], state[1], state[2] = state[0] + ax - bx, state[1] + ay - by, state[2] + az - bz


@register_jitable
def pushed(body, state, rx, ry, rz, px, py, pz):
    """Give the body an impulse p (as a change of place) at r from its centre."""
    for k, p in enumerate((px, py, pz)):
        state[k] += body[INVERSE_MASS] * p
    x, y, z = resisted(body, state, ry * pz - rz * py, rz * px - rx * pz, rx * py - ry * px)
    turn_by(state, x, y, z)


@register_jitable
def hang(body, state, x, y, z):
    """Bring the pivot to a place: three equations for the impulse there, solved at once."""
    rx, ry, rz = spun(state[3], state[4], state[5], state[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
    matrix = np.empty((3, 3))
    for k in range(3):
        ex, ey, ez = (1.0 if k == 0 else 0.0), (1.0 if k == 1 else 0.0), (1.0 if k == 2 else 0.0)
        ax, ay, az = resisted(body, state, ry * ez - rz * ey, rz * ex - rx * ez, rx * ey - ry * ex)
        matrix[0, k] = body[INVERSE_MASS] * ex + ay * rz - az * ry
        matrix[1, k] = body[INVERSE_MASS] * ey + az * rx - ax * rz
        matrix[2, k] = body[INVERSE_MASS] * ez + ax * ry - ay * rx
    off = np.array([x - state[0] - rx, y - state[1] - ry, z - state[2] - rz])
    push = np.linalg.solve(matrix, off)
    pushed(body, state, rx, ry, rz, push[0], push[1], push[2])


@register_jitable
def align(body, state, keyed, share):
    """Turn the hinge's axis by a share of the way onto its keyed direction."""
    ax, ay, az = spun(state[3], state[4], state[5], state[6], body[AXIS], body[AXIS + 1], body[AXIS + 2])
    bx, by, bz = spun(keyed[3], keyed[4], keyed[5], keyed[6], body[AXIS], body[AXIS + 1], body[AXIS + 2])
    swing_by(body, state, share * (ay * bz - az * by), share * (az * bx - ax * bz), share * (ax * by - ay * bx))


@register_jitable
def apart(one, other):
    """The rotation vector, at most half a turn, from one turn (at 3..6) to another."""
    ax, ay, az, aw = one[3], one[4], one[5], one[6]
    bx, by, bz, bw = other[3], other[4], other[5], other[6]
    x = aw * bx - bw * ax + ay * bz - az * by
    y = aw * by - bw * ay + az * bx - ax * bz
    z = aw * bz - bw * az + ax * by - ay * bx
    w = aw * bw + ax * bx + ay * by + az * bz
    length = np.sqrt(x * x + y * y + z * z)
    angle = 2.0 * np.arctan2(length, abs(w))
    share = (angle if w >= 0.0 else -angle) / max(length, TINY)
    return share * x, share * y, share * z


@register_jitable
def limit_swing(body, state, keyed, limit):
    """Turn the body back where the way from its pivot to its centre is further from the keyed way than a limit [rad]."""
    px, py, pz = -body[PIVOT], -body[PIVOT + 1], -body[PIVOT + 2]
    ax, ay, az = spun(state[3], state[4], state[5], state[6], px, py, pz)
    bx, by, bz = spun(keyed[3], keyed[4], keyed[5], keyed[6], px, py, pz)
    x, y, z = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    length = np.sqrt(x * x + y * y + z * z)
    over = np.arctan2(length, ax * bx + ay * by + az * bz) - limit
    if over > 0.0 and length > TINY:
        swing_by(body, state, over * x / length, over * y / length, over * z / length)


@register_jitable
def pushed_along(body, state, rx, ry, rz, px, py, pz, most):
    """Move the body's point at r by p, with an impulse of at most ``most``; returns the impulse."""
    length = np.sqrt(px * px + py * py + pz * pz)
    if length <= TINY:
        return 0.0
    px, py, pz = px / length, py / length, pz / length
    cx, cy, cz = ry * pz - rz * py, rz * px - rx * pz, rx * py - ry * px
    gx, gy, gz = resisted(body, state, cx, cy, cz)
    push = min(length / (body[INVERSE_MASS] + cx * gx + cy * gy + cz * gz), most)
    pushed(body, state, rx, ry, rz, push * px, push * py, push * pz)
    return push


@register_jitable
def touch(body, state, old, first, points, reaches, widest, frames, shapes, pressed):
    """Push the body's points out of the colliders, one after another, and hold them back along the surface by Coulomb's law.

    widest (K,) how far from a core a point of the body may touch, seen from the body's centre [m]
    pressed (M, K, 5): for each point and collider the impulses across and along the surface in this substep, and where the surface looks
    """
    moved = np.sqrt((state[0] - old[0]) ** 2 + (state[1] - old[1]) ** 2 + (state[2] - old[2]) ** 2)
    for k in range(len(shapes)):
        row = first + k
        dx, dy, dz = state[0] - frames[row, 0], state[1] - frames[row, 1], state[2] - frames[row, 2]
        near = shapes[k, BOUND] + widest[k] + moved
        if near < 0.0 or dx * dx + dy * dy + dz * dz > near * near:
            continue
        for m in range(len(points)):
            reach, kept = reaches[m, k], pressed[m, k]
            if reach <= NEVER:
                continue
            ox, oy, oz = spun(old[3], old[4], old[5], old[6], points[m, 0], points[m, 1], points[m, 2])
            rx, ry, rz = spun(state[3], state[4], state[5], state[6], points[m, 0], points[m, 1], points[m, 2])
            x, y, z = state[0] + rx, state[1] + ry, state[2] + rz
            dx, dy, dz = x - frames[row, 0], y - frames[row, 1], z - frames[row, 2]
            mx, my, mz = x - old[0] - ox, y - old[1] - oy, z - old[2] - oz
            bound = max(shapes[k, BOUND] + reach, 0.0) + np.sqrt(mx * mx + my * my + mz * mz)
            if dx * dx + dy * dy + dz * dz > bound * bound:
                continue
            bx, by, bz = into(frames, row, 0, x, y, z)
            ax, ay, az = into(frames, row, 12, old[0] + ox, old[1] + oy, old[2] + oz)
            core = shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW]
            tx, ty, tz = touched(ax, ay, az, bx, by, bz, *core, reach, 0.0)
            px, py, pz = turned(frames, row, tx - bx, ty - by, tz - bz)
            length = np.sqrt(px * px + py * py + pz * pz)
            if length > TINY:
                kept[0] += pushed_along(body, state, rx, ry, rz, px, py, pz, np.inf)
                kept[2], kept[3], kept[4] = px / length, py / length, pz / length
            left = shapes[k, GRIP] * kept[0] - kept[1]
            if left <= 0.0:
                continue
            # Against the collider as it moved: from where the point would be, had it stuck to it.
            rx, ry, rz = spun(state[3], state[4], state[5], state[6], points[m, 0], points[m, 1], points[m, 2])
            sx, sy, sz = turned(frames, row, ax, ay, az)
            sx, sy, sz = state[0] + rx - frames[row, 0] - sx, state[1] + ry - frames[row, 1] - sy, state[2] + rz - frames[row, 2] - sz
            along = sx * kept[2] + sy * kept[3] + sz * kept[4]
            sx, sy, sz = along * kept[2] - sx, along * kept[3] - sy, along * kept[4] - sz
            kept[1] += pushed_along(body, state, rx, ry, rz, sx, sy, sz, left)


def _advance_rigid(state, body, kind, keyed, dt, pull, keep, air, hold, limit, points, reaches, frames, shapes, record):
    """Advance one body through S substeps of ``dt`` seconds, in place.

    kind BALL, HINGE or FREE; pull (3,) [m/s2]; keep, air shares of the motion against the keyed one, and of all motion, that survive a
    substep; hold the share of the way to its keyed turn that it is drawn in one; limit [rad] of its swing
    points (M, 3) of its surface along the principal axes [m], reaches (M, K); frames, shapes as kernels/contacts.py says
    record (S, 7) receives place and turn after each substep
    """
    many = len(shapes)
    pressed, widest = np.zeros((len(points), many, 5)), np.full(many, NEVER)
    for m in range(len(points)):
        size = np.sqrt(points[m, 0] ** 2 + points[m, 1] ** 2 + points[m, 2] ** 2)
        for k in range(many):
            widest[k] = max(widest[k], reaches[m, k] + size)
    for step in range(len(keyed) - 1):
        old, aim, before = state.copy(), keyed[step + 1], keyed[step]
        wx, wy, wz = apart(before, aim)
        for k, spin in enumerate((wx / dt, wy / dt, wz / dt)):
            if kind != FREE:
                speed = (aim[k] - before[k]) / dt
                state[7 + k] = speed + (state[7 + k] - speed) * keep
            state[7 + k] = (state[7 + k] + dt * pull[k]) * air
            state[10 + k] = (spin + (state[10 + k] - spin) * keep) * air
            state[k] += dt * state[7 + k]
        # What is not round wobbles as it spins: the angular momentum stays, from the middle of the last substep to that of this one.
        sx, sy, sz = state[10], state[11], state[12]
        turn_by(state, -0.5 * dt * sx, -0.5 * dt * sy, -0.5 * dt * sz)
        mx, my, mz = resisting(body, state, sx, sy, sz)
        for _ in range(MIDDLES):
            state[3], state[4], state[5], state[6] = old[3], old[4], old[5], old[6]
            turn_by(state, 0.5 * dt * sx, 0.5 * dt * sy, 0.5 * dt * sz)
            sx, sy, sz = resisted(body, state, mx, my, mz)
        state[3], state[4], state[5], state[6] = old[3], old[4], old[5], old[6]
        turn_by(state, dt * sx, dt * sy, dt * sz)
        if hold > 0.0:
            x, y, z = apart(state, aim)
            swing_by(body, state, hold * x, hold * y, hold * z)
        rx, ry, rz = spun(aim[3], aim[4], aim[5], aim[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
        pressed[:] = 0.0
        for _ in range(ROUNDS):
            if many > 0:
                touch(body, state, old, step * many, points, reaches, widest, frames, shapes, pressed)
            if kind == HINGE:
                align(body, state, aim, 1.0)
            if kind != FREE:
                if limit < np.pi:
                    limit_swing(body, state, aim, limit)
                hang(body, state, aim[0] + rx, aim[1] + ry, aim[2] + rz)
        wx, wy, wz = apart(old, state)
        for k, spin in enumerate((wx, wy, wz)):
            state[7 + k] = (state[k] - old[k]) / dt
            state[10 + k] = spin / dt
        record[step] = state[:7]


advance_rigid = njit(nogil=True, cache=True, error_model="numpy")(_advance_rigid)
