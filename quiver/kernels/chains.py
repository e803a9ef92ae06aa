"""Spring chains: many chains advanced by small substeps, sixteen at a time.

One substep of one chain is extended position-based dynamics (Macklin, Müller, Chentanez 2016; small steps: Macklin et
al. 2019) with each kind of constraint solved *directly* along the chain instead of by sweeps, so that the
stiffness does not depend on how many sweeps there are: the bending system is pentadiagonal, the length system tridiagonal.

Positions are kept as displacements ``u`` from the keyed place of each particle. So float32 stays exact far from the
origin, and a chain whose keyed motion stands still stays still to the bit.

Rows of the arrays (each row holds the sixteen chains of one block; ``n`` segments, segment i ends in particle i):

==============  ==================  ==========================================================================
array           rows per block      content
==============  ==================  ==========================================================================
state           6 n                 displacement x y z [m], velocity x y z [m/s]
params          PARAMS n            see the constants below
motion          6 n + 6 a substep   keyed segment vector x y z [m], keyed step of its end x y z [m]; root's place and step [m]
axes            6 n a substep       two blocked turning axes (unit vectors or zeros), or an empty array
record          3 n a recording     displacement x y z [m]
reaches         2 n a collider      for each segment's middle and end: how far it keeps from the collider's core [m]
==============  ==================  ==========================================================================
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.contacts import BOUND, EASE, kept_out
from quiver.kernels.lanes import any_less, larger, load, smaller, splat, sqrt, store, where_less
from quiver.kernels.surface_contacts import PARAMS as SURFACE_CONTACT
from quiver.kernels.surface_contacts import before_surface_contact, off_surface_contact

INVERSE_MASS = 0
BEND_COMPLIANCE = 1
"""Compliance over dt squared; DISCONNECTED where there is no spring."""
STRETCH_COMPLIANCE = 2
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
SHORTEST_SHARE = 0.5
"""... and the least of its keyed length that is left of it."""
PARAMS = 13

SAMPLES = 16
"""Samples of the visible skin of a segment that may touch at once."""
ALONG = SURFACE_CONTACT
"""Where a sample is along its segment, 0 to 1 between its ends; then how far it is beside its middle line and where the segment looked when
it was looked up, three rows each; what share of it the chain moves; where the rest of it is, and how far that moves in the frame, three
rows each."""
ARM, LOOKED, CARRIED, REST, REST_MOVES, SAMPLE = ALONG + 1, ALONG + 4, ALONG + 7, ALONG + 8, ALONG + 11, ALONG + 14
LEAST_LEVER, FARTHEST_TURN = 0.05, 0.2
"""What a turn moves by less than the root of this share of what it moves the end by, so near to the root, is not levered out by itself: the
rest of the chain would be flung. And nothing is by more than so much of a segment's length in a substep."""
PINCHED = 5e-4
"""Depth beyond its keys that a sample next to the root may have [m]."""
SCRATCH = 16
QUICK = 0.5
"""Cosine of a segment's turn in one substep from which on it pulls along where it is."""
DISCONNECTED = 1e12
"""A compliance at which a constraint moves nothing any more (float32 keeps about seven digits)."""
TAUT_GIVE, TAUT_CARE = 0.01, 4.0
"""Softness of lengths held at both ends, in shares of the inverse masses: always, and per share of the length it is off."""
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
def rotate(qw, qx, qy, qz, x, y, z):
    """Turn a vector by a unit quaternion; exact where the quaternion is the identity."""
    tx = 2.0 * (qy * z - qz * y)
    ty = 2.0 * (qz * x - qx * z)
    tz = 2.0 * (qx * y - qy * x)
    return x + qw * tx + (qy * tz - qz * ty), y + qw * ty + (qz * tx - qx * tz), z + qw * tz + (qx * ty - qy * tx)


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
def predict(n, dt, rate, state, s0, params, p0, motion, m0, scratch):
    """Move every particle freely, then note how far each segment is from where its parent would carry it.

    Writes scratch rows 0-2 (start of the substep), 3-5 (the bend's error) and 6 (its leverage on the parent).
    """
    zero = splat(0.0)
    qw, qx, qy, qz = splat(1.0), zero, zero, zero
    px, py, pz = zero, zero, zero
    bx, by, bz = zero, zero, zero
    for i in range(n):
        p = p0 + PARAMS * i
        damping_factor = load(params, p + DAMPING_FACTOR)
        drag_factor = load(params, p + DRAG_FACTOR)
        gx, gy, gz = load3(params, p + GRAVITY)
        ux, uy, uz = load3(state, s0 + 6 * i)
        vx, vy, vz = load3(state, s0 + 6 * i + 3)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        kx, ky, kz = load3(motion, m0 + 6 * i + 3)
        cx, cy, cz = kx * rate, ky * rate, kz * rate
        vx = (cx + (vx - cx) * damping_factor) * drag_factor + gx
        vy = (cy + (vy - cy) * damping_factor) * drag_factor + gy
        vz = (cz + (vz - cz) * damping_factor) * drag_factor + gz
        ux, uy, uz = ux - kx, uy - ky, uz - kz
        store3(scratch, SCRATCH * i, ux, uy, uz)
        # A held particle stays at its keyed place.
        free = where_less(0.0, load(params, p + INVERSE_MASS), 1.0, 0.0)
        ux, uy, uz = free * (ux + vx * dt), free * (uy + vy * dt), free * (uz + vz * dt)
        store3(state, s0 + 6 * i, ux, uy, uz)
        dx, dy, dz = sx + (ux - px), sy + (uy - py), sz + (uz - pz)
        tx, ty, tz = rotate(qw, qx, qy, qz, sx, sy, sz)
        # A bend says where to point, not how long to be: the target is as long as the segment is now.
        longer = sqrt(dx * dx + dy * dy + dz * dz) / larger(sqrt(sx * sx + sy * sy + sz * sz), 1e-9)
        store3(scratch, SCRATCH * i + 3, dx - longer * tx, dy - longer * ty, dz - longer * tz)
        leverage = (bx * sx + by * sy + bz * sz) / (bx * bx + by * by + bz * bz + TINY)
        store(scratch, SCRATCH * i + 6, leverage)
        qw, qx, qy, qz = turn_onto(qw, qx, qy, qz, tx, ty, tz, dx, dy, dz)
        px, py, pz = ux, uy, uz
        bx, by, bz = sx, sy, sz


