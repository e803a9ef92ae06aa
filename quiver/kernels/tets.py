"""Soft solids: tetrahedra advanced by small substeps, sixteen at a time.

One substep is extended position-based dynamics (Macklin, Müller, Chentanez 2016; small steps: Macklin et al. 2019) of
the stable neo-Hookean solid (Smith, de Goes, Kim 2018) as Macklin and Müller 2021 write it with two constraints per
tetrahedron, shape |F| and volume det F. Both are solved together, as a system of two equations, and with the Gram
matrix of the rest edges instead of F itself, so that no square root is needed.

``points`` (N + 1, 4) float32 hold each particle's move since the frame began, x y z [m], and its inverse mass [1/kg]; so float32
stays exact far from the origin and for steps however small. The last point is nobody's: lanes that hold no tetrahedron name it.

==========  ======================  =====================================================================
array       shape                   content
==========  ======================  =====================================================================
indices     int32 (4 B, 16)         the four particles of the tetrahedra of B blocks; within a block all differ
params      (PARAMS B, 16)          see the constants below
velocities  (N, 4)                  [m/s], the fourth is not used
targets     (S, N, 4)               keyed places after each of S substeps, since the frame began [m]
before      (N, 4)                  keyed places when the frame began, likewise
holds       (N,)                    share of the way to its keyed place that a particle is drawn in a substep
==========  ======================  =====================================================================
"""

import numpy as np
from numba import njit
from numba.extending import register_jitable

from quiver.kernels.lanes import gather, larger, load, scatter

EDGE = 0
"""The three edges from the first particle when the frame began, nine rows [m]."""
GRAM = 9
"""Gram matrix of the inverse rest edges: 11, 22, 33, 12, 13, 23 [1/m2]."""
VOLUME_GOAL = 15
"""Six times the volume that the volume constraint wants [m3]."""
SHAPE_SOFTNESS = 16
"""Compliance of the shape constraint over dt squared; large where there is no tetrahedron."""
VOLUME_SOFTNESS = 17
"""The same for six times the volume."""
PARAMS = 18
TINY = 1e-30


@register_jitable
def solve_block(block, points, indices, params):
    """Move the particles of one block's tetrahedra by one step of both constraints."""
    i, p = 4 * block, PARAMS * block
    ax, ay, az, aw = gather(points, indices, i)
    bx, by, bz, bw = gather(points, indices, i + 1)
    cx, cy, cz, cw = gather(points, indices, i + 2)
    dx, dy, dz, dw = gather(points, indices, i + 3)
    e1x, e1y, e1z = load(params, p) + (bx - ax), load(params, p + 1) + (by - ay), load(params, p + 2) + (bz - az)
    e2x, e2y, e2z = load(params, p + 3) + (cx - ax), load(params, p + 4) + (cy - ay), load(params, p + 5) + (cz - az)
    e3x, e3y, e3z = load(params, p + 6) + (dx - ax), load(params, p + 7) + (dy - ay), load(params, p + 8) + (dz - az)
    g11, g22, g33 = load(params, p + GRAM), load(params, p + GRAM + 1), load(params, p + GRAM + 2)
    g12, g13, g23 = load(params, p + GRAM + 3), load(params, p + GRAM + 4), load(params, p + GRAM + 5)
    # Gradients of |F|^2 / 2 and of six times the volume, for the last three particles; the first one's is what balances them.
    s1x, s1y, s1z = g11 * e1x + g12 * e2x + g13 * e3x, g11 * e1y + g12 * e2y + g13 * e3y, g11 * e1z + g12 * e2z + g13 * e3z
    s2x, s2y, s2z = g12 * e1x + g22 * e2x + g23 * e3x, g12 * e1y + g22 * e2y + g23 * e3y, g12 * e1z + g22 * e2z + g23 * e3z
    s3x, s3y, s3z = g13 * e1x + g23 * e2x + g33 * e3x, g13 * e1y + g23 * e2y + g33 * e3y, g13 * e1z + g23 * e2z + g33 * e3z
    v1x, v1y, v1z = e2y * e3z - e2z * e3y, e2z * e3x - e2x * e3z, e2x * e3y - e2y * e3x
    v2x, v2y, v2z = e3y * e1z - e3z * e1y, e3z * e1x - e3x * e1z, e3x * e1y - e3y * e1x
    v3x, v3y, v3z = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
    s0x, s0y, s0z = s1x + s2x + s3x, s1y + s2y + s3y, s1z + s2z + s3z
    v0x, v0y, v0z = v1x + v2x + v3x, v1y + v2y + v3y, v1z + v2z + v3z
    squared = e1x * s1x + e1y * s1y + e1z * s1z + e2x * s2x + e2y * s2y + e2z * s2z + e3x * s3x + e3y * s3y + e3z * s3z
    sixfold = e1x * v1x + e1y * v1y + e1z * v1z
    shape = aw * (s0x * s0x + s0y * s0y + s0z * s0z) + bw * (s1x * s1x + s1y * s1y + s1z * s1z)
    shape = shape + cw * (s2x * s2x + s2y * s2y + s2z * s2z) + dw * (s3x * s3x + s3y * s3y + s3z * s3z)
    mixed = aw * (s0x * v0x + s0y * v0y + s0z * v0z) + bw * (s1x * v1x + s1y * v1y + s1z * v1z)
    mixed = mixed + cw * (s2x * v2x + s2y * v2y + s2z * v2z) + dw * (s3x * v3x + s3y * v3y + s3z * v3z)
    volume = aw * (v0x * v0x + v0y * v0y + v0z * v0z) + bw * (v1x * v1x + v1y * v1y + v1z * v1z)
    volume = volume + cw * (v2x * v2x + v2y * v2y + v2z * v2z) + dw * (v3x * v3x + v3y * v3y + v3z * v3z)
    shape = shape + load(params, p + SHAPE_SOFTNESS) * squared
    volume = volume + load(params, p + VOLUME_SOFTNESS)
    off = sixfold - load(params, p + VOLUME_GOAL)
    inverse = 1.0 / larger(shape * volume - mixed * mixed, TINY)
    f = (mixed * off - volume * squared) * inverse
    g = (mixed * squared - shape * off) * inverse
    fa, ga, fb, gb, fc, gc, fd, gd = aw * f, aw * g, bw * f, bw * g, cw * f, cw * g, dw * f, dw * g
    scatter(points, indices, i, ax - (fa * s0x + ga * v0x), ay - (fa * s0y + ga * v0y), az - (fa * s0z + ga * v0z), aw)
    scatter(points, indices, i + 1, bx + (fb * s1x + gb * v1x), by + (fb * s1y + gb * v1y), bz + (fb * s1z + gb * v1z), bw)
    scatter(points, indices, i + 2, cx + (fc * s2x + gc * v2x), cy + (fc * s2y + gc * v2y), cz + (fc * s2z + gc * v2z), cw)
    scatter(points, indices, i + 3, dx + (fd * s3x + gd * v3x), dy + (fd * s3y + gd * v3y), dz + (fd * s3z + gd * v3z), dw)


