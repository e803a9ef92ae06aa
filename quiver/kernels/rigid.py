"""A rigid body on a pivot, in small substeps: position-based rigid bodies (Müller et al. 2020), in float64.

``state`` (13,): centre of mass x y z [m], turn x y z w (from the body's principal axes to the world), velocity [m/s], spin [rad/s].
``body`` (BODY,), ``settings`` (SETTINGS,) and ``contact`` (CONTACT,), what is known of one contact in one substep: see the constants.
A body of zeros is immovable.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.contacts import ABOVE, BELOW, BOUND, DEEP, EASE, FRICTION, NEVER, SLACK, WIDE, into, outwards, touched, turned

INVERSE_MASS = 0
INVERSE_INERTIA = 1
"""About the three principal axes [1/(kg m2)]."""
PIVOT = 4
"""Where it hangs, from the centre of mass along the principal axes [m]."""
AXIS = 7
"""The hinge's axis along the principal axes; zero for none."""
BODY = 10
BALL, HINGE, FREE = 0, 1, 2
PULL, DAMPING_FACTOR, DRAG_FACTOR, HOLD, LIMIT, SETTINGS = 0, 3, 4, 5, 6, 7
"""What pulls at it, three numbers [m/s2]; the shares of the motion against the keyed one, and of all motion, that survive a substep; the
stiffness of the spring to its keyed turn [1/s2]; the most that it may swing [rad]."""
RADIUS = 3
"""Column of the points: how far its surface is around each, a ball [m]."""
ACROSS, ALONG, NORMAL, SURFACE_MOVE, ROUGH, CONTACT = 0, 1, 4, 7, 10, 11
"""The impulse across the surface, that along it [kg m], where the surface looks, how far it moved there [m]; three numbers each but the
first; and the coefficient of friction."""
QUICK = 0.5
"""Cosine of the turn in one substep from which on an impulse at a pivot acts where the substep ends."""
MIDDLES = 3
"""Times that the turn in the middle of a substep is found anew."""
TINY = 1e-12
SMALL_TURN = 1e-4
"""Square of half an angle [rad2] from which on it takes more than the first few terms of a series."""


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
    half = 0.25 * (x * x + y * y + z * z)
    if half < SMALL_TURN:
        # The series of sine and cosine, exact to the last bit but one.
        share = 0.5 * (1.0 - half * (1.0 / 6.0 - half * (1.0 / 120.0)))
        hw = 1.0 - half * (0.5 - half * (1.0 / 24.0 - half * (1.0 / 720.0)))
    else:
        angle = np.sqrt(half)
        share, hw = 0.5 * np.sin(angle) / angle, np.cos(angle)
    hx, hy, hz = share * x, share * y, share * z
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
    if body[INVERSE_MASS] == 0.0:
        return
    for k, p in enumerate((px, py, pz)):
        state[k] += body[INVERSE_MASS] * p
    x, y, z = resisted(body, state, ry * pz - rz * py, rz * px - rx * pz, rx * py - ry * px)
    turn_by(state, x, y, z)


@register_jitable
def moved_by(body, state, rx, ry, rz, x, y, z):
    """How what is at r from the centre moves when the body turns by what an impulse of turn x y z gives it."""
    x, y, z = resisted(body, state, x, y, z)
    return y * rz - z * ry, z * rx - x * rz, x * ry - y * rx


