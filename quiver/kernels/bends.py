"""The bends of chains and trees of chains, solved at once.

Each segment is drawn to where the turn of the one before it carries its keyed direction. All bends and all inertia make one sum of
squares of how the segments swing, at their lengths; it is minimised exactly, as articulated bodies are (Featherstone 1983): from the tips
on, each segment's swing is eliminated, and what hangs there resists the end of the segment before and its turn, of which one displacement
and one turn are seen by whatever hangs on it. So the pull of each bend is the exact derivative of its energy, however crooked a
chain is: an inexact one feeds in energy.
"""

from numba.extending import register_jitable

from quiver.kernels.chain_rows import (
    AIM,
    BEND,
    BLOCKED,
    CARRIER,
    CARRIES,
    DENSE,
    ERROR,
    FOLD,
    FOOT,
    FORK,
    HANGS,
    INVERSE,
    INVERSE_MASS,
    MASS,
    MOVED,
    OFFSET,
    PARAMS,
    ROOM,
    SCRATCH,
    STRETCH_COMPLIANCE,
    TURNED,
    WAY,
    back_through,
    carried_along,
    cross,
    crossing,
    dot,
    load3,
    load6,
    load9,
    mirrored,
    outer,
    plus,
    plus9,
    product,
    scaled,
    store3,
    store6,
    store9,
    through,
    twist_of,
    with_outer,
    with_share,
)
from quiver.kernels.lanes import any_less, larger, load, smaller, splat, sqrt, store, where_less

PUSH, LEAN, GAIN, SIDE, TWIST, ALONG = ROOM, ROOM + 6, ROOM + 12, ROOM + 14, ROOM + 17, ROOM + 20
"""Scratch rows: how a segment's swing follows its begin, the turn before it, and what pulls; one way across it; its twist as it swings;
how what is soft follows its swing, two rows, what pulls, its begin and the turn before it."""
FOLDED = -0.5
"""Cosine of a swing from which on it is resisted, where other things turn with the segment: how it is turned is not defined where it looks
straight against its aim, and on the way there it twists the more quickly."""
FARTHEST = 0.5
"""... and how far such a segment swings in a substep, as a share of its length."""
BLOCKS, HEAVY = 1e2, 1e2
"""By how much stiffer a bend is where it must not be than all that hangs on the segment resists, of which no more counts than so many
times what resists folding."""
TINY_DETERMINANT, TINY_STIFFNESS = 1e-6, 1e-30
"""What the determinant of a segment's resistance is at the least: so much of the product of those of both ways, and more than 0."""


@register_jitable
def across(x, y, z):
    """Two unit vectors across a unit vector, in order right-handed (Duff et al. 2017)."""
    side = where_less(z, 0.0, -1.0, 1.0)
    a = -1.0 / (side + z)
    b = x * y * a
    return (1.0 + side * x * x * a, side * b, -side * x), (b, side + y * y * a, -y)


@register_jitable
def beside_blocked(one, two, way, blocked):
    """The same two ways across ``way``, but the second the one that is blocked, where one is."""
    bx, by, bz = with_share(blocked, way, -dot(blocked, way))
    square = bx * bx + by * by + bz * bz
    share = 1.0 / sqrt(larger(square, 1e-2))
    bx, by, bz = bx * share, by * share, bz * share
    ax, ay, az = cross((bx, by, bz), way)
    return (
        (where_less(1e-2, square, ax, one[0]), where_less(1e-2, square, ay, one[1]), where_less(1e-2, square, az, one[2])),
        (where_less(1e-2, square, bx, two[0]), where_less(1e-2, square, by, two[1]), where_less(1e-2, square, bz, two[2])),
    )


@register_jitable
def through6(m, v):
    """A symmetric matrix (xx xy xz yy yz zz) times a vector."""
    return dot((m[0], m[1], m[2]), v), dot((m[1], m[3], m[4]), v), dot((m[2], m[4], m[5]), v)


@register_jitable
def with_squares(m, a, b):
    """A symmetric matrix and the outer product of two vectors that is symmetric."""
    x, y = with_share(m[0:3], b, a[0]), (m[3] + a[1] * b[1], m[4] + a[1] * b[2])
    return x[0], x[1], x[2], y[0], y[1], m[5] + a[2] * b[2]


