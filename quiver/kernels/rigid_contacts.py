"""Rigid bodies through a frame, in small substeps; they may knock against each other, and what one gets the other gives.

What touches, what knocks and what they hang on is solved in the same rounds, so that one can lie on another.

To the others, each body is a rounded box. ``outside`` (B, SHAPE) are the boxes' cores as contacts.py says, with the friction between two;
``boxes`` (B, BOX) their centres from the centres of mass along the principal axes, how far their surfaces are from the cores [m], and how
they are turned from the principal axes, x y z w.

========  ==================  ================================================================
array     shape               content
========  ==================  ================================================================
keyed     (B, S + 1, 7)       keyed positions and rotations before the first and after each of S substeps
ends      int (B + 1, 3)      where each body's points, colliders and surface contacts begin, and all end
points    (M, 4)              balls that make up their surfaces: centres along the principal axes, radii [m]
contact_distances (R,)        for each body, points x colliders: how far a point keeps from a core [m]
frames    (S K, FRAME)        for each body, S x its colliders, as contacts.py says; shapes (K, SHAPE)
surface_contacts  (Q, 12)     as `push_surface_contacts` of contacts.py takes them, with which (Q,), a body's own points
========  ==================  ================================================================
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.contacts import ABOVE, BELOW, BOUND, DEEP, FRAME, FRICTION, NEVER, WIDE, into, outwards, touched, turned
from quiver.kernels.rigid import (
    ACROSS,
    BODY,
    CONTACT,
    FREE,
    NORMAL,
    PULL,
    RADIUS,
    SURFACE_MOVE,
    begun,
    calmed,
    finished,
    held_back,
    joined,
    lay_spots,
    let_back,
    position_of,
    pushed_out,
    spun,
    surface_at,
    touch,
    touch_surface_contacts,
)

BOX = 8

ROUNDS = 8
"""Times that contacts and pivots are solved after each other in a substep; twice as often where there are several bodies."""
FEWEST = 4
"""So many at the least, for what hangs."""
PROPPED_ROUNDS = 2
"""Times that what lies on others is put on top of them, from below upwards, after the rounds."""
UPRIGHT, CALM_SPEED = 0.5, 0.2
"""What lies on another is that whose contact looks up so much (cosine), and that comes no faster [m/s]."""
AT_REST, SINKING, STILL = 1e-3, 1e-4, 1e-9
"""What lies on something stays where it moves more slowly, and sinks more slowly [m/s], and that moves no further in a substep [m]."""
CALMS = 4
"""Times that the velocities of what lies on each other are."""


@register_jitable
def put(state, box, frames, at):
    """Write where a body's box is into the frames of a collider: now at 0, a substep ago at 12."""
    qx, qy, qz, qw = state[3], state[4], state[5], state[6]
    cx, cy, cz = spun(qx, qy, qz, qw, box[0], box[1], box[2])
    frames[0, at], frames[0, at + 1], frames[0, at + 2] = state[0] + cx, state[1] + cy, state[2] + cz
    for k in range(3):
        x, y, z = spun(box[4], box[5], box[6], box[7], 1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
        x, y, z = spun(qx, qy, qz, qw, x, y, z)
        frames[0, at + 3 + k], frames[0, at + 6 + k], frames[0, at + 9 + k] = x, y, z


@register_jitable
def out_of(one, old_one, body_one, points, other, old_other, body_other, shape, box, frames, pressed):
    """Push the points of one body out of the other's box, one after another; pressed (M, CONTACT)."""
    put(old_other, box, frames, 12)
    put(other, box, frames, 0)
    for m in range(len(points)):
        contact_distance = box[3] + points[m, RADIUS]
        ox, oy, oz = position_of(old_one, points, m)
        x, y, z = position_of(one, points, m)
        dx, dy, dz = x - frames[0, 0], y - frames[0, 1], z - frames[0, 2]
        sx, sy, sz = x - ox - frames[0, 0] + frames[0, 12], y - oy - frames[0, 1] + frames[0, 13], z - oz - frames[0, 2] + frames[0, 14]
        bound = shape[BOUND] + contact_distance + np.sqrt(sx * sx + sy * sy + sz * sz)
        if dx * dx + dy * dy + dz * dz > bound * bound:
            continue
        bx, by, bz = into(frames, 0, 0, x, y, z)
        ax, ay, az = into(frames, 0, 12, ox, oy, oz)
        core = shape[WIDE], shape[DEEP], shape[ABOVE], shape[BELOW]
        tx, ty, tz = touched(ax, ay, az, bx, by, bz, *core, contact_distance, 0.0)
        px, py, pz = turned(frames, 0, tx - bx, ty - by, tz - bz)
        contact = pressed[m]
        pushed_out(one, body_one, other, body_other, x, y, z, px, py, pz, contact)
        if contact[ACROSS] > 0.0:
            let_back(one, body_one, other, body_other, x, y, z, outwards(bx, by, bz, *core)[0] - contact_distance, contact)
        # Along the surface: where the point would be, had it stuck to the other.
        put(other, box, frames, 0)
        x, y, z = position_of(one, points, m)
        x, y, z, ox, oy, oz = surface_at(one, old_one, x, y, z, points[m, RADIUS], contact)
        ax, ay, az = into(frames, 0, 12, ox, oy, oz)
        sx, sy, sz = turned(frames, 0, ax, ay, az)
        sx, sy, sz = sx + frames[0, 0], sy + frames[0, 1], sz + frames[0, 2]
        held_back(one, body_one, other, body_other, x, y, z, sx, sy, sz, contact, shape[FRICTION])
        put(other, box, frames, 0)


@register_jitable
def look_wide(ends, points, contact_distances, widest):
    """How far from each of K cores some point of its body may touch, seen from the body's centre [m]: ``widest`` (K,)."""
    widest[:], at = NEVER, 0
    for b in range(len(ends) - 1):
        for m in range(ends[b, 0], ends[b + 1, 0]):
            size = np.sqrt(points[m, 0] ** 2 + points[m, 1] ** 2 + points[m, 2] ** 2)
            for k in range(ends[b, 1], ends[b + 1, 1]):
                widest[k] = max(widest[k], contact_distances[at] + size)
                at += 1


@register_jitable
def beside(state, points, m, contact):
    """Where the ball around a point of a body touches."""
    x, y, z = position_of(state, points, m)
    radius = points[m, RADIUS]
    return x - radius * contact[NORMAL], y - radius * contact[NORMAL + 1], z - radius * contact[NORMAL + 2]


@register_jitable
def calm_all(states, bodies, still, nothing, dt, ends, points, which, pressed):
    """Find velocities that what lies on each other explains."""
    on_shapes, on_surface_contacts, on_others = pressed
    at = 0
    for b in range(len(states)):
        m0, k0, q0 = ends[b, 0], ends[b, 1], ends[b, 2]
        m1, k1, q1 = ends[b + 1, 0], ends[b + 1, 1], ends[b + 1, 2]
        for m in range(m0, m1):
            for _ in range(k0, k1):
                if on_shapes[at, ACROSS] > 0.0:
                    x, y, z = beside(states[b], points, m, on_shapes[at])
                    calmed(states[b], bodies[b], still, nothing, x, y, z, on_shapes[at], dt)
                at += 1
            for other in range(len(states)):
                if on_others[m, other, ACROSS] > 0.0:
                    x, y, z = beside(states[b], points, m, on_others[m, other])
                    calmed(states[b], bodies[b], states[other], bodies[other], x, y, z, on_others[m, other], dt)
        for q in range(q0, q1):
            if on_surface_contacts[q, ACROSS] > 0.0:
                x, y, z = beside(states[b], points, m0 + which[q], on_surface_contacts[q])
                calmed(states[b], bodies[b], still, nothing, x, y, z, on_surface_contacts[q], dt)


@register_jitable
def out_of_fixed(states, olds, bodies, still, nothing, levels, step, substeps, ends, points, touches, widest, surface_contacts, *pressed):
    """Push the bodies of the lowest level out of all that does not give way: colliders and surfaces."""
    contact_distances, frames, shapes = touches
    which, positions, keeps, frictions = surface_contacts
    spots, on_shapes, on_surface_contacts = pressed
    at = 0
    for b in range(len(states)):
        m0, k0, q0 = ends[b, 0], ends[b, 1], ends[b, 2]
        m1, k1, q1 = ends[b + 1, 0], ends[b + 1, 1], ends[b + 1, 2]
        own, count = points[m0:m1], (m1 - m0) * (k1 - k0)
        if count > 0 and levels[b] == 0:
            contact_distance = contact_distances[at : at + count].reshape(m1 - m0, k1 - k0)
            touched_here = on_shapes[at : at + count].reshape(m1 - m0, k1 - k0, CONTACT)
            stand, first = frames[substeps * k0 : substeps * k1], step * (k1 - k0)
            scene = (own, contact_distance, widest[k0:k1], stand, shapes[k0:k1], touched_here)
            touch(bodies[b], states[b], olds[b], still, nothing, first, *scene)
        at += count
        if levels[b] == 0:
            near = (which[q0:q1], positions[q0:q1], keeps[q0:q1], frictions[q0:q1], spots[q0:q1], on_surface_contacts[q0:q1])
            touch_surface_contacts(bodies[b], states[b], olds[b], still, nothing, step, substeps, own, *near)


@register_jitable
def is_pressed(contacts):
    """Whether any of contacts (n, CONTACT) presses."""
    # A loop, for the compiler.
    for n in range(len(contacts)):  # noqa: SIM110
        if contacts[n, ACROSS] != 0.0:
            return True
    return False


@register_jitable
def is_at_rest(b, state, settings, ends, points, on_shapes, on_surface_contacts, on_others):
    """Whether a body lies still on what does not move, so that it stays instead of creeping; what begins to slide or to tip over sinks."""
    speed = np.sqrt(state[7] ** 2 + state[8] ** 2 + state[9] ** 2)
    spin = np.sqrt(state[10] ** 2 + state[11] ** 2 + state[12] ** 2)
    px, py, pz = settings[PULL], settings[PULL + 1], settings[PULL + 2]
    sinks = (state[7] * px + state[8] * py + state[9] * pz) / max(np.sqrt(px * px + py * py + pz * pz), 1e-12)
    if speed > AT_REST or sinks > SINKING:
        return False
    at, lies = 0, False
    for other in range(b):
        at += (ends[other + 1, 0] - ends[other, 0]) * (ends[other + 1, 1] - ends[other, 1])
    colliders = ends[b + 1, 1] - ends[b, 1]
    for m in range(ends[b, 0], ends[b + 1, 0]):
        if spin * np.sqrt(points[m, 0] ** 2 + points[m, 1] ** 2 + points[m, 2] ** 2) > AT_REST:
            return False
        for _ in range(colliders):
            contact = on_shapes[at]
            at += 1
            if contact[ACROSS] > 0.0:
                lies = True
                if abs(contact[SURFACE_MOVE]) + abs(contact[SURFACE_MOVE + 1]) + abs(contact[SURFACE_MOVE + 2]) > STILL:
                    return False
        for other in range(on_others.shape[1]):
            lies = lies or on_others[m, other, ACROSS] > 0.0
    for q in range(ends[b, 2], ends[b + 1, 2]):
        contact = on_surface_contacts[q]
        if contact[ACROSS] > 0.0:
            lies = True
            if abs(contact[SURFACE_MOVE]) + abs(contact[SURFACE_MOVE + 1]) + abs(contact[SURFACE_MOVE + 2]) > STILL:
                return False
    return lies


@register_jitable
def levels_of(states, kinds, ends, settings, pressed, levels, above):
    """How many bodies each stands on at the least, one below the other down to what is fixed: levels (B,), B where it stands on none.

    above (B, B) says which stands on which: calmly, and on its upper side.
    """
    on_shapes, on_surface_contacts, on_others = pressed
    many, at = len(states), 0
    for b in range(many):
        levels[b] = many if kinds[b] == FREE else 0
        for _ in range((ends[b + 1, 0] - ends[b, 0]) * (ends[b + 1, 1] - ends[b, 1])):
            if on_shapes[at, ACROSS] > 0.0:
                levels[b] = 0
            at += 1
        for q in range(ends[b, 2], ends[b + 1, 2]):
            if on_surface_contacts[q, ACROSS] > 0.0:
                levels[b] = 0
    above[:] = False
    for one in range(many):
        px, py, pz = settings[one, PULL], settings[one, PULL + 1], settings[one, PULL + 2]
        weight = max(np.sqrt(px * px + py * py + pz * pz), 1e-12)
        for m in range(ends[one, 0], ends[one + 1, 0]):
            for other in range(many):
                contact = on_others[m, other]
                if contact[ACROSS] <= 0.0:
                    continue
                nx, ny, nz = contact[NORMAL], contact[NORMAL + 1], contact[NORMAL + 2]
                up = -(nx * px + ny * py + nz * pz) / weight
                comes = (
                    (states[other, 7] - states[one, 7]) * nx
                    + (states[other, 8] - states[one, 8]) * ny
                    + (states[other, 9] - states[one, 9]) * nz
                )
                if abs(up) > UPRIGHT and comes < CALM_SPEED:
                    above[one if up > 0.0 else other, other if up > 0.0 else one] = True
    for _ in range(many):
        for one in range(many):
            for other in range(many):
                if above[one, other] and levels[other] + 1 < levels[one]:
                    levels[one] = levels[other] + 1


@register_jitable
def prop_up(states, olds, bodies, nothing, ends, points, outside, boxes, between, on_others, levels, above):
    """Put what stands on others on top of them, from below upwards, as if those below could not give way (Guendelman et al. 2003).

    Rounds of pushes alone would let what is heavy sink into what is light.
    """
    many = len(states)
    for level in range(1, many):
        for pair in range(many * many):
            one, other = divmod(pair, many)
            upper, lower = (one, other) if above[one, other] else (other, one)
            if one == other or levels[upper] != level or levels[lower] >= level or not above[upper, lower]:
                continue
            body_one = bodies[one] if one == upper else nothing
            body_other = bodies[other] if other == upper else nothing
            own = points[ends[one, 0] : ends[one + 1, 0]]
            both = (states[one], olds[one], body_one, own, states[other], olds[other], body_other)
            out_of(*both, outside[other], boxes[other], between, on_others[ends[one, 0] : ends[one + 1, 0], other])


def room_for(bodies, points, shapes, distances, spots):
    """Scratch arrays for so many bodies, their points, the shapes they meet, the distances they keep from those, and spots of skins."""
    rows = (np.zeros(BODY), np.zeros((bodies, BODY)), np.zeros((1, FRAME)), np.zeros((bodies, 13)))
    contacts = (np.zeros((*shape, CONTACT)) for shape in ((distances,), (spots,), (points, bodies)))
    order = np.zeros(bodies, np.int64), np.zeros((bodies, bodies), np.bool_)
    return (np.zeros(13), *rows, *contacts, np.zeros((spots, 6)), *order, np.zeros(shapes))


def _advance_bodies(states, bodies, kinds, keyed, dt, settings, ends, points, touches, surface_contacts, outside, boxes, room, record):
    """Advance B bodies through S substeps of ``dt`` seconds, in place.

    states (B, 13), bodies (B, BODY), kinds (B,) BALL, HINGE or FREE, settings (B, SETTINGS): as in rigid.py
    touches are contact_distances, frames and shapes; surface_contacts are which, the contacts, their distances and frictions; room as
    `room_for` makes it; record (B, S, 7) receives positions and rotations after each substep
    """
    many, substeps, which = len(states), record.shape[1], surface_contacts[0]
    still, nothing, loose, between, olds, on_shapes, on_surface_contacts, on_others, spots, levels, above, widest = room
    between_two = on_others.reshape(-1, CONTACT)
    still[:], nothing[:] = 0.0, 0.0
    still[6] = 1.0
    look_wide(ends, points, touches[0], widest)
    # The velocities of what hangs are as its joint says.
    for b in range(many):
        for k in range(BODY):
            loose[b, k] = bodies[b, k] if kinds[b] == FREE else 0.0
    for step in range(substeps):
        for b in range(many):
            for k in range(13):
                olds[b, k] = states[b, k]
        on_shapes[:], on_surface_contacts[:], on_others[:] = 0.0, 0.0, 0.0
        for b in range(many):
            begun(states[b], olds[b], bodies[b], kinds[b], keyed[b, step], keyed[b, step + 1], dt, settings[b])
        lay_spots(step, substeps, surface_contacts[1], spots)
        place = step, substeps, ends, points, touches, widest, surface_contacts, spots, on_shapes, on_surface_contacts
        levels[:] = 0
        for turn in range(ROUNDS if many == 1 else 2 * ROUNDS):
            out_of_fixed(states, olds, bodies, still, nothing, levels, *place)
            for pair in range(many * many):
                one, other = divmod(pair, many)
                if one != other:
                    own = points[ends[one, 0] : ends[one + 1, 0]]
                    pressed = on_others[ends[one, 0] : ends[one + 1, 0], other]
                    both = (states[one], olds[one], bodies[one], own, states[other], olds[other], bodies[other])
                    out_of(*both, outside[other], boxes[other], between, pressed)
            for b in range(many):
                joined(states[b], olds[b], bodies[b], kinds[b], keyed[b, step + 1], settings[b])
            # What touches nothing needs no more.
            if turn + 1 >= FEWEST and not (is_pressed(on_shapes) or is_pressed(on_surface_contacts) or is_pressed(between_two)):
                break
        if many > 1 and is_pressed(between_two):
            levels_of(olds, kinds, ends, settings, (on_shapes, on_surface_contacts, on_others), levels, above)
            for _ in range(PROPPED_ROUNDS):
                out_of_fixed(states, olds, bodies, still, nothing, levels, *place)
                prop_up(states, olds, bodies, nothing, ends, points, outside, boxes, between, on_others, levels, above)
        for b in range(many):
            finished(states[b], olds[b], dt)
            if kinds[b] == FREE and is_at_rest(b, states[b], settings[b], ends, points, on_shapes, on_surface_contacts, on_others):
                for k in range(13):
                    states[b, k] = olds[b, k] if k < 7 else 0.0
        for _ in range(CALMS):
            calm_all(states, loose, still, nothing, dt, ends, points, which, (on_shapes, on_surface_contacts, on_others))
        for b in range(many):
            for k in range(7):
                record[b, step, k] = states[b, k]


advance_bodies = kernel(_advance_bodies)
