"""Particles that lie on a surface which moves, sixteen at a time: `push_surface_contacts` of contacts.py for points of one particle each.

``points`` and ``old`` (P, 4) as in soft.py. ``indices`` int32 (B, 16): the particles, each named once at the most; a row that is
nobody's where there is none. ``params`` (PARAMS B, 16): see the constants.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.contacts import EASE, NEVER, SLACK
from quiver.kernels.lanes import LANES, any_less, fused, gather, larger, load, scatter, smaller, sqrt, where_less

AWAY = 0
"""From the spot to the particle when the frame began, three rows [m]."""
TRAVEL = 3
"""How far the spot moves in the frame, three rows [m]."""
NORMAL = 6
"""Where its outside looks when the frame begins, and how that changes in it: three rows each."""
NORMAL_CHANGE = 9
CONTACT_DISTANCE = 12
FRICTION = 13
PARAMS = 14
TINY = 1e-20


@register_jitable
def before_surface_contact(params, p, now, bx, by, bz):
    """(how far a particle at b is in front of its spot, beyond its reach, where that looks x y z, the way from the spot x y z).

    ``p`` is the first of the spot's rows; ``now`` the share of the frame that is over.
    """
    nx = fused(load(params, p + NORMAL_CHANGE), now, load(params, p + NORMAL))
    ny = fused(load(params, p + NORMAL_CHANGE + 1), now, load(params, p + NORMAL + 1))
    nz = fused(load(params, p + NORMAL_CHANGE + 2), now, load(params, p + NORMAL + 2))
    inverse = 1.0 / sqrt(larger(fused(nx, nx, fused(ny, ny, nz * nz)), TINY))
    nx, ny, nz = nx * inverse, ny * inverse, nz * inverse
    rx = load(params, p + AWAY) + bx - load(params, p + TRAVEL) * now
    ry = load(params, p + AWAY + 1) + by - load(params, p + TRAVEL + 1) * now
    rz = load(params, p + AWAY + 2) + bz - load(params, p + TRAVEL + 2) * now
    return fused(rx, nx, fused(ry, ny, rz * nz)) - load(params, p + CONTACT_DISTANCE), nx, ny, nz, rx, ry, rz


@register_jitable
def off_surface_contact(params, p, then, gap, nx, ny, nz, rx, ry, rz, ax, ay, az):
    """How far a particle is pushed that was at a a substep ago, ``then``, and for which `before_surface_contact` says the rest: x y z."""
    sx = load(params, p + AWAY) + ax - load(params, p + TRAVEL) * then
    sy = load(params, p + AWAY + 1) + ay - load(params, p + TRAVEL + 1) * then
    sz = load(params, p + AWAY + 2) + az - load(params, p + TRAVEL + 2) * then
    # In front or not is asked of where the surface looked then: one that tilts would take a point at rest on it for a deep one.
    ox = fused(load(params, p + NORMAL_CHANGE), then, load(params, p + NORMAL))
    oy = fused(load(params, p + NORMAL_CHANGE + 1), then, load(params, p + NORMAL + 1))
    oz = fused(load(params, p + NORMAL_CHANGE + 2), then, load(params, p + NORMAL + 2))
    began = fused(sx, ox, fused(sy, oy, sz * oz)) - load(params, p + CONTACT_DISTANCE)
    depth = larger(-gap, 0.0)
    push = where_less(began, -SLACK, smaller(depth, larger((1.0 - EASE) * began - gap, 0.0)), depth)
    mx, my, mz = rx - sx, ry - sy, rz - sz
    along = fused(mx, nx, fused(my, ny, mz * nz))
    mx, my, mz = mx - along * nx, my - along * ny, mz - along * nz
    slid = sqrt(larger(fused(mx, mx, fused(my, my, mz * mz)), TINY))
    held = smaller(load(params, p + FRICTION) * push / slid, 1.0)
    return push * nx - held * mx, push * ny - held * my, push * nz - held * mz


@kernel
def push_surface_contact_lanes(step, substeps, points, old, indices, params):
    """Push particles off their spots in a substep, and hold them back along the surface by Coulomb's law."""
    each = np.float32(1.0 / substeps)
    now, then = np.float32(step + 1) * each, np.float32(step) * each
    for block in range(len(indices)):
        p = PARAMS * block
        bx, by, bz, bw = gather(points, indices, block)
        near = before_surface_contact(params, p, now, bx, by, bz)
        if not any_less(near[0], 0.0):
            continue
        ax, ay, az, _ = gather(old, indices, block)
        x, y, z = off_surface_contact(params, p, then, *near, ax, ay, az)
        free = where_less(0.0, bw, 1.0, 0.0)
        scatter(points, indices, block, fused(free, x, bx), fused(free, y, by), fused(free, z, bz), bw)


@kernel
def lay_out(bases, corners, near, contact_distances, frictions, indices, params):
    """Write what `push_surface_contacts` takes, of points that are the particles corners[:, 0] alone and count from bases (Q, 3)."""
    for q in range(len(near)):
        lane, p = q % LANES, PARAMS * (q // LANES)
        indices[q // LANES, lane] = corners[q, 0]
        params[p + CONTACT_DISTANCE, lane], params[p + FRICTION, lane] = contact_distances[q], frictions[q]
        for k in range(3):
            params[p + AWAY + k, lane] = bases[q, k] - near[q, k]
            params[p + TRAVEL + k, lane] = near[q, 3 + k] - near[q, k]
            params[p + NORMAL + k, lane] = near[q, 6 + k]
            params[p + NORMAL_CHANGE + k, lane] = near[q, 9 + k] - near[q, 6 + k]
    for empty in range(len(near), LANES * len(indices)):
        params[PARAMS * (empty // LANES) + CONTACT_DISTANCE, empty % LANES] = NEVER
