"""Spring chains, and trees of them: many advanced by small substeps, sixteen at a time.

One substep is extended position-based dynamics (Macklin, Müller, Chentanez 2016; small steps: Macklin et al. 2019) with each kind of
constraint solved *directly* from the tips to the root and back instead of by sweeps, so that the stiffness does not depend on how many
sweeps there are, as kernels/bends.py and kernels/lengths.py say. A chain with branches is solved as one.

Positions are kept as displacements ``u`` from the keyed place of each particle. So float32 stays exact far from the
origin, and a chain whose keyed motion stands still stays still to the bit.

Rows of the arrays (each row holds the sixteen chains, or trees, of one block; ``n`` segments, segment i ends in particle i):

==============  ==================  ==========================================================================
array           rows per block      content
==============  ==================  ==========================================================================
state           6 n                 displacement x y z [m], velocity x y z [m/s]
params          PARAMS n            see kernels/chain_rows.py, and there ``forks``
motion          6 n + 6 + 3 riders  keyed segment vector x y z [m], keyed step of its end x y z [m]; root's place and step [m]; for each
                a substep           rider, from where its carrier begins to where it does, x y z [m]
axes            6 n a substep       an axis about which a joint must not turn, one about which it only may (units or zeros); or no rows
record          3 n a recording     displacement x y z [m]
reaches         2 n a collider      for each segment's middle and end: how far it keeps from the collider's core [m]
==============  ==================  ==========================================================================
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.bends import solve_bends
from quiver.kernels.chain_contacts import push_out
from quiver.kernels.chain_rows import (
    AIM,
    BEGAN,
    BLOCKED,
    CARRIER,
    CARRIES,
    COS_LIMIT,
    DAMPING_FACTOR,
    DENSE,
    DRAG_FACTOR,
    ERROR,
    FOOT,
    FOOT_START,
    FORK,
    GRAVITY,
    HANGS,
    INVERSE,
    INVERSE_MASS,
    OFFSET,
    OFFSET_START,
    PARAMS,
    PULLS,
    RIDE,
    SCRATCH,
    SIN_LIMIT,
    SPEED_LIMIT,
    START,
    STRETCH_LIMIT,
    TURN,
    TURN_START,
    WAY,
    WAY_START,
    begin_of,
    blocked_way,
    dot,
    load3,
    rotate,
    scaled,
    store3,
    store9,
    turn_of,
    turn_onto,
    twist_of,
    with_share,
)
from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import any_less, larger, load, smaller, splat, sqrt, store, where_less
from quiver.kernels.lengths import CALM, solve_lengths, turns

WILD = 4.0
"""How many times the greatest speed is no speed at all: with what else is bounded, there is no more than one length of a chain in it."""
SHORTEST_SHARE = 0.5
"""The least of its keyed length that is left of a segment."""


@register_jitable
def predict(n, dt, rate, state, s0, params, p0, motion, m0, scratch):
    """Move every particle freely."""
    for i in range(n):
        p, r = p0 + PARAMS * i, SCRATCH * i
        damping_factor = load(params, p + DAMPING_FACTOR)
        drag_factor = load(params, p + DRAG_FACTOR)
        gx, gy, gz = load3(params, p + GRAVITY)
        ux, uy, uz = load3(state, s0 + 6 * i)
        vx, vy, vz = load3(state, s0 + 6 * i + 3)
        kx, ky, kz = load3(motion, m0 + 6 * i + 3)
        cx, cy, cz = kx * rate, ky * rate, kz * rate
        vx = (cx + (vx - cx) * damping_factor) * drag_factor + gx
        vy = (cy + (vy - cy) * damping_factor) * drag_factor + gy
        vz = (cz + (vz - cz) * damping_factor) * drag_factor + gz
        ax, ay, az = ux - kx, uy - ky, uz - kz
        store3(scratch, r + START, ax, ay, az)
        # A held particle stays at its keyed place.
        free = where_less(0.0, load(params, p + INVERSE_MASS), 1.0, 0.0)
        store3(state, s0 + 6 * i, free * (ax + vx * dt), free * (ay + vy * dt), free * (az + vz * dt))


@register_jitable
def begin_forks(n, motion, m0, forks, scratch):
    """Note how what carries branches was turned when the substep began, and where their feet were: that is along what they pull."""
    zero = splat(0.0)
    qw, qx, qy, qz = splat(1.0), zero, zero, zero
    ox, oy, oz = load3(motion, m0 + 6 * n + 3)
    ox, oy, oz = -ox, -oy, -oz
    for i in range(n):
        r, f = SCRATCH * i, SCRATCH * n + FORK * i
        if forks[i, CARRIER] >= 0:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            qw, qx, qy, qz = turn_of(scratch, carrier)
            ox, oy, oz = foot_of(n, motion, m0, forks, scratch, i, qw, qx, qy, qz)
            store3(scratch, f + FOOT_START, ox, oy, oz)
            store3(scratch, f + OFFSET_START, *load3(scratch, f + OFFSET))
        ax, ay, az = load3(scratch, r + START)
        if forks[i, DENSE]:
            sx, sy, sz = load3(motion, m0 + 6 * i)
            dx, dy, dz = sx + (ax - ox), sy + (ay - oy), sz + (az - oz)
            tx, ty, tz = rotate(qw, qx, qy, qz, sx, sy, sz)
            inverse = 1.0 / larger(sqrt(dx * dx + dy * dy + dz * dz), 1e-9)
            way = dx * inverse, dy * inverse, dz * inverse
            target = scaled((tx, ty, tz), 1.0 / larger(sqrt(tx * tx + ty * ty + tz * tz), 1e-9))
            passed, turning = turns(way, twist_of(target, way), inverse)
            store3(scratch, f + WAY_START, *way)
            store3(scratch, f + TURN_START, *passed)
            store9(scratch, f + TURN_START + 3, turning)
            qw, qx, qy, qz = turn_onto(qw, qx, qy, qz, tx, ty, tz, dx, dy, dz)
            if forks[i, CARRIES]:
                put_turn(scratch, f, ox, oy, oz, qw, qx, qy, qz)
        ox, oy, oz = ax, ay, az


@register_jitable
def aim(n, state, s0, motion, m0, axes, a0, forks, scratch):
    """Note where each segment looks, and where the one before would carry it, as chain_rows.py says.

    Returns the least cosine of how far any of them has turned since the substep began.
    """
    zero, calmest = splat(0.0), splat(1.0)
    qw, qx, qy, qz = splat(1.0), zero, zero, zero
    px, py, pz = zero, zero, zero
    # Where it began a substep ago, from where it is keyed to begin now.
    ox, oy, oz = load3(motion, m0 + 6 * n + 3)
    ox, oy, oz = -ox, -oy, -oz
    for i in range(n):
        r, f = SCRATCH * i, SCRATCH * n + FORK * i
        if forks[i, CARRIER] >= 0:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            qw, qx, qy, qz = turn_of(scratch, carrier)
            px, py, pz = foot_of(n, motion, m0, forks, scratch, i, qw, qx, qy, qz)
            ox, oy, oz = load3(scratch, f + FOOT_START)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        ux, uy, uz = load3(state, s0 + 6 * i)
        ax, ay, az = load3(scratch, r + START)
        bx, by, bz = sx + (ax - ox), sy + (ay - oy), sz + (az - oz)
        began = scaled((bx, by, bz), 1.0 / larger(sqrt(bx * bx + by * by + bz * bz), 1e-9))
        store3(scratch, r + BEGAN, *began)
        dx, dy, dz = sx + (ux - px), sy + (uy - py), sz + (uz - pz)
        tx, ty, tz = rotate(qw, qx, qy, qz, sx, sy, sz)
        # A bend says where to point, not how long to be: the target is as long as the segment is now.
        length = sqrt(dx * dx + dy * dy + dz * dz)
        longer, inverse = length / larger(sqrt(sx * sx + sy * sy + sz * sz), 1e-9), 1.0 / larger(length, 1e-9)
        store3(scratch, r + ERROR, dx - longer * tx, dy - longer * ty, dz - longer * tz)
        store3(scratch, r + AIM, longer * tx, longer * ty, longer * tz)
        store3(scratch, r + WAY, dx * inverse, dy * inverse, dz * inverse)
        store(scratch, r + INVERSE, inverse)
        calmest = smaller(calmest, inverse * dot((dx, dy, dz), began))
        if axes.shape[0] > 0:
            way, all_ways = blocked_way(axes, a0 + 6 * i, qw, qx, qy, qz, scaled((tx, ty, tz), longer * inverse))
            store3(scratch, r + BLOCKED, *way)
            store(scratch, r + BLOCKED + 3, all_ways)
        qw, qx, qy, qz = turn_onto(qw, qx, qy, qz, tx, ty, tz, dx, dy, dz)
        if forks[i, CARRIES]:
            put_turn(scratch, f, px, py, pz, qw, qx, qy, qz)
            for k in range(PULLS - HANGS):
                store(scratch, f + HANGS + k, zero)
        px, py, pz = ux, uy, uz
        ox, oy, oz = ax, ay, az
    return calmest


@register_jitable
def put_turn(scratch, f, px, py, pz, qw, qx, qy, qz):
    """Note where a carrier begins (its fork row), as a displacement, and how it is turned."""
    store(scratch, f + TURN, qw)
    store3(scratch, f + TURN + 1, qx, qy, qz)
    store3(scratch, f + FOOT, px, py, pz)


@register_jitable
def foot_of(n, motion, m0, forks, scratch, i, qw, qx, qy, qz):
    """Where a rider begins, as a displacement, its carrier being turned by a quaternion; notes that, and the rider's OFFSET."""
    f, carrier = SCRATCH * n + FORK * i, SCRATCH * n + FORK * forks[i, CARRIER]
    sx, sy, sz = load3(motion, m0 + 6 * n + 6 + 3 * forks[i, RIDE])
    tx, ty, tz = rotate(qw, qx, qy, qz, sx, sy, sz)
    px, py, pz = load3(scratch, carrier + FOOT)
    px, py, pz = px + (tx - sx), py + (ty - sy), pz + (tz - sz)
    store3(scratch, f + OFFSET, tx, ty, tz)
    store3(scratch, f + FOOT, px, py, pz)
    return px, py, pz


