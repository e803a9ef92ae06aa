"""Soft solids: tetrahedra advanced by small substeps, sixteen at a time.

One substep is extended position-based dynamics (Macklin, Müller, Chentanez 2016; small steps: Macklin et al. 2019) of
the stable neo-Hookean solid (Smith, de Goes, Kim 2018) in the split of Macklin and Müller 2021: shape, tr(F^T F), and volume,
det F. The shape's energy is quadratic in the positions, so all twelve coordinates of a tetrahedron take its implicit step
exactly, by a constant matrix; the volume's push is then one constraint of rank one on top (Sherman, Morrison). Taking the shape
as the one constraint |F| instead would be a little cheaper, but it leaves out the shape's geometric stiffness and buckles at
rest once shear waves cross a third of an element in a substep; this form stays put up to 0.7 (measured on bars).

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
SHAPE = 9
"""What the shape's step moves the four particles by, per edge: rows 4 x 3, negative."""
VOLUME = 21
"""What the volume's push moves the four particles by, per gradient of the last three: rows 4 x 3."""
VOLUME_GOAL = 33
"""Six times the volume that the volume constraint wants [m3]."""
VOLUME_SOFTNESS = 34
"""Compliance of six times the volume, over dt squared; large where there is no tetrahedron."""
PARAMS = 35
TINY = 1e-30


@register_jitable
def combined(params, row, ax, ay, az, bx, by, bz, cx, cy, cz):
    """The sum of three vectors, weighted by three rows."""
    a, b, c = load(params, row), load(params, row + 1), load(params, row + 2)
    return a * ax + b * bx + c * cx, a * ay + b * by + c * cy, a * az + b * bz + c * cz


@register_jitable
def solve_block(block, points, indices, params):
    """Move the particles of one block's tetrahedra by one step of shape and volume together."""
    i, p = 4 * block, PARAMS * block
    ax, ay, az, aw = gather(points, indices, i)
    bx, by, bz, bw = gather(points, indices, i + 1)
    cx, cy, cz, cw = gather(points, indices, i + 2)
    dx, dy, dz, dw = gather(points, indices, i + 3)
    e1x, e1y, e1z = load(params, p) + (bx - ax), load(params, p + 1) + (by - ay), load(params, p + 2) + (bz - az)
    e2x, e2y, e2z = load(params, p + 3) + (cx - ax), load(params, p + 4) + (cy - ay), load(params, p + 5) + (cz - az)
    e3x, e3y, e3z = load(params, p + 6) + (dx - ax), load(params, p + 7) + (dy - ay), load(params, p + 8) + (dz - az)
    # Gradients of six times the volume for the last three particles; the first one's balances them.
    g1x, g1y, g1z = e2y * e3z - e2z * e3y, e2z * e3x - e2x * e3z, e2x * e3y - e2y * e3x
    g2x, g2y, g2z = e3y * e1z - e3z * e1y, e3z * e1x - e3x * e1z, e3x * e1y - e3y * e1x
    g3x, g3y, g3z = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
    s, v = p + SHAPE, p + VOLUME
    s0x, s0y, s0z = combined(params, s, e1x, e1y, e1z, e2x, e2y, e2z, e3x, e3y, e3z)
    s1x, s1y, s1z = combined(params, s + 3, e1x, e1y, e1z, e2x, e2y, e2z, e3x, e3y, e3z)
    s2x, s2y, s2z = combined(params, s + 6, e1x, e1y, e1z, e2x, e2y, e2z, e3x, e3y, e3z)
    s3x, s3y, s3z = combined(params, s + 9, e1x, e1y, e1z, e2x, e2y, e2z, e3x, e3y, e3z)
    v0x, v0y, v0z = combined(params, v, g1x, g1y, g1z, g2x, g2y, g2z, g3x, g3y, g3z)
    v1x, v1y, v1z = combined(params, v + 3, g1x, g1y, g1z, g2x, g2y, g2z, g3x, g3y, g3z)
    v2x, v2y, v2z = combined(params, v + 6, g1x, g1y, g1z, g2x, g2y, g2z, g3x, g3y, g3z)
    v3x, v3y, v3z = combined(params, v + 9, g1x, g1y, g1z, g2x, g2y, g2z, g3x, g3y, g3z)
    shape_done = g1x * (s1x - s0x) + g1y * (s1y - s0y) + g1z * (s1z - s0z) + g2x * (s2x - s0x) + g2y * (s2y - s0y) + g2z * (s2z - s0z)
    shape_done = shape_done + g3x * (s3x - s0x) + g3y * (s3y - s0y) + g3z * (s3z - s0z)
    give = g1x * (v1x - v0x) + g1y * (v1y - v0y) + g1z * (v1z - v0z) + g2x * (v2x - v0x) + g2y * (v2y - v0y) + g2z * (v2z - v0z)
    give = give + g3x * (v3x - v0x) + g3y * (v3y - v0y) + g3z * (v3z - v0z)
    sixfold = e1x * g1x + e1y * g1y + e1z * g1z
    push = (sixfold - load(params, p + VOLUME_GOAL) - shape_done) / larger(load(params, p + VOLUME_SOFTNESS) + give, TINY)
    scatter(points, indices, i, ax - s0x - push * v0x, ay - s0y - push * v0y, az - s0z - push * v0z, aw)
    scatter(points, indices, i + 1, bx - s1x - push * v1x, by - s1y - push * v1y, bz - s1z - push * v1z, bw)
    scatter(points, indices, i + 2, cx - s2x - push * v2x, cy - s2y - push * v2y, cz - s2z - push * v2z, cw)
    scatter(points, indices, i + 3, dx - s3x - push * v3x, dy - s3y - push * v3y, dz - s3z - push * v3z, dw)


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


def _measure(positions, tets, edges, lengths):
    """(six times the volume, the largest length of an edge against ``lengths`` (E,)) at positions float64 (N, 3); edges int32 (E, 2)."""
    sixfold, largest = 0.0, 0.0
    for t in range(len(tets)):
        p, q, r, s = positions[tets[t, 0]], positions[tets[t, 1]], positions[tets[t, 2]], positions[tets[t, 3]]
        ax, ay, az = q[0] - p[0], q[1] - p[1], q[2] - p[2]
        bx, by, bz = r[0] - p[0], r[1] - p[1], r[2] - p[2]
        cx, cy, cz = s[0] - p[0], s[1] - p[1], s[2] - p[2]
        sixfold += ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
    for e in range(len(edges)):
        p, q = positions[edges[e, 0]], positions[edges[e, 1]]
        x, y, z = q[0] - p[0], q[1] - p[1], q[2] - p[2]
        largest = max(largest, np.sqrt(x * x + y * y + z * z) / lengths[e])
    return sixfold, largest


measure = njit(nogil=True, cache=True)(_measure)
