"""Contact of points with colliders: boxes of any proportion with a rounded skin around them, so spheres and capsules too; and the ground.

A collider's own space has its centre at the origin. Its core reaches ``wide`` along +-X, ``deep`` along +-Z, ``above`` along +Y and
``below`` along -Y; its surface is ``contact_distance`` away from the core. A core of no size is a sphere, one with a height alone a
capsule, one that goes down for ever the ground.

``frames`` (S K, FRAME) of K colliders after each of S substeps: where they are now and where they were a substep ago, a centre [m] and
the three axes as the columns of a matrix, row by row. ``shapes`` (K, SHAPE): see the constants.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import any_less, larger, smaller, sqrt, where_less

FRAME = 24
"""Centre x y z, matrix 9; then both a substep ago."""
WIDE, DEEP, ABOVE, BELOW, BOUND, FRICTION, SHAPE = 0, 1, 2, 3, 4, 5, 6
"""BOUND is the radius of a sphere around the core [m]; GRIP the coefficient of friction."""
FOR_EVER = 1e9
NEVER = -1e9
"""A reach at which nothing touches."""
MARCHES = 4
"""Steps of the search for where a fast point first touches (sphere tracing, Hart 1996)."""
EASE = 0.03
"""Share of its depth by which a point that starts a substep inside is let out in it: a tenth is left after a third of a second."""
SLACK = 1e-3
"""Depth that counts as lying on the surface [m]."""
TINY = 1e-12
NO_PIECES = np.zeros(0, np.int32)


@register_jitable
def outwards(x, y, z, wide, deep, above, below):
    """(distance to the core, direction x y z away from it); inside, the distance is negative and the way out the nearest."""
    over_x, over_z, high, low = larger(x, -x) - wide, larger(z, -z) - deep, y - above, -(y + below)
    over_y = larger(high, low)
    sx, sy, sz = where_less(x, 0.0, -1.0, 1.0), where_less(high, low, -1.0, 1.0), where_less(z, 0.0, -1.0, 1.0)
    ox, oy, oz = larger(over_x, 0.0), larger(over_y, 0.0), larger(over_z, 0.0)
    length = sqrt(ox * ox + oy * oy + oz * oz)
    # Inside, out through the nearest face.
    is_x = where_less(over_x, larger(over_y, over_z), 0.0, 1.0)
    is_y = (1.0 - is_x) * where_less(over_y, over_z, 0.0, 1.0)
    is_z = (1.0 - is_x) * (1.0 - is_y)
    inverse = 1.0 / larger(length, TINY)
    nx = sx * where_less(TINY, length, ox * inverse, is_x)
    ny = sy * where_less(TINY, length, oy * inverse, is_y)
    nz = sz * where_less(TINY, length, oz * inverse, is_z)
    return length + smaller(larger(larger(over_x, over_y), over_z), 0.0), nx, ny, nz


@register_jitable
def touched(ax, ay, az, bx, by, bz, wide, deep, above, below, contact_distance, friction):
    """Where a point that moved from a to b in a collider's own space in one substep may be: (x, y, z).

    It is stopped where it first touches, pushed out to ``contact_distance``, and held back along the surface by Coulomb's law. One that
    begins deep inside is let out little by little.
    """
    began, _, _, _ = outwards(ax, ay, az, wide, deep, above, below)
    mx, my, mz = bx - ax, by - ay, bz - az
    length = sqrt(mx * mx + my * my + mz * mz)
    pressed = length * 0.0
    # Only what moves further than the shape is thick could have gone through it.
    if any_less(contact_distance, length):
        share, gap = pressed, began - contact_distance
        for _ in range(MARCHES):
            share = share + larger(gap, 0.0) / larger(length, TINY)
            here, nx, ny, nz = outwards(ax + share * mx, ay + share * my, az + share * mz, wide, deep, above, below)
            gap = here - contact_distance
        is_hit = (
            where_less(contact_distance - SLACK, began, 1.0, 0.0)
            * where_less(share, 1.0, 1.0, 0.0)
            * where_less(gap, 0.1 * larger(contact_distance, SLACK), 1.0, 0.0)
        )
        # Of the way that is left, what leads into the surface is taken away.
        pressed = is_hit * larger((share - 1.0) * (mx * nx + my * ny + mz * nz), 0.0)
        bx, by, bz = bx + pressed * nx, by + pressed * ny, bz + pressed * nz
    distance, nx, ny, nz = outwards(bx, by, bz, wide, deep, above, below)
    depth = larger(contact_distance - distance, 0.0)
    eased = larger(began + EASE * (contact_distance - began) - distance, 0.0)
    push = where_less(began - contact_distance, -SLACK, smaller(depth, eased), depth)
    bx, by, bz = bx + push * nx, by + push * ny, bz + push * nz
    mx, my, mz = bx - ax, by - ay, bz - az
    along = mx * nx + my * ny + mz * nz
    tx, ty, tz = mx - along * nx, my - along * ny, mz - along * nz
    held = smaller(friction * (push + pressed) / larger(sqrt(tx * tx + ty * ty + tz * tz), TINY), 1.0)
    return bx - held * tx, by - held * ty, bz - held * tz


@register_jitable
def into(frames, row, at, x, y, z):
    """A place in the space of a collider: now for ``at`` 0, a substep ago for 12."""
    x, y, z = x - frames[row, at], y - frames[row, at + 1], z - frames[row, at + 2]
    m = at + 3
    return (
        frames[row, m] * x + frames[row, m + 3] * y + frames[row, m + 6] * z,
        frames[row, m + 1] * x + frames[row, m + 4] * y + frames[row, m + 7] * z,
        frames[row, m + 2] * x + frames[row, m + 5] * y + frames[row, m + 8] * z,
    )


@register_jitable
def turned(frames, row, x, y, z):
    """A direction of a collider's own space in the run's."""
    return (
        frames[row, 3] * x + frames[row, 4] * y + frames[row, 5] * z,
        frames[row, 6] * x + frames[row, 7] * y + frames[row, 8] * z,
        frames[row, 9] * x + frames[row, 10] * y + frames[row, 11] * z,
    )


@register_jitable
def kept_out(colliders, k, row, contact_distance, ax, ay, az, bx, by, bz):
    """How far a point that moved from a to b is pushed by collider ``k``, whose frame is in ``row``: x y z."""
    frames, shapes, _ = colliders
    ax, ay, az = into(frames, row, 12, ax, ay, az)
    bx, by, bz = into(frames, row, 0, bx, by, bz)
    core = shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW]
    x, y, z = touched(ax, ay, az, bx, by, bz, *core, contact_distance, shapes[k, FRICTION])
    return turned(frames, row, x - bx, y - by, z - bz)


def _distances(points, frames, shapes, out):
    """Distances (V, K) of points (V, 3) to the cores of K colliders, which stand as ``frames`` (K, FRAME) say."""
    for v in range(len(points)):
        for k in range(len(shapes)):
            x, y, z = into(frames, k, 0, points[v, 0], points[v, 1], points[v, 2])
            out[v, k] = outwards(x, y, z, shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW])[0]


distances = kernel(_distances)


@kernel
def near_shapes(points, travel, begin, end, shapes, contact_distances, near, leaps, rows, which):
    """Which of points (V, 3) may touch which of K colliders, the first of whose frames is ``begin``, the last ``end``: how many; rows and
    which, one after another.

    travel (V,) how far each may move; near [m] what counts besides, and leaps (K,) how far each collider may leap over a point
    """
    count = 0
    for v in range(len(points)):
        for k in range(len(shapes)):
            reach = contact_distances[v, k] + 1.5 * travel[v] + near + leaps[k]
            bound, far = shapes[k, BOUND] + max(reach, 0.0), True
            for at in range(2):
                frames, first = (end, 0) if at else (begin, 12)
                x, y, z = points[v, 0] - frames[k, first], points[v, 1] - frames[k, first + 1], points[v, 2] - frames[k, first + 2]
                if x * x + y * y + z * z > bound * bound:
                    continue
                x, y, z = into(frames, k, first, points[v, 0], points[v, 1], points[v, 2])
                far = far and not outwards(x, y, z, shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW])[0] < reach
            if not far:
                rows[count], which[count], count = v, k, count + 1
    return count


def _deepest(points, frames, shapes, contact_distances):
    """(depth [m], vertex) of the deepest point (V, 3) in any of K colliders, beyond ``contact_distances`` (V, K); (0, -1) for none."""
    worst, where = 0.0, -1
    for v in range(len(points)):
        for k in range(len(shapes)):
            px, py, pz = points[v, 0] - frames[k, 0], points[v, 1] - frames[k, 1], points[v, 2] - frames[k, 2]
            bound = shapes[k, BOUND] + contact_distances[v, k]
            if contact_distances[v, k] <= NEVER or px * px + py * py + pz * pz > bound * bound:
                continue
            x, y, z = into(frames, k, 0, points[v, 0], points[v, 1], points[v, 2])
            depth = contact_distances[v, k] - outwards(x, y, z, shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW])[0]
            if depth > worst:
                worst, where = depth, v
    return worst, where


deepest = kernel(_deepest)


@register_jitable
def spread(points, corners, corner_weights, m, inverse_mass, x, y, z):
    """Move point ``m`` by x y z by moving the particles that carry it, each as light as it is."""
    inverse = 1.0 / inverse_mass
    for c in range(4):
        if corner_weights[m, c] == 0.0:
            continue
        i = corners[m, c]
        part = np.float32(corner_weights[m, c] * points[i, 3] * inverse)
        points[i, 0] += part * np.float32(x)
        points[i, 1] += part * np.float32(y)
        points[i, 2] += part * np.float32(z)


@register_jitable
def carried(points, old, bases, corners, corner_weights, m):
    """(how much point ``m`` gives way, where it was a substep ago x y z, where it is x y z)."""
    bx, by, bz = bases[m, 0], bases[m, 1], bases[m, 2]
    ax, ay, az = bx, by, bz
    inverse_mass = 0.0
    for c in range(4):
        i, share = corners[m, c], corner_weights[m, c]
        if share == 0.0:
            continue
        bx, by, bz = bx + share * points[i, 0], by + share * points[i, 1], bz + share * points[i, 2]
        ax, ay, az = ax + share * old[i, 0], ay + share * old[i, 1], az + share * old[i, 2]
        inverse_mass += share * share * points[i, 3]
    return inverse_mass, ax, ay, az, bx, by, bz


def _push_held(first, each, pieces, step, points, old, bases, corners, corner_weights, colliders, contact_distances, frames, shapes):
    """Push points that ride on particles out of colliders, one after another; see soft.py for ``points`` and ``old`` (P, 4).

    bases float64 (M, 3) where they were when the frame began; corners int32 (M, 4) and corner_weights (M, 4) of what carries them;
    colliders int32 (M,) each one's collider; contact_distances (M,) its distance from the core
    pieces int32 (N,) of the particles say whose hands a point is in: the ``first`` of ``each`` has every so many of them
    """
    many = len(shapes)
    for m in range(len(colliders)):
        if each > 1 and pieces[corners[m, 0]] % each != first:
            continue
        row, k = step * many + colliders[m], colliders[m]
        inverse_mass, ax, ay, az, bx, by, bz = carried(points, old, bases, corners, corner_weights, m)
        if inverse_mass <= 0.0:
            continue
        bx, by, bz = into(frames, row, 0, bx, by, bz)
        ax, ay, az = into(frames, row, 12, ax, ay, az)
        core = shapes[k, WIDE], shapes[k, DEEP], shapes[k, ABOVE], shapes[k, BELOW]
        x, y, z = touched(ax, ay, az, bx, by, bz, *core, contact_distances[m], shapes[k, FRICTION])
        if x == bx and y == by and z == bz:
            continue
        x, y, z = turned(frames, row, x - bx, y - by, z - bz)
        spread(points, corners, corner_weights, m, inverse_mass, x, y, z)


push_held = kernel(_push_held)


def _push_surface_contacts(
    first, each, pieces, step, substeps, points, old, bases, corners, corner_weights, surface_contacts, contact_distances, frictions
):
    """Push points that ride on particles off spots of a surface that moves; other arrays as `push_held`.

    surface_contacts (M, 12) each point's place on the surface when the frame begins and when it ends [m], and the normals there;
    contact_distances (M,) how far in front of it the point keeps [m]; frictions (M,) coefficients of friction: negative ones hold it just
    as far in front, from both sides, without friction
    """
    share = 1.0 / substeps
    now, then = (step + 1.0) * share, step * share
    for m in range(len(contact_distances)):
        if each > 1 and pieces[corners[m, 0]] % each != first:
            continue
        inverse_mass, ax, ay, az, bx, by, bz = carried(points, old, bases, corners, corner_weights, m)
        if inverse_mass <= 0.0:
            continue
        wx, wy, wz = (
            surface_contacts[m, 3] - surface_contacts[m, 0],
            surface_contacts[m, 4] - surface_contacts[m, 1],
            surface_contacts[m, 5] - surface_contacts[m, 2],
        )
        nx = surface_contacts[m, 6] + now * (surface_contacts[m, 9] - surface_contacts[m, 6])
        ny = surface_contacts[m, 7] + now * (surface_contacts[m, 10] - surface_contacts[m, 7])
        nz = surface_contacts[m, 8] + now * (surface_contacts[m, 11] - surface_contacts[m, 8])
        inverse = 1.0 / max(np.sqrt(nx * nx + ny * ny + nz * nz), TINY)
        nx, ny, nz = nx * inverse, ny * inverse, nz * inverse
        gap = (
            (bx - surface_contacts[m, 0] - now * wx) * nx
            + (by - surface_contacts[m, 1] - now * wy) * ny
            + (bz - surface_contacts[m, 2] - now * wz) * nz
            - contact_distances[m]
        )
        if frictions[m] < 0.0:
            spread(points, corners, corner_weights, m, inverse_mass, -gap * nx, -gap * ny, -gap * nz)
            continue
        if gap >= 0.0:
            continue
        # In front or not is asked of where the surface looked then, see kernels/surface_contacts.py.
        ox = surface_contacts[m, 6] + then * (surface_contacts[m, 9] - surface_contacts[m, 6])
        oy = surface_contacts[m, 7] + then * (surface_contacts[m, 10] - surface_contacts[m, 7])
        oz = surface_contacts[m, 8] + then * (surface_contacts[m, 11] - surface_contacts[m, 8])
        began = (
            (ax - surface_contacts[m, 0] - then * wx) * ox
            + (ay - surface_contacts[m, 1] - then * wy) * oy
            + (az - surface_contacts[m, 2] - then * wz) * oz
            - contact_distances[m]
        )
        push = -gap if began >= -SLACK else min(-gap, max((1.0 - EASE) * began - gap, 0.0))
        mx, my, mz = bx - ax - wx * share, by - ay - wy * share, bz - az - wz * share
        along = mx * nx + my * ny + mz * nz
        mx, my, mz = mx - along * nx, my - along * ny, mz - along * nz
        held = min(frictions[m] * push / max(np.sqrt(mx * mx + my * my + mz * mz), TINY), 1.0)
        spread(points, corners, corner_weights, m, inverse_mass, push * nx - held * mx, push * ny - held * my, push * nz - held * mz)


push_surface_contacts = kernel(_push_surface_contacts)


def _push_pairs(points, old, pairs, ways, contact_distances, friction):
    """Keep particles of one body apart from each other, one pair after another.

    pairs int32 (Q, 2); ways (Q, 3) from the first to the second when the frame began; contact_distances (Q,) how far they stay apart;
    friction between them
    """
    for q in range(len(contact_distances)):
        i, j = pairs[q, 0], pairs[q, 1]
        inverse_mass = points[i, 3] + points[j, 3]
        wx, wy, wz = ways[q, 0], ways[q, 1], ways[q, 2]
        dx, dy, dz = wx + points[j, 0] - points[i, 0], wy + points[j, 1] - points[i, 1], wz + points[j, 2] - points[i, 2]
        distance = np.sqrt(dx * dx + dy * dy + dz * dz)
        if inverse_mass <= 0.0 or distance >= contact_distances[q]:
            continue
        ox, oy, oz = wx + old[j, 0] - old[i, 0], wy + old[j, 1] - old[i, 1], wz + old[j, 2] - old[i, 2]
        began = np.sqrt(ox * ox + oy * oy + oz * oz)
        inverse = 1.0 / max(distance, TINY)
        nx, ny, nz = dx * inverse, dy * inverse, dz * inverse
        push = contact_distances[q] - distance
        if began < contact_distances[q] - SLACK:
            push = min(push, max(began + EASE * (contact_distances[q] - began) - distance, 0.0))
        mx, my, mz = dx - ox, dy - oy, dz - oz
        along = mx * nx + my * ny + mz * nz
        mx, my, mz = mx - along * nx, my - along * ny, mz - along * nz
        held = min(friction * push / max(np.sqrt(mx * mx + my * my + mz * mz), TINY), 1.0)
        x, y, z = push * nx - held * mx, push * ny - held * my, push * nz - held * mz
        first, second = points[i, 3] / inverse_mass, points[j, 3] / inverse_mass
        points[i, 0] -= np.float32(first * x)
        points[i, 1] -= np.float32(first * y)
        points[i, 2] -= np.float32(first * z)
        points[j, 0] += np.float32(second * x)
        points[j, 1] += np.float32(second * y)
        points[j, 2] += np.float32(second * z)


push_pairs = kernel(_push_pairs)
