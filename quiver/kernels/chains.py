"""Spring chains, and trees of them: many advanced by small substeps, sixteen at a time.

One substep is extended position-based dynamics (Macklin, Müller, Chentanez 2016; small steps: Macklin et al. 2019) with each kind of
constraint solved *directly* from the tips to the root and back instead of by sweeps, so that the stiffness does not depend on how many
sweeps there are: the bends as kernels/bends.py says, the lengths here. A chain with branches is solved as one.

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

from quiver.kernels.bends import FARTHEST, TWIST, solve_bends
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
    MASS,
    MOVED,
    OFFSET,
    OFFSET_START,
    PARAMS,
    PULLS,
    RIDE,
    ROOM,
    SCRATCH,
    SIN_LIMIT,
    SPEED_LIMIT,
    START,
    STRETCH_COMPLIANCE,
    STRETCH_LIMIT,
    TAUT,
    TINY,
    TURN,
    TURN_START,
    TURNED,
    WAY,
    WAY_START,
    back_through,
    begin_of,
    blocked_way,
    carried_along,
    cross,
    dot,
    inverted,
    load3,
    load9,
    minus,
    minus9,
    mirrored,
    outer,
    plus,
    plus9,
    product,
    rotate,
    scaled,
    store3,
    store9,
    through,
    turn_onto,
    with_share,
)
from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import any_less, larger, load, smaller, splat, sqrt, store, where_less

WILD = 4.0
"""How many times the greatest speed is no speed at all: with what else is bounded, there is no more than one length of a chain in it."""
SHORTEST_SHARE = 0.5
"""The least of its keyed length that is left of a segment."""
QUICK = 0.5
"""Cosine of a segment's turn in one substep from which on it pulls along where it is."""
CALM = 0.9
"""... and down to which all segments of a tree pull along where they were: beyond, that need not have a solution."""
LEAST_VOLUME = 0.5
"""What the determinant of all that resists an end is at the least, as a share of that of its own mass."""
DISCONNECTED = 1e12
"""A compliance at which a constraint moves nothing any more (float32 keeps about seven digits)."""
TAUT_GIVE, TAUT_CARE = 0.01, 4.0
"""Softness of lengths held at both ends, in shares of the inverse masses: always, and per share of the length it is off."""


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
    none3 = zero, zero, zero
    qw, qx, qy, qz = splat(1.0), zero, zero, zero
    ox, oy, oz = load3(motion, m0 + 6 * n + 3)
    ox, oy, oz = -ox, -oy, -oz
    for i in range(n):
        r, f = SCRATCH * i, SCRATCH * n + FORK * i
        if forks[i, CARRIER] >= 0:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            qw, qx, qy, qz = load(scratch, carrier + TURN), *load3(scratch, carrier + TURN + 1)
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
            passed, turning = turns(way, scaled(cross(target, way), 1.0 / larger(1.0 + dot(target, way), 1e-4)), inverse)
            store3(scratch, f + WAY_START, *way)
            store3(scratch, f + TURN_START, *passed)
            store9(scratch, f + TURN_START + 3, turning)
            qw, qx, qy, qz = turn_onto(qw, qx, qy, qz, tx, ty, tz, dx, dy, dz)
            if forks[i, CARRIES]:
                put_turn(scratch, f, ox, oy, oz, qw, qx, qy, qz)
                store3(scratch, f + MOVED, *none3)
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
            qw, qx, qy, qz = load(scratch, carrier + TURN), *load3(scratch, carrier + TURN + 1)
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


PULL, PAST, NEXT = ROOM, ROOM + 1, ROOM + 2
"""Scratch rows: how a length's pull follows the begin of its segment, what it is at rest, and how the next one's follows it, two rows."""
BY_BEGIN, BY_TURN, BESIDES = HANGS, HANGS + 9, HANGS + 18
"""Fork rows of what is dense: how its vector follows its begin and the turn before it (nine rows each), and what it does besides."""
FORCE, TORQUE = PULLS, PULLS + 21
"""Fork rows: how the force at the begin of a segment, and the torque on the turn before it, follow the begin and that turn (nine rows
each), and what they are at rest (three)."""


@register_jitable
def solve_lengths(n, state, s0, params, p0, motion, m0, calm, forks, scratch):
    """Bring all segments of a block to their keyed lengths at once (one Newton step).

    Each pulls along where it was when the substep began, as in Verlet's method (Ryckaert et al. 1977): pulling along where it is, all
    swing would be damped. ``calm`` is 1, or 0 where all pull along where they are: that has a solution however far they turned. Only
    rounding can spoil it, where branches are flung about by the twist of what carries them: then they are taken not to turn.
    """
    worst = eliminate_lengths(n, state, s0, params, p0, motion, m0, calm, forks, scratch)
    if any_less(worst, 1.0):
        calm = where_less(worst, 1.0, 0.0, calm)
        worst = eliminate_lengths(n, state, s0, params, p0, motion, m0, calm, forks, scratch)
        if any_less(worst, 1.0):
            eliminate_lengths(n, state, s0, params, p0, motion, m0, where_less(worst, 1.0, -1.0, calm), forks, scratch)
    add_lengths(n, state, s0, params, p0, forks, scratch)


