"""Rigid bodies through a frame, in small substeps; they may knock against each other, and what one gets the other gives.

What touches, what knocks and what they hang on is solved in the same rounds, so that one can lie on another.

To the others, each body is a rounded box along its principal axes. ``outside`` (B, SHAPE) are the boxes' cores as contacts.py says,
with the friction between two as GRIP; ``boxes`` (B, 4) their centres from the centres of mass along the principal axes, and how far their
surfaces are from the cores [m].

========  ==================  ================================================================
array     shape               content
========  ==================  ================================================================
keyed     (B, S + 1, 7)       keyed positions and rotations before the first and after each of S substeps
ends      int (B + 1, 3)      where each body's points, colliders and surface contacts begin, and all end
points    (M, 3)              positions of their surfaces along the principal axes [m]
contact_distances (R,)        for each body, points x colliders: how far a point keeps from a core [m]
frames    (S K, FRAME)        for each body, S x its colliders, as contacts.py says; shapes (K, SHAPE)
surface_contacts  (Q, 12)     as `push_surface_contacts` of contacts.py takes them, with which (Q,), a body's own points
========  ==================  ================================================================
"""

import numpy as np
from numba import njit
from numba.extending import register_jitable

from quiver.kernels.contacts import ABOVE, BELOW, BOUND, DEEP, FRAME, FRICTION, NEVER, WIDE, into, outwards, touched, turned
from quiver.kernels.rigid import (
    ACROSS,
    BODY,
    CONTACT,
    FREE,
    begun,
    calmed,
    finished,
    held_back,
    joined,
    let_back,
    position_of,
    pushed_out,
    spun,
    touch,
    touch_surface_contacts,
)

ROUNDS = 8
"""Times that contacts and pivots are solved after each other in a substep; twice as often where there are several bodies."""
FEWEST = 4
"""So many at the least, for what hangs."""
CALMS = 4
"""Times that the velocities of what lies on each other are."""


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
def out_of(one, old_one, body_one, points, other, old_other, body_other, shape, box, frames, pressed):
    """Push the points of one body out of the other's box, one after another; pressed (M, CONTACT)."""
    put(old_other, box, frames, 12)
    contact_distance = box[3]
    for m in range(len(points)):
        put(other, box, frames, 0)
        ox, oy, oz = position_of(old_one, points[m])
        x, y, z = position_of(one, points[m])
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
        pushed_out(one, body_one, other, body_other, x, y, z, px, py, pz, pressed[m])
        if pressed[m, ACROSS] > 0.0:
            let_back(one, body_one, other, body_other, x, y, z, outwards(bx, by, bz, *core)[0] - contact_distance, pressed[m])
        # Along the surface: where the point would be, had it stuck to the other.
        put(other, box, frames, 0)
        x, y, z = position_of(one, points[m])
        sx, sy, sz = turned(frames, 0, ax, ay, az)
        held_back(
            one, body_one, other, body_other, x, y, z, sx + frames[0, 0], sy + frames[0, 1], sz + frames[0, 2], pressed[m], shape[FRICTION]
        )


@register_jitable
def widest_of(ends, points, contact_distances, count):
    """How far from each of ``count`` cores some point of its body may touch, seen from the body's centre [m]."""
    widest, at = np.full(count, NEVER), 0
    for b in range(len(ends) - 1):
        for m in range(ends[b, 0], ends[b + 1, 0]):
            size = np.sqrt(points[m, 0] ** 2 + points[m, 1] ** 2 + points[m, 2] ** 2)
            for k in range(ends[b, 1], ends[b + 1, 1]):
                widest[k] = max(widest[k], contact_distances[at] + size)
                at += 1
    return widest


@register_jitable
def calm_all(states, bodies, still, nothing, dt, ends, points, which, pressed):
    """Find velocities that what lies on each other explains."""
    on_shapes, on_surface_contacts, on_others = pressed
    at = 0
    for b in range(len(states)):
        m0, k0, q0 = ends[b, 0], ends[b, 1], ends[b, 2]
        m1, k1, q1 = ends[b + 1, 0], ends[b + 1, 1], ends[b + 1, 2]
        for m in range(m0, m1):
            x, y, z = position_of(states[b], points[m])
            for _ in range(k0, k1):
                calmed(states[b], bodies[b], still, nothing, x, y, z, on_shapes[at], dt)
                at += 1
            for other in range(len(states)):
                calmed(states[b], bodies[b], states[other], bodies[other], x, y, z, on_others[m, other], dt)
        for q in range(q0, q1):
            x, y, z = position_of(states[b], points[m0 + which[q]])
            calmed(states[b], bodies[b], still, nothing, x, y, z, on_surface_contacts[q], dt)