def _advance(substeps, dt, points, velocities, indices, params, targets, before, holds, gravity, keep, air, speed_limit, old):
    """Advance one solid by one frame of ``substeps`` substeps of ``dt`` seconds, in place (arrays as in the module's text).

    gravity (3,) what it adds to the velocity in a substep; keep, air the shares of the velocity, against the keyed motion and
    against the world, that survive a substep; speed_limit [m/s] against the keyed motion; old (N, 4) is scratch.
    """
    count, blocks = len(velocities), params.shape[0] // PARAMS
    rate = np.float32(1.0) / dt
    for step in range(substeps):
        for v in range(count):
            is_free = points[v, 3] > 0.0
            for k in range(3):
                last = before[v, k] if step == 0 else targets[step - 1, v, k]
                keyed = (targets[step, v, k] - last) * rate
                old[v, k] = points[v, k]
                if is_free:
                    velocity = (keyed + (velocities[v, k] - keyed) * keep) * air + gravity[k]
                    moved = points[v, k] + velocity * dt
                    points[v, k] = moved + (targets[step, v, k] - moved) * holds[v]
                else:
                    points[v, k] = targets[step, v, k]
        for block in range(blocks):
            solve_block(block, points, indices, params)
        for v in range(count):
            fastest = np.float32(0.0)
            for k in range(3):
                last = before[v, k] if step == 0 else targets[step - 1, v, k]
                relative = ((points[v, k] - old[v, k]) - (targets[step, v, k] - last)) * rate
                velocities[v, k] = relative
                fastest += relative * relative
            slower = np.float32(1.0)
            if fastest > speed_limit * speed_limit:
                slower = speed_limit / np.sqrt(fastest)
            for k in range(3):
                last = before[v, k] if step == 0 else targets[step - 1, v, k]
                velocities[v, k] = velocities[v, k] * slower + (targets[step, v, k] - last) * rate


advance_tets = njit(nogil=True, cache=True, error_model="numpy")(_advance)
"""`_advance`, compiled. The plain function is the slow reference and works with blocks of any width."""


def _measure_edges(positions, tets, places, params):
    """Write the edges of tetrahedra int32 (T, 4) between positions float64 (N, 3) into their lanes of params (PARAMS B, 16)."""
    for t in range(len(tets)):
        row, lane = places[t, 0] * PARAMS + EDGE, places[t, 1]
        for corner in range(3):
            for k in range(3):
                params[row + 3 * corner + k, lane] = positions[tets[t, corner + 1], k] - positions[tets[t, 0], k]


measure_edges = njit(nogil=True, cache=True)(_measure_edges)