@register_jitable
def eliminate_lengths(n, state, s0, params, p0, motion, m0, calm, forks, scratch):
    """From the tips on, tell how each segment's length pulls at its begin.

    What hangs on the begin of a segment pulls at that with ``share`` of how far the begin moves along ``now``, and with ``rest`` besides,
    both along ``then``. Up to where branches ride, it pulls in all ways and at the turn, see `dense_length`. Returns what is below 1 where
    the equations are no good.
    """
    zero = splat(0.0)
    none3 = zero, zero, zero
    share, rest, then, now, worst = zero, zero, none3, none3, splat(1.0)
    for k in range(n):
        i = n - 1 - k
        r, f = SCRATCH * i, SCRATCH * n + FORK * i
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        soft = load(params, p0 + PARAMS * i + STRETCH_COMPLIANCE)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        ux, uy, uz = load3(state, s0 + 6 * i)
        px, py, pz = begin_of(i, n, state, s0, forks, scratch)
        dx, dy, dz = sx + (ux - px), sy + (uy - py), sz + (uz - pz)
        length = sqrt(dx * dx + dy * dy + dz * dz)
        keyed = sqrt(sx * sx + sy * sy + sz * sz)
        inverse = 1.0 / larger(length, 1e-9)
        way, began = (dx * inverse, dy * inverse, dz * inverse), load3(scratch, r + BEGAN)
        began = between(way, began, larger(calm, 0.0))
        # What turns so far in a substep pulls along where it is.
        aligned = dot(way, began)
        bx = where_less(aligned, QUICK, way[0], began[0])
        by = where_less(aligned, QUICK, way[1], began[1])
        bz = where_less(aligned, QUICK, way[2], began[2])
        aligned, began = where_less(aligned, QUICK, 1.0, aligned), (bx, by, bz)
        store3(scratch, r + WAY, *way)
        store3(scratch, r + BEGAN, *began)
        # A chain held at both ends may have no solution near a bad state, where a full Newton step would be wild:
        # there the step is the softer the further off it is (Levenberg, Marquardt).
        over, before = length / larger(keyed, 1e-9) - 1.0, zero
        if i > 0:
            before = load(params, p0 + PARAMS * (forks[i, CARRIER] if forks[i, CARRIER] >= 0 else i - 1) + INVERSE_MASS)
        soft = soft + load(params, p0 + PARAMS * i + TAUT) * (w + before) * (TAUT_GIVE + TAUT_CARE * larger(over, -over))
        store(scratch, r + INVERSE, inverse)
        if forks[i, DENSE]:
            pulls = outer(scaled(then, share), now), scaled(then, rest)
            mass = load(params, p0 + PARAMS * i + MASS)
            worst = smaller(worst, dense_length(i, n, mass, soft, keyed - length, pulls, calm, forks, scratch))
        else:
            # How the next one's pull follows its own, and what it is besides.
            kept = 1.0 / (1.0 + w * share * dot(then, now))
            share_next, rest_next = w * share * kept * dot(now, began), rest * kept
            gives = w * (aligned - dot(way, then) * share_next)
            past = keyed - length + w * dot(way, then) * rest_next
            store(scratch, r + NEXT, share_next)
            store(scratch, r + NEXT + 1, rest_next)
            share = 1.0 / larger(gives + soft, TINY)
            rest = past * share
            store(scratch, r + PULL, share)
            store(scratch, r + PAST, rest)
            then, now = began, way
            if forks[i, CARRIER] >= 0:
                for row in range(42):
                    store(scratch, f + FORCE + row, zero)
                store9(scratch, f + FORCE, outer(scaled(began, share), way))
                store3(scratch, f + FORCE + 18, *scaled(began, rest))
        if forks[i, DENSE] or forks[i, CARRIER] >= 0:
            share, rest, then, now = zero, zero, none3, none3
    return worst


