"""The lengths of chains and trees of chains, brought to what they should be at once.

Along a chain that is a tridiagonal system. Where branches ride, a segment's begin and its turn are pulled in all ways: those segments, and
all before them, are *dense*, and are eliminated as articulated bodies are, see kernels/bends.py.
"""

from numba.extending import register_jitable

from quiver.kernels.bends import FARTHEST, TWIST
from quiver.kernels.chain_rows import (
    BEGAN,
    CARRIER,
    CARRIES,
    DENSE,
    FOOT,
    FORK,
    HANGS,
    INVERSE,
    INVERSE_MASS,
    MASS,
    MOVED,
    OFFSET,
    OFFSET_START,
    PARAMS,
    PULLS,
    ROOM,
    SCRATCH,
    STRETCH_COMPLIANCE,
    TAUT,
    TINY,
    TURN_START,
    TURNED,
    WAY,
    WAY_START,
    back_through,
    begin_of,
    carried_along,
    cross,
    crossing,
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
    scaled,
    store3,
    store9,
    through,
    with_share,
)
from quiver.kernels.lanes import any_less, larger, load, smaller, splat, sqrt, store, where_less

QUICK = 0.5
"""Cosine of a segment's turn in one substep from which on it pulls along where it is."""
CALM = 0.9
"""... and down to which all segments of a tree pull along where they were: beyond, that need not have a solution."""
LEAST_VOLUME = 0.5
"""What the determinant of all that resists an end is at the least, as a share of that of its own mass."""
TAUT_GIVE, TAUT_CARE = 0.01, 4.0
"""Softness of lengths held at both ends, in shares of the inverse masses: always, and per share of the length it is off."""
PULL, PAST, NEXT = ROOM, ROOM + 1, ROOM + 2
"""Scratch rows: how a length's pull follows the begin of its segment, what it is at rest, and how the next one's follows it, two rows."""
BY_BEGIN, BY_TURN, BESIDES = HANGS, HANGS + 9, HANGS + 18
"""Fork rows of what is dense: how its vector follows its begin and the turn before it (nine rows each), and what it does besides."""
FORCE = PULLS
"""Fork rows: how the force at the begin of a segment, and the torque on the turn before it, follow the begin and that turn (nine rows
each), and what they are at rest (three): one after the other."""


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
    short = scaled(way, inverse)
    return plus(way, cross(way, twist)), minus9(crossing(short), outer(short, twist))


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
            offset = load3(scratch, SCRATCH * n + FORK * k + OFFSET)
            arm = mirrored(crossing(offset))
            lever = crossing(between(offset, load3(scratch, SCRATCH * n + FORK * k + OFFSET_START), calm))
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