@register_jitable
def solve_bends(n, state, s0, params, p0, scratch):
    """Solve all bends of a chain at once: L D Lt of the pentadiagonal system, the same for x, y and z."""
    zero = splat(0.0)
    w1, w2 = zero, zero
    # Pivots are kept as their inverses: divisions are what a substep spends most of its time on.
    v1, v2 = splat(1.0), splat(1.0)
    d1, d2 = splat(1.0), splat(1.0)
    l1_before = zero
    c1 = zero
    ax, ay, az = zero, zero, zero
    bx, by, bz = zero, zero, zero
    for i in range(n):
        r = SCRATCH * i
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        soft = load(params, p0 + PARAMS * i + BEND_COMPLIANCE)
        c = load(scratch, r + 6)
        a0 = w + (1.0 + c) * (1.0 + c) * w1 + c * c * w2 + soft
        a1 = -(1.0 + c) * w1 - c * (1.0 + c1) * w2
        l2 = c * w2 * v2
        l1 = (a1 - c * w2 * l1_before) * v1
        d = larger(a0 - l1 * l1 * d1 - l2 * l2 * d2, TINY)
        v = 1.0 / d
        ex, ey, ez = load3(scratch, r + 3)
        x = -ex - l1 * bx - l2 * ax
        y = -ey - l1 * by - l2 * ay
        z = -ez - l1 * bz - l2 * az
        store3(scratch, r + 3, x, y, z)
        store3(scratch, r + 7, v, l1, l2)
        w1, w2, d1, d2, v1, v2, l1_before, c1 = w, w1, d, d1, v, v1, l1, c
        ax, ay, az, bx, by, bz = bx, by, bz, x, y, z
    # b: the next segment's pull, a: the one after it, as particle i feels them.
    ax, ay, az, bx, by, bz = zero, zero, zero, zero, zero, zero
    l1, l2, l2_next = zero, zero, zero
    c1, c2 = zero, zero
    for k in range(n):
        i = n - 1 - k
        r = SCRATCH * i
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        v, l1_here, l2_here = load3(scratch, r + 7)
        x, y, z = load3(scratch, r + 3)
        x = x * v - l1 * bx - l2_next * ax
        y = y * v - l1 * by - l2_next * ay
        z = z * v - l1 * bz - l2_next * az
        ux, uy, uz = load3(state, s0 + 6 * i)
        ux = ux + w * (x - (1.0 + c1) * bx + c2 * ax)
        uy = uy + w * (y - (1.0 + c1) * by + c2 * ay)
        uz = uz + w * (z - (1.0 + c1) * bz + c2 * az)
        store3(state, s0 + 6 * i, ux, uy, uz)
        c2, c1 = c1, load(scratch, r + 6)
        l2_next, l2, l1 = l2, l2_here, l1_here
        ax, ay, az, bx, by, bz = bx, by, bz, x, y, z