@register_jitable
def add_lengths(n, state, s0, params, p0, forks, scratch):
    """From the root on, move what the lengths pull."""
    zero = splat(0.0)
    none3 = zero, zero, zero
    pull, moved, turned = zero, none3, none3
    for i in range(n):
        r, f, is_rider = SCRATCH * i, SCRATCH * n + FORK * i, forks[i, CARRIER] >= 0
        if is_rider:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            moved, turned = carried_along(scratch, carrier, f), load3(scratch, carrier + TURNED)
            store3(scratch, f + FOOT, *plus(load3(scratch, f + FOOT), moved))
        began, way = load3(scratch, r + BEGAN), load3(scratch, r + WAY)
        w = load(params, p0 + PARAMS * i + INVERSE_MASS)
        if forks[i, DENSE]:
            swing = plus(through(load9(scratch, f + BY_BEGIN), moved), through(load9(scratch, f + BY_TURN), turned))
            swing, begin = plus(swing, load3(scratch, f + BESIDES)), moved
            # However far off it is, a segment turns no farther in a substep.
            swing = scaled(swing, 1.0 / larger(load(scratch, r + INVERSE) * sqrt(dot(swing, swing)) / FARTHEST, 1.0))
            moved = scaled(plus(moved, swing), where_less(0.0, w, 1.0, 0.0))
            passed, turning = turns_of(scratch, r)
            turned = plus(scaled(way, dot(passed, turned)), through(turning, swing))
            if forks[i, CARRIES]:
                store3(scratch, f + MOVED, *begin)
                store3(scratch, f + TURNED, *turned)
        else:
            if i == 0 or is_rider or forks[i - 1, DENSE]:
                pull = load(scratch, r + PULL) * dot(way, moved) + load(scratch, r + PAST)
            after, next_pull = none3, zero
            if i + 1 < n and forks[i + 1, CARRIER] < 0:
                after = load3(scratch, r + SCRATCH + BEGAN)
                next_pull = load(scratch, r + NEXT) * pull + load(scratch, r + NEXT + 1)
            x, y, z = pull * began[0] - next_pull * after[0], pull * began[1] - next_pull * after[1], pull * began[2] - next_pull * after[2]
            moved, pull = (w * x, w * y, w * z), next_pull
        store3(state, s0 + 6 * i, *plus(load3(state, s0 + 6 * i), moved))


@register_jitable
def between(one, other, share):
    """One vector, or so much of another."""
    return with_share(one, minus(other, one), share)


@register_jitable
def turns_of(scratch, r):
    """(along what the turn before it becomes a segment's own about its way, how it turns by how its vector changes), as bends.py says."""
    return turns(load3(scratch, r + WAY), load3(scratch, r + TWIST), load(scratch, r + INVERSE))


@register_jitable
def turns(way, twist, inverse):
    """`turns_of` a segment that looks so, twists so as it swings, and is one over so long."""
    x, y, z = scaled(way, inverse)
    zero = x * 0.0
    return plus(way, cross(way, twist)), minus9((zero, -z, y, z, zero, -x, -y, x, zero), outer((x, y, z), twist))