@register_jitable
def plus6(a, b):
    return a[0] + b[0], a[1] + b[1], a[2] + b[2], a[3] + b[3], a[4] + b[4], a[5] + b[5]


@register_jitable
def hang_on(scratch, carrier, offset, inertia, coupling, turning, push, torque):
    """Add what hangs on a foot, seen from the begin and the turn of its carrier, to what that carries."""
    row, lever = carrier + HANGS, crossing(offset)
    full = inertia[0], inertia[1], inertia[2], inertia[1], inertia[3], inertia[4], inertia[2], inertia[4], inertia[5]
    # The foot moves by turn x offset.
    both = product(full, mirrored(lever))
    more, own = product(lever, coupling), product(lever, both)
    turning = plus6(turning, (own[0], own[1], own[2], own[4], own[5], own[8]))
    turning = plus6(turning, (2.0 * more[0], more[1] + more[3], more[2] + more[6], 2.0 * more[4], more[5] + more[7], 2.0 * more[8]))
    store6(scratch, row, plus6(load6(scratch, row), inertia))
    store9(scratch, row + 6, plus9(load9(scratch, row + 6), plus9(coupling, both)))
    store6(scratch, row + 15, plus6(load6(scratch, row + 15), turning))
    store3(scratch, row + 21, *plus(load3(scratch, row + 21), push))
    store3(scratch, row + 24, *plus(load3(scratch, row + 24), plus(torque, cross(offset, push))))