@register_jitable
def solve_lengths(n, state, s0, params, p0, motion, m0, scratch):
    """Bring all segments of a chain to their keyed lengths at once (one Newton step, tridiagonal).

    Each pulls along where it was when the substep began, as in Verlet's method (Ryckaert et al. 1977): pulling along where it is, all
    swing would be damped.
    """
    zero = splat(0.0)
    w1, v1, y1 = zero, splat(1.0), zero
    px, py, pz = zero, zero, zero
    hx, hy, hz = zero, zero, zero
    # Of the particle before: where it was, from where it is keyed now.
    kx, ky, kz = load3(motion, m0 + 6 * n + 3)
    ox, oy, oz = -kx, -ky, -kz
    for i in range(n):
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        soft = load(params, p0 + PARAMS * i + STRETCH_COMPLIANCE)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        ux, uy, uz = load3(state, s0 + 6 * i)
        ax, ay, az = load3(scratch, SCRATCH * i)
        dx, dy, dz = sx + (ux - px), sy + (uy - py), sz + (uz - pz)
        bx, by, bz = sx + (ax - ox), sy + (ay - oy), sz + (az - oz)
        length = sqrt(dx * dx + dy * dy + dz * dz)
        rest = sqrt(sx * sx + sy * sy + sz * sz)
        inverse = 1.0 / larger(length, 1e-9)
        nx, ny, nz = dx * inverse, dy * inverse, dz * inverse
        inverse = 1.0 / larger(sqrt(bx * bx + by * by + bz * bz), 1e-9)
        bx, by, bz = bx * inverse, by * inverse, bz * inverse
        # What turns so far in a substep pulls along where it is.
        aligned = nx * bx + ny * by + nz * bz
        bx, by, bz = where_less(aligned, QUICK, nx, bx), where_less(aligned, QUICK, ny, by), where_less(aligned, QUICK, nz, bz)
        aligned = where_less(aligned, QUICK, 1.0, aligned)
        # A chain held at both ends may have no solution near a bad state, where a full Newton step would be wild:
        # there the step is the softer the further off it is (Levenberg, Marquardt).
        over = length / larger(rest, 1e-9) - 1.0
        soft = soft + load(params, p0 + PARAMS * i + TAUT) * (w + w1) * (TAUT_GIVE + TAUT_CARE * larger(over, -over))
        below = -w1 * (nx * hx + ny * hy + nz * hz)
        above = zero
        if i > 0:
            before = SCRATCH * (i - 1)
            # The direction in which the segment before looks meets that in which this one pulls.
            above = -w1 * (load(scratch, before + 10) * bx + load(scratch, before + 11) * by + load(scratch, before + 12) * bz)
            store(scratch, before + 8, above)
        share = below * v1
        v = 1.0 / larger((w + w1) * aligned + soft - share * above, TINY)
        y = (rest - length) - share * y1
        store3(scratch, SCRATCH * i + 3, bx, by, bz)
        store(scratch, SCRATCH * i + 7, v)
        store(scratch, SCRATCH * i + 9, y)
        store3(scratch, SCRATCH * i + 10, nx, ny, nz)
        w1, v1, y1 = w, v, y
        px, py, pz, hx, hy, hz = ux, uy, uz, bx, by, bz
        ox, oy, oz = ax, ay, az
    pull, hx, hy, hz = zero, zero, zero, zero
    for k in range(n):
        i = n - 1 - k
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        bx, by, bz = load3(scratch, SCRATCH * i + 3)
        v, above, y = load3(scratch, SCRATCH * i + 7)
        push = (y - above * pull) * v if k > 0 else y * v
        ux, uy, uz = load3(state, s0 + 6 * i)
        store3(state, s0 + 6 * i, ux + w * (push * bx - pull * hx), uy + w * (push * by - pull * hy), uz + w * (push * bz - pull * hz))
        pull, hx, hy, hz = push, bx, by, bz