@register_jitable
def dense_length(i, n, mass, soft, missing, pulls, calm, forks, scratch):
    """Eliminate the length of a segment on which branches ride, or on what comes after it.

    So it is told how its vector follows its begin and the turn before it, and how it pulls at both in turn. ``missing`` is by how much it
    is too short; ``pulls`` are those of what is not dense on its end, as a matrix and a vector. Returns 1, or 0 where that is no good.
    """
    zero, r, f = mass * 0.0, SCRATCH * i, SCRATCH * n + FORK * i
    way, began = load3(scratch, r + WAY), load3(scratch, r + BEGAN)
    passed, turning = turns_of(scratch, r)
    turns_along, calm = where_less(calm, 0.0, 0.0, 1.0), larger(calm, 0.0)
    passed, turning = (
        scaled(passed, turns_along),
        (
            *scaled(turning[0:3], turns_along),
            *scaled(turning[3:6], turns_along),
            *scaled(turning[6:9], turns_along),
        ),
    )
    # What pulls at the turns does so as they were, as along began.
    way_start = between(way, load3(scratch, f + WAY_START), calm)
    passed_start = between(passed, load3(scratch, f + TURN_START), calm)
    x = between(turning[0:3], load3(scratch, f + TURN_START + 3), calm)
    y = between(turning[3:6], load3(scratch, f + TURN_START + 6), calm)
    z = between(turning[6:9], load3(scratch, f + TURN_START + 9), calm)
    back = mirrored((*x, *y, *z))
    none9 = outer((zero, zero, zero), way)
    # On its end: forces by how that moves and turns, torques by the same; then with what rides on it, by how its begin moves.
    force_moved, force, force_turned, torque_moved, torque_turned, torque = *pulls, none9, none9, none9, (zero, zero, zero)
    if i + 1 < n and forks[i + 1, CARRIER] < 0 and forks[i + 1, DENSE]:
        row = f + FORK + FORCE
        force_moved, force_turned, force = load9(scratch, row), load9(scratch, row + 9), load3(scratch, row + 18)
        torque_moved, torque_turned, torque = load9(scratch, row + 21), load9(scratch, row + 30), load3(scratch, row + 39)
    force_moved = plus9(force_moved, (mass, zero, zero, zero, mass, zero, zero, zero, mass))
    all_moved, all_turned, all_force, all_torque_moved = force_moved, force_turned, force, torque_moved
    for k in range(i + 1, n):
        if forks[k, CARRIER] == i:
            row = SCRATCH * n + FORK * k + FORCE
            x, y, z = load3(scratch, SCRATCH * n + FORK * k + OFFSET)
            arm = zero, z, -y, -z, zero, x, y, -x, zero
            x, y, z = between((x, y, z), load3(scratch, SCRATCH * n + FORK * k + OFFSET_START), calm)
            lever = zero, -z, y, z, zero, -x, -y, x, zero
            own, own_force, own_moved = load9(scratch, row), load3(scratch, row + 18), load9(scratch, row + 21)
            own_turned = plus9(product(own, arm), load9(scratch, row + 9))
            all_moved, all_turned, all_force = plus9(all_moved, own), plus9(all_turned, own_turned), plus(all_force, own_force)
            all_torque_moved = plus9(all_torque_moved, plus9(own_moved, product(lever, own)))
            own = plus9(load9(scratch, row + 30), plus9(product(own_moved, arm), product(lever, own_turned)))
            torque_turned = plus9(torque_turned, own)
            torque = plus(torque, plus(load3(scratch, row + 39), through(lever, own_force)))
    bent = product(torque_turned, turning)
    hold = plus9(plus9(force_moved, product(force_turned, turning)), product(back, plus9(torque_moved, bent)))
    gives, volume = inverted(hold, mass * mass * mass * LEAST_VOLUME)
    by_begin = plus9(force_moved, product(back, all_torque_moved))
    by_turn = outer(plus(through(force_turned, way), through(back, through(torque_turned, way))), passed)
    besides, felt = plus(force, through(back, torque)), back_through(gives, way)
    gain = dot(felt, began)
    worst = smaller(where_less(mass * mass * mass * LEAST_VOLUME, volume, 1.0, 0.0), where_less(0.0, gain, 1.0, 0.0))
    share = 1.0 / larger(gain + soft, TINY)
    pull = scaled(through(gives, began), share)
    by_begin = minus9(outer(pull, back_through(by_begin, felt)), product(gives, by_begin))
    by_turn = minus9(outer(pull, back_through(by_turn, felt)), product(gives, by_turn))
    rest = missing + dot(felt, besides)
    x, y, z = through(gives, besides)
    besides = pull[0] * rest - x, pull[1] * rest - y, pull[2] * rest - z
    store9(scratch, f + BY_BEGIN, by_begin)
    store9(scratch, f + BY_TURN, by_turn)
    store3(scratch, f + BESIDES, *besides)
    force_own = plus9(force_moved, product(all_turned, turning))
    torque_own = outer(passed_start, back_through(plus9(torque_moved, bent), way_start))
    row = f + FORCE
    store9(scratch, row, plus9(all_moved, product(force_own, by_begin)))
    store9(scratch, row + 9, plus9(outer(through(all_turned, way), passed), product(force_own, by_turn)))
    store3(scratch, row + 18, *plus(all_force, through(force_own, besides)))
    store9(scratch, row + 21, plus9(outer(passed_start, back_through(all_torque_moved, way_start)), product(torque_own, by_begin)))
    along = dot(way_start, through(torque_turned, way))
    store9(scratch, row + 30, plus9(outer(scaled(passed_start, along), passed), product(torque_own, by_turn)))
    store3(scratch, row + 39, *plus(scaled(passed_start, dot(way_start, torque)), through(torque_own, besides)))
    return worst


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
            qw, qx, qy, qz = load(scratch, carrier + TURN), *load3(scratch, carrier + TURN + 1)
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
    wide = 6 * n + 6
    for i in range(n):
        wide += 3 if forks[i, RIDE] >= 0 else 0
    many, has_axes = len(colliders[1]), len(axes) > 0
    rate, each = np.float32(1.0) / dt, np.float32(1.0 / substeps)
    for block in range(first_block, end_block):
        s0 = block * 6 * n
        p0 = block * PARAMS * n
        for step in range(substeps):
            m0 = (step * blocks + block) * wide
            a0 = (step * blocks + block) * 6 * n
            predict(n, dt, rate, state, s0, params, p0, motion, m0, scratch)
            if wide > 6 * n + 6:
                begin_forks(n, motion, m0, forks, scratch)
            calm = aim(n, state, s0, motion, m0, axes, a0, forks, scratch)
            calm = where_less(calm, CALM, 0.0, 1.0) if wide > 6 * n + 6 else splat(1.0)
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