@register_jitable
def apply_limits(n, state, s0, params, p0, motion, m0, axes, a0, forks, scratch):
    """Keep every segment within its bend limit and off its blocked turning axes, from root to tip."""
    zero = splat(0.0)
    qw, qx, qy, qz = splat(1.0), zero, zero, zero
    px, py, pz = zero, zero, zero
    ox, oy, oz = zero, zero, zero
    for i in range(n):
        f = SCRATCH * n + FORK * i
        if forks[i, CARRIER] >= 0:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            ox, oy, oz = load3(scratch, f + FOOT)
            qw, qx, qy, qz = turn_of(scratch, carrier)
            px, py, pz = foot_of(n, motion, m0, forks, scratch, i, qw, qx, qy, qz)
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
            way, all_ways = blocked_way(axes, a0 + 6 * i, qw, qx, qy, qz, (gx, gy, gz))
            x, y, z = with_share((x, y, z), way, -dot((x, y, z), way))
            x, y, z = x + all_ways * (gx - x), y + all_ways * (gy - y), z + all_ways * (gz - z)
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
        if forks[i, CARRIES]:
            put_turn(scratch, f, px, py, pz, qw, qx, qy, qz)
        px, py, pz = ux, uy, uz


@register_jitable
def finish(n, rate, state, s0, params, p0, motion, m0, forks, scratch):
    """Bound every segment's length and every particle's speed against the keyed motion, so that nothing can explode."""
    for i in range(n):
        px, py, pz = begin_of(i, n, state, s0, forks, scratch)
        limit = load(params, p0 + PARAMS * i + SPEED_LIMIT)
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        kx, ky, kz = load3(motion, m0 + 6 * i + 3)
        ox, oy, oz = load3(scratch, SCRATCH * i + START)
        ux, uy, uz = load3(state, s0 + 6 * i)
        dx, dy, dz = sx + (ux - px), sy + (uy - py), sz + (uz - pz)
        length = larger(sqrt(dx * dx + dy * dy + dz * dz), 1e-9)
        rest = sqrt(sx * sx + sy * sy + sz * sz)
        longest = rest * (1.0 + load(params, p0 + PARAMS * i + STRETCH_LIMIT))
        wanted = larger(where_less(longest, length, longest, length), SHORTEST_SHARE * rest)
        change = (wanted / length - 1.0) * where_less(0.0, w, 1.0, 0.0)
        ux, uy, uz = ux + change * dx, uy + change * dy, uz + change * dz
        store3(state, s0 + 6 * i, ux, uy, uz)
        vx, vy, vz = (ux - ox - kx) * rate, (uy - oy - ky) * rate, (uz - oz - kz) * rate
        speed = sqrt(vx * vx + vy * vy + vz * vz)
        if any_less(where_less(speed, WILD * limit, 1.0, 0.0), 1.0):
            # What found no way to go, or is no number, stays where it was.
            sane = where_less(speed, WILD * limit, 1.0, 0.0)
            ux, uy, uz = where_less(sane, 1.0, ox, ux), where_less(sane, 1.0, oy, uy), where_less(sane, 1.0, oz, uz)
            store3(state, s0 + 6 * i, ux, uy, uz)
            vx, vy, vz = where_less(sane, 1.0, 0.0, vx), where_less(sane, 1.0, 0.0, vy), where_less(sane, 1.0, 0.0, vz)
            speed = where_less(sane, 1.0, 0.0, speed)
        slower = limit / larger(speed, limit)
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
    forks,
    colliders,
    surface_contacts,
    has_limits,
    record_every,
    scratch,
    record,
):
    """Advance the chains of the blocks first_block..end_block-1 by a number of substeps (arrays as in the module's text).

    ``forks`` are as in kernels/chain_rows.py; ``colliders`` frames and shapes as kernels/contacts.py says, and reaches, in float32;
    ``surface_contacts``, of skins that move evenly through these substeps, as in kernels/surface_contacts.py and at ALONG of
    kernels/chain_contacts.py, for each skin, block, segment, its SAMPLES. ``scratch`` (SCRATCH n, 16) is room for one thread, with FORK n
    rows more where there are riders. ``record`` receives the displacements after every ``record_every``-th substep. Blocks share nothing,
    so any split over threads gives the same bits.
    """
    blocks = params.shape[0] // (PARAMS * n)
    riders = 0
    for i in range(n):
        riders = max(riders, forks[i, RIDE] + 1)
    wide = 6 * n + 6 + 3 * riders
    many, has_axes = len(colliders[1]), len(axes) > 0
    rate, each = np.float32(1.0) / dt, np.float32(1.0 / substeps)
    for block in range(first_block, end_block):
        s0 = block * 6 * n
        p0 = block * PARAMS * n
        for step in range(substeps):
            m0 = (step * blocks + block) * wide
            a0 = (step * blocks + block) * 6 * n
            predict(n, dt, rate, state, s0, params, p0, motion, m0, scratch)
            if riders > 0:
                begin_forks(n, motion, m0, forks, scratch)
            calm = aim(n, state, s0, motion, m0, axes, a0, forks, scratch)
            calm = where_less(calm, CALM, 0.0, 1.0) if riders > 0 else splat(1.0)
            solve_bends(n, state, s0, params, p0, np.float32(1.0), has_axes, forks, scratch)
            solve_lengths(n, state, s0, params, p0, motion, m0, calm, forks, scratch)
            if has_axes:
                # What the lengths swung where nothing must swing is taken back as what resists it says, not one segment after another.
                aim(n, state, s0, motion, m0, axes, a0, forks, scratch)
                solve_bends(n, state, s0, params, p0, np.float32(0.0), has_axes, forks, scratch)
                solve_lengths(n, state, s0, params, p0, motion, m0, splat(0.0), forks, scratch)
            if has_limits:
                apply_limits(n, state, s0, params, p0, motion, m0, axes, a0, forks, scratch)
            if many > 0 or len(surface_contacts) > 0:
                rows, then, now = (step * many, 2 * n * many * block), np.float32(step) * each, np.float32(step + 1) * each
                skins = surface_contacts, blocks
                push_out(n, state, s0, params, p0, motion, m0, forks, scratch, colliders, *rows, skins, block, now, then)
            finish(n, rate, state, s0, params, p0, motion, m0, forks, scratch)
            if (step + 1) % record_every == 0:
                r0 = (((step + 1) // record_every - 1) * blocks + block) * 3 * n
                for i in range(n):
                    ux, uy, uz = load3(state, s0 + 6 * i)
                    store3(record, r0 + 3 * i, ux, uy, uz)


advance_chains = kernel(advance)
"""`advance`, compiled. The plain function is the slow reference and works with rows of any width."""