@register_jitable
def without(x, y, z, ax, ay, az, tx, ty, tz):
    """Take away the part of direction (x y z) that turned about axis a, away from target direction t."""
    mx, my, mz = ay * tz - az * ty, az * tx - ax * tz, ax * ty - ay * tx
    share = (x * mx + y * my + z * mz) / larger(mx * mx + my * my + mz * mz, 1e-12)
    return x - share * mx, y - share * my, z - share * mz


@register_jitable
def apply_limits(n, state, s0, params, p0, motion, m0, axes, a0):
    """Keep every segment within its bend limit and off its blocked turning axes, from root to tip."""
    zero = splat(0.0)
    qw, qx, qy, qz = splat(1.0), zero, zero, zero
    px, py, pz = zero, zero, zero
    ox, oy, oz = zero, zero, zero
    for i in range(n):
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        cosine = load(params, p0 + PARAMS * i + COS_LIMIT)
        sine = load(params, p0 + PARAMS * i + SIN_LIMIT)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        ux, uy, uz = load3(state, s0 + 6 * i)
        dx, dy, dz = sx + (ux - ox), sy + (uy - oy), sz + (uz - oz)
        tx, ty, tz = rotate(qw, qx, qy, qz, sx, sy, sz)
        length = sqrt(dx * dx + dy * dy + dz * dz)
        inverse = 1.0 / larger(length, 1e-9)
        scale = 1.0 / larger(sqrt(tx * tx + ty * ty + tz * tz), 1e-9)
        gx, gy, gz = tx * scale, ty * scale, tz * scale
        x, y, z = dx * inverse, dy * inverse, dz * inverse
        if axes.shape[0] > 0:
            ax, ay, az = load3(axes, a0 + 6 * i)
            ax, ay, az = rotate(qw, qx, qy, qz, ax, ay, az)
            x, y, z = without(x, y, z, ax, ay, az, gx, gy, gz)
            ax, ay, az = load3(axes, a0 + 6 * i + 3)
            ax, ay, az = rotate(qw, qx, qy, qz, ax, ay, az)
            x, y, z = without(x, y, z, ax, ay, az, gx, gy, gz)
            back = 1.0 / larger(sqrt(x * x + y * y + z * z), 1e-9)
            x, y, z = x * back, y * back, z * back
        straight = x * gx + y * gy + z * gz
        fx, fy, fz = x - straight * gx, y - straight * gy, z - straight * gz
        aside = sine / larger(sqrt(fx * fx + fy * fy + fz * fz), 1e-9)
        over = straight - cosine
        x = where_less(over, 0.0, cosine * gx + aside * fx, x)
        y = where_less(over, 0.0, cosine * gy + aside * fy, y)
        z = where_less(over, 0.0, cosine * gz + aside * fz, z)
        # Only a segment that was really turned is moved, so that nothing drifts by rounding.
        moved = (x - dx * inverse) * (x - dx * inverse) + (y - dy * inverse) * (y - dy * inverse) + (z - dz * inverse) * (z - dz * inverse)
        shift = where_less(1e-12, moved, 1.0, 0.0) * where_less(0.0, w, 1.0, 0.0)
        ox, oy, oz = ux, uy, uz
        dx = dx + shift * (x * length - dx)
        dy = dy + shift * (y * length - dy)
        dz = dz + shift * (z * length - dz)
        free = where_less(0.0, w, 1.0, 0.0)
        ux, uy, uz = ux + free * (px + (dx - sx) - ux), uy + free * (py + (dy - sy) - uy), uz + free * (pz + (dz - sz) - uz)
        store3(state, s0 + 6 * i, ux, uy, uz)
        qw, qx, qy, qz = turn_onto(qw, qx, qy, qz, tx, ty, tz, dx, dy, dz)
        px, py, pz = ux, uy, uz