@register_jitable
def solve_bends(n, state, s0, params, p0, pulls, has_axes, forks, scratch):
    """Let all bends of a block pull at once; adds to the displacements, and to those of the feet of riders.

    They pull with so much of their stiffness as ``pulls`` says. Where it ``has_axes``, they are as good as stiff where nothing must swing.

    What hangs on a segment, with what rides on it, resists a displacement d of its end and a turn t of it with an energy of
    d . inertia d / 2 + d . coupling t + t . turning t / 2 + push . d + torque . t.
    """
    zero = splat(0.0)
    none3, none6 = (zero, zero, zero), (zero, zero, zero, zero, zero, zero)
    none9 = (zero, zero, zero, zero, zero, zero, zero, zero, zero)
    inertia, coupling, turning, push, torque = none6, none9, none6, none3, none3
    for k in range(n):
        i = n - 1 - k
        r, f = SCRATCH * i, SCRATCH * n + FORK * i
        mass, stiff = load(params, p0 + PARAMS * i + MASS), pulls * load(params, p0 + PARAMS * i + BEND)
        error, aim, way = load3(scratch, r + ERROR), load3(scratch, r + AIM), load3(scratch, r + WAY)
        inverse = load(scratch, r + INVERSE)
        if has_axes or forks[i, DENSE]:
            stiff = stiff + pulls * load(params, p0 + PARAMS * i + FOLD) * larger(FOLDED - inverse * dot(aim, way), 0.0)
        one, two = across(way[0], way[1], way[2])
        if has_axes:
            one, two = beside_blocked(one, two, way, load3(scratch, r + BLOCKED))
        twist = twist_of(scaled(aim, inverse), way)
        store3(scratch, r + SIDE, *one)
        store3(scratch, r + TWIST, *twist)
        # How far it turns as it swings one way or the other; what of the turn before it passes on as its own.
        turn_one = scaled(with_share(two, way, -dot(twist, one)), inverse)
        turn_two = scaled(with_share(one, way, dot(twist, two)), -inverse)
        passed = plus(way, cross(way, twist))
        inertia = inertia[0] + mass, inertia[1], inertia[2], inertia[3] + mass, inertia[4], inertia[5] + mass
        end_one = plus(through6(inertia, one), through(coupling, turn_one))
        end_two = plus(through6(inertia, two), through(coupling, turn_two))
        own_one, own_two = back_through(coupling, one), back_through(coupling, two)
        pull_one, pull_two = dot(one, push), dot(two, push)
        soft, give, end_way, own_way, pull_way = load(params, p0 + PARAMS * i + STRETCH_COMPLIANCE), zero, none3, none3, zero
        is_soft = any_less(zero, soft)
        if is_soft:
            end_way, own_way, pull_way = through6(inertia, way), back_through(coupling, way), dot(way, push)
            give = soft / (1.0 + soft * dot(way, end_way))
        begin_one, begin_two = end_one, end_two
        if forks[i, CARRIES]:
            riding = load9(scratch, f + HANGS + 6)
            inertia, turning = plus6(inertia, load6(scratch, f + HANGS)), plus6(turning, load6(scratch, f + HANGS + 15))
            begin_one, begin_two = plus(begin_one, through(riding, turn_one)), plus(begin_two, through(riding, turn_two))
            coupling = plus9(coupling, riding)
            push, torque = plus(push, load3(scratch, f + HANGS + 21)), plus(torque, load3(scratch, f + HANGS + 24))
        own_one, own_two = plus(own_one, through6(turning, turn_one)), plus(own_two, through6(turning, turn_two))
        pull_one = pull_one + dot(turn_one, torque) + stiff * dot(one, error)
        pull_two = pull_two + dot(turn_two, torque) + stiff * dot(two, error)
        lean_one = with_share(scaled(passed, dot(way, own_one)), cross(aim, one), -stiff)
        lean_two = with_share(scaled(passed, dot(way, own_two)), cross(aim, two), -stiff)
        h11 = dot(one, end_one) + dot(turn_one, own_one) + stiff
        h12 = dot(one, end_two) + dot(turn_one, own_two)
        h22 = dot(two, end_two) + dot(turn_two, own_two) + stiff
        more_one, more_two = zero, zero
        if has_axes:
            all_ways, blocked = load(scratch, r + BLOCKED + 3), load3(scratch, r + BLOCKED)
            heavy, some_way = HEAVY * load(params, p0 + PARAMS * i + FOLD), where_less(0.5, dot(blocked, blocked), 1.0, 0.0)
            more_one, more_two = BLOCKS * all_ways * smaller(h11, heavy), BLOCKS * larger(all_ways, some_way) * smaller(h22, heavy)
            pull_one, pull_two = pull_one + more_one * dot(one, error), pull_two + more_two * dot(two, error)
            h11, h22 = h11 + more_one, h22 + more_two
            # What is blocked turns with the turn before it, and so does the whole segment against it.
            length = 1.0 / inverse
            off_one, off_two = scaled(cross(way, one), length), scaled(cross(way, two), length)
            lean_one, lean_two = with_share(lean_one, off_one, -more_one), with_share(lean_two, off_two, -more_two)
        # What is left of it for what it hangs on, but for its own swing.
        straight, spring = through(coupling, way), stiff * dot(aim, aim)
        coupling = outer(straight, passed)
        turning = with_squares((spring, zero, zero, spring, zero, spring), scaled(passed, dot(way, through6(turning, way))), passed)
        turning = with_squares(turning, scaled(aim, -stiff), aim)
        torque = with_share(scaled(passed, dot(way, torque)), cross(aim, error), -stiff)
        if has_axes:
            turning = with_squares(with_squares(turning, scaled(off_one, more_one), off_one), scaled(off_two, more_two), off_two)
            torque = with_share(torque, off_one, -more_one * dot(one, error))
            torque = with_share(torque, off_two, -more_two * dot(two, error))
        if is_soft:
            # What is soft gives way along too; that is eliminated first.
            h1, h2 = dot(one, end_way) + dot(turn_one, own_way), dot(two, end_way) + dot(turn_two, own_way)
            lean_way, one_way, two_way = scaled(passed, dot(way, own_way)), -h1 * give, -h2 * give
            store3(scratch, r + ALONG, one_way, two_way, pull_way * give)
            store6(scratch, r + ALONG + 3, (*scaled(end_way, give), *scaled(lean_way, give)))
            h11, h12, h22 = h11 + one_way * h1, h12 + one_way * h2, h22 + two_way * h2
            begin_one, begin_two = with_share(begin_one, end_way, one_way), with_share(begin_two, end_way, two_way)
            lean_one, lean_two = with_share(lean_one, lean_way, one_way), with_share(lean_two, lean_way, two_way)
            pull_one, pull_two = pull_one + one_way * pull_way, pull_two + two_way * pull_way
            less, leaned = scaled(end_way, -give), scaled(lean_way, -give)
            inertia, coupling = with_squares(inertia, less, end_way), with_outer(coupling, less, lean_way)
            turning = with_squares(turning, leaned, lean_way)
            push, torque = with_share(push, less, pull_way), with_share(torque, leaned, pull_way)
        share = 1.0 / larger(h11 * h22 - h12 * h12, TINY_DETERMINANT * h11 * h22 + TINY_STIFFNESS)
        g11, g12, g22 = -h22 * share, h12 * share, -h11 * share
        by_one, by_two = with_share(scaled(begin_one, g11), begin_two, g12), with_share(scaled(begin_one, g12), begin_two, g22)
        on_one, on_two = with_share(scaled(lean_one, g11), lean_two, g12), with_share(scaled(lean_one, g12), lean_two, g22)
        gain_one, gain_two = g11 * pull_one + g12 * pull_two, g12 * pull_one + g22 * pull_two
        store6(scratch, r + PUSH, (*by_one, *by_two))
        store6(scratch, r + LEAN, (*on_one, *on_two))
        store(scratch, r + GAIN, gain_one)
        store(scratch, r + GAIN + 1, gain_two)
        inertia = with_squares(with_squares(inertia, begin_one, by_one), begin_two, by_two)
        coupling = with_outer(with_outer(coupling, begin_one, on_one), begin_two, on_two)
        turning = with_squares(with_squares(turning, lean_one, on_one), lean_two, on_two)
        push = with_share(with_share(push, begin_one, gain_one), begin_two, gain_two)
        torque = with_share(with_share(torque, lean_one, gain_one), lean_two, gain_two)
        if forks[i, CARRIER] >= 0:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            hang_on(scratch, carrier, load3(scratch, f + OFFSET), inertia, coupling, turning, push, torque)
            inertia, coupling, turning, push, torque = none6, none9, none6, none3, none3
    moved, turned = none3, none3
    for i in range(n):
        r, f = SCRATCH * i, SCRATCH * n + FORK * i
        if forks[i, CARRIER] >= 0:
            carrier = SCRATCH * n + FORK * forks[i, CARRIER]
            moved, turned = carried_along(scratch, carrier, f), load3(scratch, carrier + TURNED)
            store3(scratch, f + FOOT, *plus(load3(scratch, f + FOOT), moved))
        way, one, twist = load3(scratch, r + WAY), load3(scratch, r + SIDE), load3(scratch, r + TWIST)
        a = dot(load3(scratch, r + PUSH), moved) + dot(load3(scratch, r + LEAN), turned) + load(scratch, r + GAIN)
        b = dot(load3(scratch, r + PUSH + 3), moved) + dot(load3(scratch, r + LEAN + 3), turned) + load(scratch, r + GAIN + 1)
        swing, stretch = with_share(scaled(one, a), cross(way, one), b), zero
        if has_axes or forks[i, DENSE]:
            swing = scaled(swing, 1.0 / larger(load(scratch, r + INVERSE) * sqrt(dot(swing, swing)) / FARTHEST, 1.0))
        if any_less(zero, load(params, p0 + PARAMS * i + STRETCH_COMPLIANCE)):
            one_way, two_way, stretch = load3(scratch, r + ALONG)
            stretch = dot(load3(scratch, r + ALONG + 3), moved) + dot(load3(scratch, r + ALONG + 6), turned) + stretch
            stretch = a * one_way + b * two_way - stretch
        free = where_less(0.0, load(params, p0 + PARAMS * i + INVERSE_MASS), 1.0, 0.0)
        kept = dot(plus(way, cross(way, twist)), turned)
        turned = with_share(cross(way, swing), way, -dot(twist, swing))
        turned = with_share(scaled(way, kept), turned, load(scratch, r + INVERSE))
        if forks[i, CARRIES]:
            store3(scratch, f + MOVED, *moved)
            store3(scratch, f + TURNED, *turned)
        moved = scaled(with_share(plus(moved, swing), way, stretch), free)
        store3(state, s0 + 6 * i, *plus(load3(state, s0 + 6 * i), moved))