def _advance_bodies(states, bodies, kinds, keyed, dt, settings, ends, points, touches, surface_contacts, outside, boxes, record):
    """Advance B bodies through S substeps of ``dt`` seconds, in place.

    states (B, 13), bodies (B, BODY), kinds (B,) BALL, HINGE or FREE, settings (B, SETTINGS): as in rigid.py
    touches are contact_distances, frames and shapes; surface_contacts are which, the contacts, their distances and frictions; record
    (B, S, 7) receives positions and rotations after each substep
    """
    many, substeps = len(states), record.shape[1]
    contact_distances, frames, shapes = touches
    which, positions, keeps, frictions = surface_contacts
    still, nothing = np.zeros(13), np.zeros(BODY)
    still[6] = 1.0
    between, olds = np.empty((1, FRAME)), np.empty_like(states)
    on_shapes, on_surface_contacts, on_others = (
        np.zeros((len(contact_distances), CONTACT)),
        np.zeros((len(which), CONTACT)),
        np.zeros((len(points), many, CONTACT)),
    )
    widest, loose = widest_of(ends, points, contact_distances, len(shapes)), bodies.copy()
    # The velocities of what hangs are as its joint says.
    for b in range(many):
        if kinds[b] != FREE:
            loose[b] = 0.0
    for step in range(substeps):
        olds[:] = states
        on_shapes[:], on_surface_contacts[:], on_others[:] = 0.0, 0.0, 0.0
        for b in range(many):
            begun(states[b], olds[b], bodies[b], kinds[b], keyed[b, step], keyed[b, step + 1], dt, settings[b])
        for turn in range(ROUNDS if many == 1 else 2 * ROUNDS):
            at = 0
            for b in range(many):
                m0, k0, q0 = ends[b, 0], ends[b, 1], ends[b, 2]
                m1, k1, q1 = ends[b + 1, 0], ends[b + 1, 1], ends[b + 1, 2]
                own, count = points[m0:m1], (m1 - m0) * (k1 - k0)
                if count > 0:
                    contact_distance = contact_distances[at : at + count].reshape(m1 - m0, k1 - k0)
                    pressed = on_shapes[at : at + count].reshape(m1 - m0, k1 - k0, CONTACT)
                    stand, first = frames[substeps * k0 : substeps * k1], step * (k1 - k0)
                    scene = (own, contact_distance, widest[k0:k1], stand, shapes[k0:k1], pressed)
                    touch(bodies[b], states[b], olds[b], still, nothing, first, *scene)
                at += count
                near = (which[q0:q1], positions[q0:q1], keeps[q0:q1], frictions[q0:q1], on_surface_contacts[q0:q1])
                touch_surface_contacts(bodies[b], states[b], olds[b], still, nothing, step, substeps, own, *near)
            for pair in range(many * many):
                one, other = divmod(pair, many)
                if one != other:
                    own = points[ends[one, 0] : ends[one + 1, 0]]
                    pressed = on_others[ends[one, 0] : ends[one + 1, 0], other]
                    both = (states[one], olds[one], bodies[one], own, states[other], olds[other], bodies[other])
                    out_of(*both, outside[other], boxes[other], between, pressed)
            for b in range(many):
                joined(states[b], bodies[b], kinds[b], keyed[b, step + 1], settings[b])
            # What touches nothing needs no more.
            if turn + 1 >= FEWEST and not (
                on_shapes[:, ACROSS].any() or on_surface_contacts[:, ACROSS].any() or on_others[:, :, ACROSS].any()
            ):
                break
        for b in range(many):
            finished(states[b], olds[b], dt)
        for _ in range(CALMS):
            calm_all(states, loose, still, nothing, dt, ends, points, which, (on_shapes, on_surface_contacts, on_others))
        record[:, step] = states[:, :7]


advance_bodies = njit(nogil=True, cache=True, error_model="numpy")(_advance_bodies)