@register_jitable
def sampled(skins, sample, now, ax, ay, az, bx, by, bz):
    """(where a sample of a segment from a to b is, x y z; where it is beside its middle line, turned as that is since it was looked up)."""
    share = load(skins, sample + ALONG)
    rx, ry, rz = load3(skins, sample + ARM)
    lx, ly, lz = load3(skins, sample + LOOKED)
    dx, dy, dz = bx - ax, by - ay, bz - az
    inverse = 1.0 / larger(sqrt(dx * dx + dy * dy + dz * dz), 1e-9)
    ex, ey, ez = dx * inverse, dy * inverse, dz * inverse
    # The shortest turn from the one direction to the other.
    along = lx * rx + ly * ry + lz * rz
    back = ((lx + ex) * rx + (ly + ey) * ry + (lz + ez) * rz) / larger(1.0 + (lx * ex + ly * ey + lz * ez), 1e-3)
    rx = rx - back * (lx + ex) + 2.0 * along * ex
    ry = ry - back * (ly + ey) + 2.0 * along * ey
    rz = rz - back * (lz + ez) + 2.0 * along * ez
    x, y, z = ax + share * dx + rx, ay + share * dy + ry, az + share * dz + rz
    carried = load(skins, sample + CARRIED)
    sx, sy, sz = load3(skins, sample + REST)
    mx, my, mz = load3(skins, sample + REST_MOVES)
    return sx + mx * now + carried * x, sy + my * now + carried * y, sz + mz * now + carried * z, rx, ry, rz


@register_jitable
def levered(skins, sample, wx, wy, wz, ax, ay, az, bx, by, bz, rx, ry, rz, free_before, free):
    """How both ends a and b of a segment move so that a sample, r beside its middle line, does by w: x y z of one, then the other."""
    share, carried = load(skins, sample + ALONG), load(skins, sample + CARRIED)
    dx, dy, dz = bx - ax, by - ay, bz - az
    inverse = 1.0 / larger(dx * dx + dy * dy + dz * dz, 1e-12)
    # An end that moves carries the sample along, and turns the segment, so that what is beside it moves too.
    turn = (wx * dx + wy * dy + wz * dz) * inverse
    px, py, pz = (1.0 - share) * wx + turn * rx, (1.0 - share) * wy + turn * ry, (1.0 - share) * wz + turn * rz
    ex, ey, ez = share * wx - turn * rx, share * wy - turn * ry, share * wz - turn * rz
    squared = wx * wx + wy * wy + wz * wz
    gives = free_before * (px * px + py * py + pz * pz) + free * (ex * ex + ey * ey + ez * ez)
    amount = squared / larger(carried * gives, LEAST_LEVER * squared + TINY)
    # However short the lever, a segment turns no farther in a substep.
    most = larger(px * px + py * py + pz * pz, ex * ex + ey * ey + ez * ez) * amount * amount * inverse
    amount = amount * smaller(FARTHEST_TURN / sqrt(larger(most, TINY)), 1.0)
    one, other = amount * free_before, amount * free
    return one * px, one * py, one * pz, other * ex, other * ey, other * ez


@register_jitable
def unpinched(skins, first, now, then, root, keyed, moved, was, root_was):
    """What share of its way off its keyed place the end of a chain's first segment may keep.

    Where a chain stands out of skin, samples before and behind its root are pushed against each other, and none of them may get much
    deeper than as keyed, or than it was. The SAMPLES of the segment begin at a row; its root, where its end is keyed, how far that moved,
    and where both were a substep ago.
    """
    (px, py, pz), (rx, ry, rz), (ux, uy, uz), most = root, keyed, moved, splat(1.0)
    for slot in range(SAMPLES):
        sample = first + slot * SAMPLE
        x, y, z, _, _, _ = sampled(skins, sample, now, px, py, pz, rx + ux, ry + uy, rz + uz)
        gap = before_surface_contact(skins, sample, now, x, y, z)[0]
        if not any_less(gap, -PINCHED):
            continue
        x, y, z, _, _, _ = sampled(skins, sample, now, px, py, pz, rx, ry, rz)
        as_keyed = before_surface_contact(skins, sample, now, x, y, z)[0]
        x, y, z, _, _, _ = sampled(skins, sample, then, *root_was, *was)
        began = before_surface_contact(skins, sample, then, x, y, z)[0]
        allowed = smaller(smaller(as_keyed, 0.0) - PINCHED, (1.0 - EASE) * began)
        share = (as_keyed - allowed) / larger(as_keyed - gap, TINY)
        most = where_less(gap, allowed, smaller(most, larger(share, 0.0)), most)
    return most