@register_jitable
def hang(body, state, old, x, y, z):
    """Bring the pivot to a place: three equations for the impulse there, solved at once.

    The impulse acts where the pivot was when the substep began, as the constraint forces of Verlet's method do (Ryckaert et al. 1977):
    acting where it ends, they would brake the swing.
    """
    rx, ry, rz = spun(state[3], state[4], state[5], state[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
    lx, ly, lz = spun(old[3], old[4], old[5], old[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
    if rx * lx + ry * ly + rz * lz < QUICK * (rx * rx + ry * ry + rz * rz):
        lx, ly, lz = rx, ry, rz
    # The columns a, b, c say how the pivot moves for an impulse of one along x, y and z.
    ax, ay, az = moved_by(body, state, rx, ry, rz, 0.0, lz, -ly)
    bx, by, bz = moved_by(body, state, rx, ry, rz, -lz, 0.0, lx)
    cx, cy, cz = moved_by(body, state, rx, ry, rz, ly, -lx, 0.0)
    ax, by, cz = ax + body[INVERSE_MASS], by + body[INVERSE_MASS], cz + body[INVERSE_MASS]
    ox, oy, oz = x - state[0] - rx, y - state[1] - ry, z - state[2] - rz
    # By Cramer's rule.
    ux, uy, uz = by * cz - bz * cy, bz * cx - bx * cz, bx * cy - by * cx
    vx, vy, vz = cy * az - cz * ay, cz * ax - cx * az, cx * ay - cy * ax
    wx, wy, wz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    share = 1.0 / (ax * ux + ay * uy + az * uz)
    px, py, pz = share * (ox * ux + oy * uy + oz * uz), share * (ox * vx + oy * vy + oz * vz), share * (ox * wx + oy * wy + oz * wz)
    pushed(body, state, lx, ly, lz, px, py, pz)


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
def begun(state, old, body, kind, before, aim, dt, settings):
    """Move the body through a substep as if nothing touched it; it is keyed from ``before`` to ``aim`` (7,)."""
    damping_factor, drag_factor, hold = settings[DAMPING_FACTOR], settings[DRAG_FACTOR], settings[HOLD]
    wx, wy, wz = apart(before, aim)
    # The spring turns it about what it hangs by; its force is that of where the substep begins, so it takes no energy.
    hx, hy, hz = apart(state, before) if hold > 0.0 else (0.0, 0.0, 0.0)
    hx, hy, hz = dt * hold * hx, dt * hold * hy, dt * hold * hz
    cx, cy, cz = 0.0, 0.0, 0.0
    if kind != FREE:
        cx, cy, cz = spun(state[3], state[4], state[5], state[6], -body[PIVOT], -body[PIVOT + 1], -body[PIVOT + 2])
    turns, swings = (hx, hy, hz), (hy * cz - hz * cy, hz * cx - hx * cz, hx * cy - hy * cx)
    for k, spin in enumerate((wx / dt, wy / dt, wz / dt)):
        if kind != FREE:
            speed = (aim[k] - before[k]) / dt
            state[7 + k] = speed + (state[7 + k] - speed) * damping_factor
        state[7 + k] = (state[7 + k] + dt * settings[PULL + k] + swings[k]) * drag_factor
        state[10 + k] = (spin + (state[10 + k] - spin) * damping_factor + turns[k]) * drag_factor
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


@register_jitable
def joined(state, old, body, kind, aim, settings):
    """Bring a body back to where it hangs, if it does."""
    if kind == HINGE:
        align(body, state, aim, 1.0)
    if kind != FREE:
        if settings[LIMIT] < np.pi:
            limit_swing(body, state, aim, settings[LIMIT])
        rx, ry, rz = spun(aim[3], aim[4], aim[5], aim[6], body[PIVOT], body[PIVOT + 1], body[PIVOT + 2])
        hang(body, state, old, aim[0] + rx, aim[1] + ry, aim[2] + rz)


@register_jitable
def finished(state, old, dt):
    """Find the velocities after a substep."""
    wx, wy, wz = apart(old, state)
    for k, spin in enumerate((wx, wy, wz)):
        state[7 + k] = (state[k] - old[k]) / dt
        state[10 + k] = spin / dt


@register_jitable
def inverse_mass_along(body, state, rx, ry, rz, nx, ny, nz):
    """How much a body gives way at r from its centre along n, for an impulse of one."""
    if body[INVERSE_MASS] == 0.0:
        return 0.0
    cx, cy, cz = ry * nz - rz * ny, rz * nx - rx * nz, rx * ny - ry * nx
    gx, gy, gz = resisted(body, state, cx, cy, cz)
    return body[INVERSE_MASS] + cx * gx + cy * gy + cz * gz


@register_jitable
def exchanged(one, body_one, other, body_other, x, y, z, px, py, pz, most):
    """Move a place that two bodies have in common by p against each other, by equal impulses of at most ``most``; returns the impulse."""
    length = np.sqrt(px * px + py * py + pz * pz)
    if length <= TINY:
        return 0.0
    nx, ny, nz = px / length, py / length, pz / length
    ax, ay, az = x - one[0], y - one[1], z - one[2]
    bx, by, bz = x - other[0], y - other[1], z - other[2]
    inverse_mass = inverse_mass_along(body_one, one, ax, ay, az, nx, ny, nz) + inverse_mass_along(body_other, other, bx, by, bz, nx, ny, nz)
    push = min(length / inverse_mass, most)
    pushed(body_one, one, ax, ay, az, push * nx, push * ny, push * nz)
    pushed(body_other, other, bx, by, bz, -push * nx, -push * ny, -push * nz)
    return push


@register_jitable
def impelled(body, state, rx, ry, rz, px, py, pz):
    """Give the body's velocities an impulse p [kg m/s] at r from its centre."""
    if body[INVERSE_MASS] == 0.0:
        return
    for k, p in enumerate((px, py, pz)):
        state[7 + k] += body[INVERSE_MASS] * p
    x, y, z = resisted(body, state, ry * pz - rz * py, rz * px - rx * pz, rx * py - ry * px)
    for k, spin in enumerate((x, y, z)):
        state[10 + k] += spin


@register_jitable
def speeds(one, other, contact, dt, ax, ay, az, bx, by, bz):
    """How fast two bodies move against each other where they touch, at a and b from their centres."""
    return (
        one[7] + one[11] * az - one[12] * ay - other[7] - other[11] * bz + other[12] * by - contact[SURFACE_MOVE] / dt,
        one[8] + one[12] * ax - one[10] * az - other[8] - other[12] * bx + other[10] * bz - contact[SURFACE_MOVE + 1] / dt,
        one[9] + one[10] * ay - one[11] * ax - other[9] - other[10] * by + other[11] * bx - contact[SURFACE_MOVE + 2] / dt,
    )


@register_jitable
def calmed(one, body_one, other, body_other, x, y, z, contact, dt):
    """Let two bodies that touch at a place fly apart there no faster than their contact explains, by impulses that only push.

    What was let out of the other would else keep the speed of that, and one that lies on another would dance.
    """
    nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
    ax, ay, az = x - one[0], y - one[1], z - one[2]
    bx, by, bz = x - other[0], y - other[1], z - other[2]
    vx, vy, vz = speeds(one, other, contact, dt, ax, ay, az, bx, by, bz)
    inverse_mass = inverse_mass_along(body_one, one, ax, ay, az, nx, ny, nz) + inverse_mass_along(body_other, other, bx, by, bz, nx, ny, nz)
    if inverse_mass <= TINY:
        return
    push = max(-(vx * nx + vy * ny + vz * nz) / inverse_mass, -contact[ACROSS] / dt)
    contact[ACROSS] += push * dt
    impelled(body_one, one, ax, ay, az, push * nx, push * ny, push * nz)
    impelled(body_other, other, bx, by, bz, -push * nx, -push * ny, -push * nz)
    # What friction holds does not slide on either.
    vx, vy, vz = speeds(one, other, contact, dt, ax, ay, az, bx, by, bz)
    along = vx * nx + vy * ny + vz * nz
    vx, vy, vz = vx - along * nx, vy - along * ny, vz - along * nz
    speed = np.sqrt(vx * vx + vy * vy + vz * vz)
    if speed <= TINY:
        return
    ux, uy, uz = vx / speed, vy / speed, vz / speed
    inverse_mass = inverse_mass_along(body_one, one, ax, ay, az, ux, uy, uz) + inverse_mass_along(body_other, other, bx, by, bz, ux, uy, uz)
    share = -dt * speed / inverse_mass
    tx, ty, tz = contact[ALONG] + share * ux, contact[ALONG + 1] + share * uy, contact[ALONG + 2] + share * uz
    bound = min(contact[ROUGH] * contact[ACROSS] / max(np.sqrt(tx * tx + ty * ty + tz * tz), TINY), 1.0)
    px, py, pz = bound * tx - contact[ALONG], bound * ty - contact[ALONG + 1], bound * tz - contact[ALONG + 2]
    contact[ALONG], contact[ALONG + 1], contact[ALONG + 2] = bound * tx, bound * ty, bound * tz
    impelled(body_one, one, ax, ay, az, px / dt, py / dt, pz / dt)
    impelled(body_other, other, bx, by, bz, -px / dt, -py / dt, -pz / dt)


@register_jitable
def position_of(state, points, m):
    """Where point ``m`` of points (M, 4) along the body's principal axes is."""
    # By its number: each view of an array costs more than this does.
    x, y, z = spun(state[3], state[4], state[5], state[6], points[m, 0], points[m, 1], points[m, 2])
    return state[0] + x, state[1] + y, state[2] + z


@register_jitable
def surface_at(state, old, x, y, z, radius, contact):
    """Where the surface around a point x y z touches, and where that place of the body was when the substep began."""
    x, y, z = x - radius * contact[NORMAL], y - radius * contact[NORMAL + 1], z - radius * contact[NORMAL + 2]
    lx, ly, lz = spun(-state[3], -state[4], -state[5], state[6], x - state[0], y - state[1], z - state[2])
    lx, ly, lz = spun(old[3], old[4], old[5], old[6], lx, ly, lz)
    return x, y, z, old[0] + lx, old[1] + ly, old[2] + lz


@register_jitable
def held_back(one, body_one, other, body_other, x, y, z, sx, sy, sz, contact, friction):
    """Hold a place x y z of a body back along the surface towards s, where it would be had it stuck, by Coulomb's law."""
    if contact[ACROSS] <= 0.0 and contact[ALONG] == 0.0 and contact[ALONG + 1] == 0.0 and contact[ALONG + 2] == 0.0:
        return
    contact[ROUGH] = friction
    nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
    sx, sy, sz = sx - x, sy - y, sz - z
    along = sx * nx + sy * ny + sz * nz
    sx, sy, sz = sx - along * nx, sy - along * ny, sz - along * nz
    ax, ay, az = x - one[0], y - one[1], z - one[2]
    bx, by, bz = x - other[0], y - other[1], z - other[2]
    length = np.sqrt(sx * sx + sy * sy + sz * sz)
    share = 0.0
    if length > TINY:
        ux, uy, uz = sx / length, sy / length, sz / length
        inverse_mass = inverse_mass_along(body_one, one, ax, ay, az, ux, uy, uz)
        share = 1.0 / (inverse_mass + inverse_mass_along(body_other, other, bx, by, bz, ux, uy, uz))
    # All of this substep's is bounded, so what was too much when more seemed to press comes back.
    tx, ty, tz = contact[ALONG] + share * sx, contact[ALONG + 1] + share * sy, contact[ALONG + 2] + share * sz
    bound = min(friction * contact[ACROSS] / max(np.sqrt(tx * tx + ty * ty + tz * tz), TINY), 1.0)
    tx, ty, tz = bound * tx, bound * ty, bound * tz
    px, py, pz = tx - contact[ALONG], ty - contact[ALONG + 1], tz - contact[ALONG + 2]
    contact[ALONG], contact[ALONG + 1], contact[ALONG + 2] = tx, ty, tz
    pushed(body_one, one, ax, ay, az, px, py, pz)
    pushed(body_other, other, bx, by, bz, -px, -py, -pz)


@register_jitable
def pushed_out(one, body_one, other, body_other, x, y, z, px, py, pz, contact):
    """Push a place of a body out of the other by p."""
    length = np.sqrt(px * px + py * py + pz * pz)
    if length > TINY:
        contact[ACROSS] += exchanged(one, body_one, other, body_other, x, y, z, px, py, pz, np.inf)
        contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2] = px / length, py / length, pz / length


@register_jitable
def let_back(one, body_one, other, body_other, x, y, z, gap, contact):
    """Let a place that was pushed too far out, by other positions' pushes, come back to the surface, which is ``gap`` away."""
    if contact[ACROSS] > 0.0 and gap > TINY:
        back = (-gap * contact[NORMAL], -gap * contact[NORMAL + 1], -gap * contact[NORMAL + 2])
        contact[ACROSS] -= exchanged(one, body_one, other, body_other, x, y, z, *back, contact[ACROSS])


@register_jitable
def touch(body, state, old, still, nothing, first, points, contact_distances, widest, frames, shapes, pressed):
    """Push the body's points out of the colliders, one after another, and hold them back along the surface by Coulomb's law.

    widest (K,) how far from a core a point of the body may touch, seen from the body's centre [m]; pressed (M, K, CONTACT); ``still`` and
    ``nothing`` the state and the numbers of what does not move
    """
    for k in range(len(shapes)):
        row = first + k
        mx, my, mz = (
            state[0] - old[0] - frames[row, 0] + frames[row, 12],
            state[1] - old[1] - frames[row, 1] + frames[row, 13],
            state[2] - old[2] - frames[row, 2] + frames[row, 14],
        )
        moved = np.sqrt(mx * mx + my * my + mz * mz)
        dx, dy, dz = state[0] - frames[row, 0], state[1] - frames[row, 1], state[2] - frames[row, 2]
        near = shapes[k, BOUND] + widest[k] + moved
        if near < 0.0 or dx * dx + dy * dy + dz * dz > near * near:
            continue
        for m in range(len(points)):
            contact_distance = contact_distances[m, k]
            if contact_distance <= NEVER:
                continue
            ox, oy, oz = position_of(old, points, m)
            x, y, z = position_of(state, points, m)
            dx, dy, dz = x - frames[row, 0], y - frames[row, 1], z - frames[row, 2]
            mx, my, mz = (
                x - ox - frames[row, 0] + frames[row, 12],
                y - oy - frames[row, 1] + frames[row, 13],
                z - oz - frames[row, 2] + frames[row, 14],
            )
            bound = max(shapes[k, BOUND] + contact_distance, 0.0) + np.sqrt(mx * mx + my * my + mz * mz)
            if dx * dx + dy * dy + dz * dz > bound * bound:
                continue
            bx, by, bz = into(frames, row, 0, x, y, z)
            ax, ay, az = into(frames, row, 12, ox, oy, oz)
            core = shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW]
            tx, ty, tz = touched(ax, ay, az, bx, by, bz, *core, contact_distance, 0.0)
            px, py, pz = turned(frames, row, tx - bx, ty - by, tz - bz)
            contact = pressed[m, k]
            pushed_out(state, body, still, nothing, x, y, z, px, py, pz, contact)
            if contact[ACROSS] > 0.0:
                let_back(state, body, still, nothing, x, y, z, outwards(bx, by, bz, *core)[0] - contact_distance, contact)
            # Against the collider as it moved: where the place that touches would be, had it stuck to it.
            x, y, z = position_of(state, points, m)
            x, y, z, ox, oy, oz = surface_at(state, old, x, y, z, points[m, RADIUS], contact)
            ax, ay, az = into(frames, row, 12, ox, oy, oz)
            sx, sy, sz = turned(frames, row, ax, ay, az)
            sx, sy, sz = sx + frames[row, 0], sy + frames[row, 1], sz + frames[row, 2]
            contact[SURFACE_MOVE], contact[SURFACE_MOVE + 1], contact[SURFACE_MOVE + 2] = sx - ox, sy - oy, sz - oz
            held_back(state, body, still, nothing, x, y, z, sx, sy, sz, contact, shapes[k, FRICTION])


@register_jitable
def lay_spots(step, substeps, surface_contacts, spots):
    """Where the spots of surface contacts (Q, 12) are when a substep ends, and where they look: spots (Q, 6)."""
    now = (step + 1.0) / substeps
    for q in range(len(surface_contacts)):
        for k in range(3):
            spots[q, k] = surface_contacts[q, k] + now * (surface_contacts[q, 3 + k] - surface_contacts[q, k])
        nx = surface_contacts[q, 6] + now * (surface_contacts[q, 9] - surface_contacts[q, 6])
        ny = surface_contacts[q, 7] + now * (surface_contacts[q, 10] - surface_contacts[q, 7])
        nz = surface_contacts[q, 8] + now * (surface_contacts[q, 11] - surface_contacts[q, 8])
        inverse = 1.0 / max(np.sqrt(nx * nx + ny * ny + nz * nz), TINY)
        spots[q, 3], spots[q, 4], spots[q, 5] = nx * inverse, ny * inverse, nz * inverse


@register_jitable
def touch_surface_contacts(
    body, state, old, still, nothing, step, substeps, points, which, surface_contacts, contact_distances, frictions, spots, pressed
):
    """Push points of the body, ``which`` (Q,), off positions of a moving surface, as `push_surface_contacts` does; pressed (Q, CONTACT).

    spots (Q, 6) as `lay_spots` says
    """
    each = 1.0 / substeps
    then = step * each
    for q in range(len(which)):
        x, y, z = position_of(state, points, which[q])
        nx, ny, nz = spots[q, 3], spots[q, 4], spots[q, 5]
        gap = (x - spots[q, 0]) * nx + (y - spots[q, 1]) * ny + (z - spots[q, 2]) * nz - contact_distances[q]
        if gap >= 0.0 and pressed[q, ACROSS] <= 0.0:
            continue
        surface_contact, contact = surface_contacts[q], pressed[q]
        wx, wy, wz = (
            surface_contact[3] - surface_contact[0],
            surface_contact[4] - surface_contact[1],
            surface_contact[5] - surface_contact[2],
        )
        ox, oy, oz = position_of(old, points, which[q])
        if gap < 0.0:
            lx, ly, lz = (
                surface_contact[6] + then * (surface_contact[9] - surface_contact[6]),
                surface_contact[7] + then * (surface_contact[10] - surface_contact[7]),
                surface_contact[8] + then * (surface_contact[11] - surface_contact[8]),
            )
            began = (
                (ox - surface_contact[0] - then * wx) * lx
                + (oy - surface_contact[1] - then * wy) * ly
                + (oz - surface_contact[2] - then * wz) * lz
                - contact_distances[q]
            )
            push = -gap if began >= -SLACK else min(-gap, max((1.0 - EASE) * began - gap, 0.0))
            pushed_out(state, body, still, nothing, x, y, z, push * nx, push * ny, push * nz, contact)
        let_back(state, body, still, nothing, x, y, z, gap, contact)
        contact[SURFACE_MOVE], contact[SURFACE_MOVE + 1], contact[SURFACE_MOVE + 2] = wx * each, wy * each, wz * each
        x, y, z = position_of(state, points, which[q])
        x, y, z, ox, oy, oz = surface_at(state, old, x, y, z, points[which[q], RADIUS], contact)
        held_back(state, body, still, nothing, x, y, z, ox + wx * each, oy + wy * each, oz + wz * each, contact, frictions[q])
