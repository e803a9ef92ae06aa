"""A frame of a soft body: its particles move, then its tetrahedra and length limits pull them back, in small substeps.

The body is cut into domains, one after another along it, and what spans two of them: the interface. Threads take the domains and
meet at a barrier before and after the interface, so the result is the same to the bit however many there are.

==========  ==================  =====================================================================
array       shape               content
==========  ==================  =====================================================================
points      (P, 4)              each particle's move since the frame began, x y z [m], and its inverse mass [1/kg]; so float32
                                stays exact far from the origin and for steps however small
velocities  (P / 4, 16)         [m/s]
targets     float64 (K, N, 3)   keyed positions of the N particles after each of S substeps [m], or fewer, evenly apart; all goes
                                straight between them
before      float64 (N, 3)      keyed positions when the frame began [m]
positions   float64 (N, 3)      the particles, brought from the frame's begin to its end [m]
pulls       (P / 4, 16)         what a substep adds to the velocity [m/s]; one row only where that is the same for all
damping     (P / 4, 16)         share of the velocity, against the keyed motion, that survives a substep; likewise
masses      (N,)                inverse masses [1/kg]
goals       (K + 1, P / 4, 16)  scratch: the keyed positions when the frame began and at its targets, since it began [m]
pieces      int32 (N,)          which piece each particle is part of
holds       (P / 4, 16)         share of the way to its keyed place that a particle is drawn in a substep; 1 pins it
old         (P / 4, 16)         scratch
begun       (2, P, 4)           scratch: the particles when the frame began, to float32, and what that leaves [m]
==========  ==================  =====================================================================

A row of sixteen numbers, as the lanes take them, is four particles; the fourth number of each is 0, but for the inverse masses.
P is a multiple of four and the last particle is nobody's.

``tets`` is (fans, indices, params, kinds, matrices, prestress, starts), ``length_limits`` (indices, params, starts): what
their modules say, and the blocks (D + 2,) where each of D domains begins, where the interface begins, and where all ends. ``rows`` (D + 1,)
likewise for the rows of particles. ``touches``, what may touch, are what `push_held`, `push_surface_contacts`,
`push_surface_contact_lanes`, `push_pairs` and `push_apart` take.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.barriers import meet
from quiver.kernels.between import push_apart
from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.contacts import push_held, push_pairs, push_surface_contacts
from quiver.kernels.lanes import LANES, fused, larger, load, smaller, store, where_less
from quiver.kernels.length_limits import PARAMS as LENGTH_LIMIT_PARAMS
from quiver.kernels.length_limits import solve_length_limits
from quiver.kernels.pressure import keep_volumes
from quiver.kernels.surface_contacts import push_surface_contact_lanes
from quiver.kernels.tets import measure_fans, settle, solve_fans, stiffen
from quiver.kernels.ways import measure_ways

# Each of these loops over its rows or blocks itself: handing arrays over once for each would cost more than the work.


@register_jitable
def keyed_row(row, keyed, positions, room):
    """Where the particles of a row are keyed to be, keyed (N, 3), since the frame began at positions (N, 3); ``room`` (1, 16) is used."""
    for lane in range(LANES):
        room[0, lane] = 0.0
    for i in range(min(4, len(positions) - 4 * row)):
        v = 4 * row + i
        for k in range(3):
            room[0, 4 * i + k] = keyed[v, k] - positions[v, k]
    return load(room, 0)


@kernel
def begin(first, end, positions, masses, before, targets, goals, points, begun):
    """Make ready for a frame of the particles of rows first..end-1."""
    room = on_stack(np.float32, 1, LANES)
    for v in range(4 * first, min(4 * end, len(positions))):
        for k in range(3):
            points[v, k], begun[0, v, k] = 0.0, positions[v, k]
            begun[1, v, k] = positions[v, k] - np.float64(begun[0, v, k])
        points[v, 3] = masses[v]
    for row in range(first, end):
        store(goals[0], row, keyed_row(row, before, positions, room))
        for k in range(len(targets)):
            store(goals[k + 1], row, keyed_row(row, targets[k], positions, room))


@register_jitable
def moment(step, substeps, goals):
    """When a step of so many is over: the goals before, and the share of the way to the next."""
    at = step * (len(goals) - 1)
    return at // substeps, np.float32(at % substeps) / np.float32(substeps)


@register_jitable
def goal_at(goals, when, row):
    """Where particles of a row are keyed to be at a moment: exactly as keyed at a target, and where all stands still."""
    before, share = when
    here = load(goals[before], row)
    if share > 0.0:
        here = fused(load(goals[before + 1], row) - here, share, here)
    return here


@kernel
def move(first, end, points, positions):
    """Bring particles first..end-1 to where they are."""
    for v in range(first, end):
        for k in range(3):
            positions[v, k] += points[v, k]


@kernel
def predict_rows(first, end, is_first, dt, points, velocities, goals, last, now, then, holds, pulls, old, damping, drag_factor, limit):
    """Find the velocities from the step that is over, and begin the next: keyed from ``now`` to ``then``, moments of the goals."""
    rate, apart, is_own = np.float32(1.0) / dt, len(pulls) > 1, len(damping) > 1
    for row in range(first, end):
        place, goal, aim = load(points, row), goal_at(goals, now, row), goal_at(goals, then, row)
        velocity = load(velocities, row)
        if not is_first:
            velocity = velocity_of(place, goal, goal_at(goals, last, row), load(old, row), rate, limit)
        keyed = (aim - goal) * rate
        velocity = fused(velocity - keyed, load(damping, row if is_own else 0), keyed)
        velocity = fused(velocity, drag_factor, load(pulls, row if apart else 0))
        store(old, row, place)
        moved, hold = fused(velocity, dt, place), load(holds, row)
        store(points, row, where_less(hold, 1.0, fused(aim - moved, hold, moved), aim))


@register_jitable
def velocity_of(place, goal, last, old, rate, limit):
    """Velocities after a step that was keyed from ``last`` to ``goal``; against the keyed motion none is above the limit."""
    keyed = goal - last
    relative = ((place - old) - keyed) * rate
    return fused(keyed, rate, smaller(limit, larger(relative, -limit)))


@kernel
def finish_rows(first, end, dt, points, velocities, goals, last, now, old, limit):
    """Find the velocities after the last step."""
    rate = np.float32(1.0) / dt
    for row in range(first, end):
        aims = goal_at(goals, now, row), goal_at(goals, last, row)
        store(velocities, row, velocity_of(load(points, row), *aims, load(old, row), rate, limit))


@register_jitable
def solve(domain, is_back, points, tets, length_limits):
    """One pass over the constraints of a domain, or of the interface."""
    fans, tet_indices, tet_params, kinds, matrices, prestress, tet_starts = tets
    length_limit_indices, length_limit_params, length_limit_starts = length_limits
    solve_fans(tet_starts[domain], tet_starts[domain + 1], is_back, points, fans, tet_indices, tet_params, kinds, matrices, prestress)
    solve_length_limits(length_limit_starts[domain], length_limit_starts[domain + 1], points, length_limit_indices, length_limit_params)


@register_jitable
def measure(domain, begun, tets, length_limits):
    """Find the ways between the particles of the constraints of a domain, or of the interface."""
    fans, tet_indices, tet_params, tet_starts = tets[0], tets[1], tets[2], tets[6]
    length_limit_indices, length_limit_params, length_limit_starts = length_limits
    measure_fans(tet_starts[domain], tet_starts[domain + 1], begun[0], begun[1], fans, tet_indices, tet_params)
    measure_ways(
        length_limit_starts[domain],
        length_limit_starts[domain + 1],
        begun[0],
        begun[1],
        length_limit_indices,
        length_limit_params,
        1,
        LENGTH_LIMIT_PARAMS,
    )


def _advance(
    part,
    thread_count,
    barrier,
    dt,
    positions,
    masses,
    pulls,
    damping,
    drag_factor,
    limit,
    constraints,
    settling,
    pressures,
    touches,
    pieces,
    rows,
    holds,
    targets,
    before,
    velocities,
    goals,
    scratch,
):
    """Advance one body by one frame of S substeps of ``dt`` seconds, in place (arrays as in the module's text).

    part, thread_count  which of how many threads this is; all of them call this with one ``barrier``, int64 (1,), zero at the start
    drag_factor the share of the velocity against the world that survives a substep
    limit       [m/s] the greatest speed against the keyed motion
    constraints tets, length limits; scratch points, old, begun
    settling    after how many substeps what rests is found anew, 0 for never; where it is keyed in the middle of each such stretch,
                seen from anywhere near, float32 (K, P, 4), growths and shortenings (K, Q); what `settle` of tets.py takes; and, of what
                gets firmer, pulls (K, Q) and what `stiffen` takes
    pressures   goals (S, Q) of volumes, and what `keep_volumes` takes
    """
    points, old, begun = scratch
    interface, wide = len(rows) - 1, points.reshape(-1, LANES)
    tets, length_limits = constraints
    goals_of_volumes, volumes = pressures
    substeps, count = len(goals_of_volumes), len(before)
    for domain in range(part, interface, thread_count):
        begin(rows[domain], rows[domain + 1], positions, masses, before, targets, goals, points, begun)
    if interface > 1:
        meet(barrier, thread_count)
    for domain in range(part, interface + 1, thread_count):
        measure(domain, begun, tets, length_limits)
    if interface > 1:
        meet(barrier, thread_count)
    often, middles, growths, shortenings, settled, ratios, more, pulls_along, firmness = settling
    many = len(settled[1])
    is_shared = interface > 1 and len(volumes[1]) > 1
    for step in range(substeps):
        if often > 0 and step % often == 0:
            span = many * part // thread_count, many * (part + 1) // thread_count
            look = step // often
            settle(*span, middles[look], settled, ratios, more, growths[look], shortenings[look], tets[2], tets[5])
            if len(firmness[0]):
                stiffen(*span, settled[2], pulls_along[look], *firmness, tets[4])
            if interface > 1:
                meet(barrier, thread_count)
        last, now = moment(max(step - 1, 0), substeps, goals), moment(step, substeps, goals)
        then = moment(step + 1, substeps, goals)
        for domain in range(part, interface, thread_count):
            span = rows[domain], rows[domain + 1]
            predict_rows(*span, step == 0, dt, wide, velocities, goals, last, now, then, holds, pulls, old, damping, drag_factor, limit)
            solve(domain, step % 2 == 1, points, tets, length_limits)
        if interface > 1:
            meet(barrier, thread_count)
        if part == 0 and interface > 1:
            solve(interface, step % 2 == 1, points, tets, length_limits)
        if is_shared:
            meet(barrier, thread_count)
        if is_shared or part == 0:
            # Each piece is in the hands of one thread; which one changes nothing.
            first, each = (part, thread_count) if is_shared else (0, 1)
            keep_volumes(first, each, step, False, points, positions, goals_of_volumes[step], *volumes)
            push_held(first, each, pieces, step, points, old.reshape(-1, 4), *touches[0])
            push_surface_contacts(first, each, pieces, step, substeps, points, old.reshape(-1, 4), *touches[1])
            # What contacts squeezed out of what keeps all of its volume goes back.
            keep_volumes(first, each, step, True, points, positions, goals_of_volumes[step], *volumes)
        if is_shared:
            meet(barrier, thread_count)
        if part == 0:
            push_surface_contact_lanes(step, substeps, points, old.reshape(-1, 4), *touches[2])
            push_pairs(points, old.reshape(-1, 4), *touches[3])
            push_apart(points, *touches[4])
        if interface > 1:
            meet(barrier, thread_count)
    last, now = moment(substeps - 1, substeps, goals), moment(substeps, substeps, goals)
    for domain in range(part, interface, thread_count):
        finish_rows(rows[domain], rows[domain + 1], dt, wide, velocities, goals, last, now, old, limit)
        move(4 * rows[domain], min(4 * rows[domain + 1], count), points, positions)


advance_soft = kernel(_advance)
"""`_advance`, compiled. The plain function, by one thread, is the slow reference and works with blocks of any width."""