@register_jitable
def push_out(
    n, state, s0, params, p0, motion, m0, scratch, colliders, first_row, first_contact_distance, surface_contacts, block, now, then
):
    """Push the middles and the ends of all segments out of the colliders, from root to tip (arrays as in kernels/contacts.py).

    Then samples of their skin off the spots of others' (arrays as `advance` says), between the shares ``then`` and ``now`` of the frame.
    """
    frames, shapes, contact_distances = colliders
    skins, blocks = surface_contacts
    rx, ry, rz = load3(motion, m0 + 6 * n)
    zero = splat(0.0)
    # Of the particle before: where it is, where it was a substep ago, whether it is free.
    px, py, pz = rx, ry, rz
    kx, ky, kz = load3(motion, m0 + 6 * n + 3)
    kx, ky, kz = rx - kx, ry - ky, rz - kz
    free_before = zero
    for i in range(n):
        free = where_less(0.0, load(params, p0 + PARAMS * i + INVERSE_MASS), 1.0, 0.0)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        rx, ry, rz = rx + sx, ry + sy, rz + sz
        ux, uy, uz = load3(state, s0 + 6 * i)
        ox, oy, oz = load3(scratch, SCRATCH * i)
        ox, oy, oz = rx + ox, ry + oy, rz + oz
        vx, vy, vz = zero, zero, zero
        for k in range(len(shapes)):
            row, at = first_row + k, first_contact_distance + 2 * n * k + 2 * i
            middle, end = load(contact_distances, at), load(contact_distances, at + 1)
            x, y, z = rx + ux, ry + uy, rz + uz
            fx, fy, fz = x - frames[row, 0], y - frames[row, 1], z - frames[row, 2]
            mx, my, mz = x - ox, y - oy, z - oz
            cx, cy, cz = frames[row, 0] - frames[row, 12], frames[row, 1] - frames[row, 13], frames[row, 2] - frames[row, 14]
            around = sqrt(sx * sx + sy * sy + sz * sz) + sqrt(mx * mx + my * my + mz * mz) + np.sqrt(cx * cx + cy * cy + cz * cz)
            bound = larger(larger(middle, end) + shapes[k, BOUND] + around, 0.0)
            if not any_less(fx * fx + fy * fy + fz * fz, bound * bound):
                continue
            wx, wy, wz = 0.5 * (x + px + vx), 0.5 * (y + py + vy), 0.5 * (z + pz + vz)
            wx, wy, wz = kept_out(colliders, k, row, middle, 0.5 * (ox + kx), 0.5 * (oy + ky), 0.5 * (oz + kz), wx, wy, wz)
            both = 2.0 / larger(free + free_before, 1.0)
            vx, vy, vz = vx + both * free_before * wx, vy + both * free_before * wy, vz + both * free_before * wz
            ux, uy, uz = ux + both * free * wx, uy + both * free * wy, uz + both * free * wz
            wx, wy, wz = kept_out(colliders, k, row, end, ox, oy, oz, rx + ux, ry + uy, rz + uz)
            ux, uy, uz = ux + free * wx, uy + free * wy, uz + free * wz
        for k in range(len(skins) // (blocks * n * SAMPLES * SAMPLE)):
            for slot in range(SAMPLES):
                sample = (((k * blocks + block) * n + i) * SAMPLES + slot) * SAMPLE
                ends = px + vx, py + vy, pz + vz, rx + ux, ry + uy, rz + uz
                x, y, z, ax, ay, az = sampled(skins, sample, now, *ends)
                near = before_surface_contact(skins, sample, now, x, y, z)
                if not any_less(near[0], 0.0):
                    continue
                x, y, z, _, _, _ = sampled(skins, sample, then, kx, ky, kz, ox, oy, oz)
                wx, wy, wz = off_surface_contact(skins, sample, then, *near, x, y, z)
                ax, ay, az, bx, by, bz = levered(skins, sample, wx, wy, wz, *ends, ax, ay, az, free_before, free)
                vx, vy, vz = vx + ax, vy + ay, vz + az
                ux, uy, uz = ux + bx, uy + by, uz + bz
            if i == 0:
                first = ((k * blocks + block) * n) * SAMPLES * SAMPLE
                share = unpinched(skins, first, now, then, (px, py, pz), (rx, ry, rz), (ux, uy, uz), (ox, oy, oz), (kx, ky, kz))
                ux, uy, uz = share * ux, share * uy, share * uz
        store3(state, s0 + 6 * i, ux, uy, uz)
        if i > 0:
            ax, ay, az = load3(state, s0 + 6 * i - 6)
            store3(state, s0 + 6 * i - 6, ax + vx, ay + vy, az + vz)
        px, py, pz = rx + ux, ry + uy, rz + uz
        kx, ky, kz = ox, oy, oz
        free_before = free


@register_jitable
def finish(n, rate, state, s0, params, p0, motion, m0, scratch):
    """Bound every segment's length and every particle's speed against the keyed motion, so that nothing can explode."""
    zero = splat(0.0)
    px, py, pz = zero, zero, zero
    for i in range(n):
        limit = load(params, p0 + PARAMS * i + SPEED_LIMIT)
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        kx, ky, kz = load3(motion, m0 + 6 * i + 3)
        ox, oy, oz = load3(scratch, SCRATCH * i)
        ux, uy, uz = load3(state, s0 + 6 * i)
        dx, dy, dz = sx + (ux - px), sy + (uy - py), sz + (uz - pz)
        length = larger(sqrt(dx * dx + dy * dy + dz * dz), 1e-9)
        rest = sqrt(sx * sx + sy * sy + sz * sz)
        longest = rest * (1.0 + load(params, p0 + PARAMS * i + STRETCH_LIMIT))
        wanted = larger(where_less(longest, length, longest, length), SHORTEST_SHARE * rest)
        change = (wanted / length - 1.0) * where_less(0.0, w, 1.0, 0.0)
        ux, uy, uz = ux + change * dx, uy + change * dy, uz + change * dz
        store3(state, s0 + 6 * i, ux, uy, uz)
        px, py, pz = ux, uy, uz
        vx, vy, vz = (ux - ox - kx) * rate, (uy - oy - ky) * rate, (uz - oz - kz) * rate
        slower = limit / larger(sqrt(vx * vx + vy * vy + vz * vz), limit)
        store3(state, s0 + 6 * i + 3, vx * slower + kx * rate, vy * slower + ky * rate, vz * slower + kz * rate)


def advance(
    first_block,
    end_block,
    substeps,
    n,
    dt,
    state,
    params,
    motion,
    axes,
    colliders,
    surface_contacts,
    has_limits,
    record_every,
    scratch,
    record,
):
    """Advance the chains of the blocks first_block..end_block-1 by a number of substeps (arrays as in the module's text).

    ``colliders`` are frames and shapes as kernels/contacts.py says, and reaches, in float32; ``surface_contacts``, of skins that
    move evenly through these substeps, are as in kernels/surface_contacts.py and here at ALONG, for each skin, block, segment, its SAMPLES.
    ``scratch`` (SCRATCH n, 16) is room for one thread. ``record`` receives the displacements after every ``record_every``-th substep.
    Blocks share nothing, so any split over threads gives the same bits.
    """
    blocks = params.shape[0] // (PARAMS * n)
    many = len(colliders[1])
    rate, each = np.float32(1.0) / dt, np.float32(1.0 / substeps)
    for block in range(first_block, end_block):
        s0 = block * 6 * n
        p0 = block * PARAMS * n
        for step in range(substeps):
            m0 = (step * blocks + block) * (6 * n + 6)
            predict(n, dt, rate, state, s0, params, p0, motion, m0, scratch)
            solve_bends(n, state, s0, params, p0, scratch)
            solve_lengths(n, state, s0, params, p0, motion, m0, scratch)
            if has_limits:
                apply_limits(n, state, s0, params, p0, motion, m0, axes, (step * blocks + block) * 6 * n)
            if many > 0 or len(surface_contacts) > 0:
                rows, then, now = (step * many, 2 * n * many * block), np.float32(step) * each, np.float32(step + 1) * each
                push_out(n, state, s0, params, p0, motion, m0, scratch, colliders, *rows, (surface_contacts, blocks), block, now, then)
            finish(n, rate, state, s0, params, p0, motion, m0, scratch)
            if (step + 1) % record_every == 0:
                r0 = (((step + 1) // record_every - 1) * blocks + block) * 3 * n
                for i in range(n):
                    ux, uy, uz = load3(state, s0 + 6 * i)
                    store3(record, r0 + 3 * i, ux, uy, uz)


advance_chains = kernel(advance)
"""`advance`, compiled. The plain function is the slow reference and works with rows of any width."""
