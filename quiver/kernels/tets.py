"""Tetrahedra of a soft solid, sixteen fans of them at a time.

One step is extended position-based dynamics (Macklin, Müller, Chentanez 2016; small steps: Macklin et al. 2019) of
the stable neo-Hookean solid (Smith, de Goes, Kim 2018) in the split of Macklin and Müller 2021: shape, tr(F^T F), and volume,
det F. The shape's energy is quadratic in the positions, so all twelve coordinates of a tetrahedron take its implicit step
exactly, by a constant matrix; the volume's push is then one constraint of rank one on top (Sherman, Morrison). Taking the shape
as the one constraint |F| instead would be a little cheaper, but it leaves out the shape's geometric stiffness and buckles at
rest once shear waves cross a third of an element in a substep; this form stays put up to 0.7 (measured on bars).

Tetrahedra that follow each other around an edge are a fan: the edge's two particles, then the ring's, in which each tetrahedron
spans two. A fan is fetched once and solved one tetrahedron after another, which halves what has to be read and sorted into lanes.
A block is sixteen fans of as many tetrahedra, which share no particle.

========  =================  ======================================================================
array     shape              content
========  =================  ======================================================================
points    (P, 4)             as in soft.py
fans      int32 (B, 4)       per block: tetrahedra n in each fan; first row in indices; in params; first of its n slots
indices   int32 (rows, 16)   n + 3 rows per block: the particles of its fans. A ring that closes names its first one again;
                             lanes without a fan name a point that is nobody's
params    (rows, 16)         4 n + 6 rows per block: three for the way from the fan's first particle to each other one when the frame
                             began [m], then the goal of each tetrahedron: six times the volume that it wants [m3]
kinds     int32 (slots,)     which matrices the tetrahedra of a slot have; those of a lattice's inside are all the same, and reading
                             them again and again from far memory made 50,000 tetrahedra a fifth slower (measured)
matrices  (MATRICES K, 16)   SHAPE, VOLUME, CENTRE and SOFTNESS
prestress    (9 slots, 16)      or none: what is taken off the three edges before the shape pulls at them, see `settle`
========  =================  ======================================================================
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.lanes import LANES, fused, gather, larger, load, scatter, smaller, sqrt, store

SHAPE = 0
"""What the shape's step moves the last three particles by, against the first, per edge: rows 3 x 3, negative."""
VOLUME = 9
"""What the volume's push moves them by, against the first, per gradient: six rows, the upper half of a symmetric matrix."""
CENTRE = 15
"""The shares of the last three particles in the mass of all; a pinned one has all of it."""
COMPLIANCE = 18
"""Compliance of six times the volume, over dt squared; large where there is no tetrahedron."""
MATRICES = 19
TINY = 1e-30


@register_jitable
def combined(a, b, c, ux, uy, uz, vx, vy, vz, wx, wy, wz):
    """a u + b v + c w."""
    return fused(c, wx, fused(b, vx, a * ux)), fused(c, wy, fused(b, vy, a * uy)), fused(c, wz, fused(b, vz, a * uz))


@register_jitable
def crossed(ax, ay, az, bx, by, bz):
    return fused(ay, bz, -(az * by)), fused(az, bx, -(ax * bz)), fused(ax, by, -(ay * bx))


@register_jitable
def dotted(ax, ay, az, bx, by, bz, cx, cy, cz, ux, uy, uz, vx, vy, vz, wx, wy, wz):
    """a . u + b . v + c . w, as three sums side by side: in one, each product would wait for the one before."""
    return fused(cx, wx, fused(bx, vx, ax * ux)) + fused(cy, wy, fused(by, vy, ay * uy)) + fused(cz, wz, fused(bz, vz, az * uz))


def goal_row(fan, k):
    """The row of params, counted from the block's first, that holds the goal of tetrahedron ``k`` of a fan of so many."""
    return 3 * fan + 6 + k


def _solve_fans(first, end, is_back, points, fans, indices, params, kinds, matrices, prestress):
    """Move the particles of the fans of blocks first..end-1, or the other way round, tetrahedron by tetrahedron, by one step of shape and
    volume together.

    The formula is in here, not in a function for one tetrahedron: that would be called, not built in, and take half as long again.
    """
    for number in range(first, end):
        block = first + end - 1 - number if is_back else number
        fan, i, p, slot = fans[block, 0], fans[block, 1], fans[block, 2], fans[block, 3]
        ax, ay, az, aw = gather(points, indices, i)
        bx, by, bz, bw = gather(points, indices, i + 1)
        cx, cy, cz, cw = gather(points, indices, i + 2)
        r, q = p + 3, p + 3 * fan + 6
        for k in range(fan):
            dx, dy, dz, dw = gather(points, indices, i + 3 + k)
            e1x, e1y, e1z = load(params, p) + (bx - ax), load(params, p + 1) + (by - ay), load(params, p + 2) + (bz - az)
            e2x, e2y, e2z = load(params, r) + (cx - ax), load(params, r + 1) + (cy - ay), load(params, r + 2) + (cz - az)
            e3x, e3y, e3z = load(params, r + 3) + (dx - ax), load(params, r + 4) + (dy - ay), load(params, r + 5) + (dz - az)
            # Gradients of six times the volume for the last three particles; the first one's balances them.
            g1x, g1y, g1z = crossed(e2x, e2y, e2z, e3x, e3y, e3z)
            g2x, g2y, g2z = crossed(e3x, e3y, e3z, e1x, e1y, e1z)
            g3x, g3y, g3z = crossed(e1x, e1y, e1z, e2x, e2y, e2z)
            gradients = (g1x, g1y, g1z, g2x, g2y, g2z, g3x, g3y, g3z)
            v = MATRICES * kinds[slot + k] + VOLUME
            v11, v12, v13 = load(matrices, v), load(matrices, v + 1), load(matrices, v + 2)
            v22, v23, v33 = load(matrices, v + 3), load(matrices, v + 4), load(matrices, v + 5)
            v1x, v1y, v1z = combined(v11, v12, v13, *gradients)
            v2x, v2y, v2z = combined(v12, v22, v23, *gradients)
            v3x, v3y, v3z = combined(v13, v23, v33, *gradients)
            inverse_mass = dotted(*gradients, v1x, v1y, v1z, v2x, v2y, v2z, v3x, v3y, v3z)
            # Divided here already, the slow division goes on while the shape is summed up.
            share = 1.0 / larger(load(matrices, v + COMPLIANCE - VOLUME) + inverse_mass, TINY)
            sixfold = fused(e1x, g1x, fused(e1y, g1y, e1z * g1z))
            if len(prestress):
                d = 9 * (slot + k)
                e1x, e1y, e1z = e1x - load(prestress, d), e1y - load(prestress, d + 1), e1z - load(prestress, d + 2)
                e2x, e2y, e2z = e2x - load(prestress, d + 3), e2y - load(prestress, d + 4), e2z - load(prestress, d + 5)
                e3x, e3y, e3z = e3x - load(prestress, d + 6), e3y - load(prestress, d + 7), e3z - load(prestress, d + 8)
            edges = (e1x, e1y, e1z, e2x, e2y, e2z, e3x, e3y, e3z)
            s = v + SHAPE - VOLUME
            s1x, s1y, s1z = combined(load(matrices, s), load(matrices, s + 1), load(matrices, s + 2), *edges)
            s2x, s2y, s2z = combined(load(matrices, s + 3), load(matrices, s + 4), load(matrices, s + 5), *edges)
            s3x, s3y, s3z = combined(load(matrices, s + 6), load(matrices, s + 7), load(matrices, s + 8), *edges)
            shape_done = dotted(*gradients, s1x, s1y, s1z, s2x, s2y, s2z, s3x, s3y, s3z)
            push = (load(params, q) + shape_done - sixfold) * share
            # What the last three move by, against the first one; which moves so that their common centre stays.
            u1x, u1y, u1z = fused(push, v1x, -s1x), fused(push, v1y, -s1y), fused(push, v1z, -s1z)
            u2x, u2y, u2z = fused(push, v2x, -s2x), fused(push, v2y, -s2y), fused(push, v2z, -s2z)
            u3x, u3y, u3z = fused(push, v3x, -s3x), fused(push, v3y, -s3y), fused(push, v3z, -s3z)
            w = v + CENTRE - VOLUME
            weights = (load(matrices, w), load(matrices, w + 1), load(matrices, w + 2))
            ux, uy, uz = combined(*weights, u1x, u1y, u1z, u2x, u2y, u2z, u3x, u3y, u3z)
            scatter(points, indices, i + 2 + k, cx + (u2x - ux), cy + (u2y - uy), cz + (u2z - uz), cw)
            ax, ay, az = ax - ux, ay - uy, az - uz
            bx, by, bz = bx + (u1x - ux), by + (u1y - uy), bz + (u1z - uz)
            cx, cy, cz, cw = dx + (u3x - ux), dy + (u3y - uy), dz + (u3z - uz), dw
            r, q = r + 3, q + 1
        scatter(points, indices, i + 2 + fan, cx, cy, cz, cw)
        scatter(points, indices, i, ax, ay, az, aw)
        scatter(points, indices, i + 1, bx, by, bz, bw)


solve_fans = kernel(_solve_fans)


@kernel
def measure_fans(first, end, begun, rest, fans, indices, params):
    """Write the ways from the fans' first particles, in blocks first..end-1, into their rows of params.

    ``begun`` and ``rest`` (P, 4) are places to float32 and what that leaves: their sum is finer than float32 [m].
    """
    for block in range(first, end):
        fan, i, p = fans[block, 0], fans[block, 1], fans[block, 2]
        ax, ay, az, _ = gather(begun, indices, i)
        ux, uy, uz, _ = gather(rest, indices, i)
        for other in range(fan + 2):
            bx, by, bz, _ = gather(begun, indices, i + 1 + other)
            vx, vy, vz, _ = gather(rest, indices, i + 1 + other)
            row = p + 3 * other
            store(params, row, (bx - ax) + (vx - ux))
            store(params, row + 1, (by - ay) + (vy - uy))
            store(params, row + 2, (bz - az) + (vz - uz))


RESTS = 13
"""Rows of what a tetrahedron is at rest: gram of the inverse rest edges [1/m2], six, the upper half of a symmetric matrix; metric of the
rest edges [m2], six; six times the volume [m3]."""
FIBRES = 7
"""Rows of how a tetrahedron's fibre runs at rest: which sum of its edges is one long along it, three [1/m]; how far each edge reaches
along it, three [m]; and how much of a pull shortens it: not at all where it is tendon."""
ROOT = (1.0000008, 1.1546548, -0.22155947, 0.1028439, -0.052737284, 0.021041088, -0.0042443465)
"""Twice the cosine of a third of the angle whose half has a cosine u, as a polynomial of u from 0 to 1: within 8e-7 (Chebyshev fit)."""


def _settle(first, end, positions, settled, ratios, pressure, growths, shortenings, params, prestress):
    """Make positions float32 (P, 4) the ones at which the tetrahedra of slots first..end-1 rest, stably: set volume goals and prestress.

    Its goal becomes its volume there and as much more as its shape's pull can bear without giving way: the push shear / s for a largest
    stretch s, which keeps the energy convex however it is distorted or turned inside out. Its shape pulls at edges less the prestress,
    which that push just balances. At rest the goals are the model's and the prestress is zero.

    What has fibres rests shorter along them and as much wider across that it keeps its volume: active strain, F = Fe Fa (Nardinocchi and
    Teresi 2007; Ambrosi and Pezzuto 2012).

    settled: corners int32 (4 slots, 16), the goals' rows of params int32 (slots,), which body each is part of int32 (slots, 16), rests
    (RESTS slots, 16), and fibres (FIBRES slots, 16) or none. Of Q bodies: ratios (Q,) of shear to bulk, growths (Q,) by what their volumes
    are larger than there, shortenings (Q,) of their fibres as shares; pressure is the share by which all want to be larger
    """
    corners, rows, bodies, rests, fibres = settled
    own = on_stack(np.float32, 3, LANES)
    own[0], own[1], own[2] = growths[0], ratios[0], shortenings[0]
    pressure = np.float32(pressure)
    for slot in range(first, end):
        if len(growths) > 1:
            for lane in range(LANES):
                body = bodies[slot, lane]
                own[0, lane], own[1, lane], own[2, lane] = growths[body], ratios[body], shortenings[body]
        px, py, pz, _ = gather(positions, corners, 4 * slot)
        ax, ay, az, _ = gather(positions, corners, 4 * slot + 1)
        bx, by, bz, _ = gather(positions, corners, 4 * slot + 2)
        cx, cy, cz, _ = gather(positions, corners, 4 * slot + 3)
        ax, ay, az, bx, by, bz, cx, cy, cz = ax - px, ay - py, az - pz, bx - px, by - py, bz - pz, cx - px, cy - py, cz - pz
        if len(fibres):
            f = FIBRES * slot
            along = 1.0 - load(own, 2) * load(fibres, f + 6)
            across = 1.0 / sqrt(along)
            # Where the fibre goes, and by how much more of it each edge changes than by widening alone.
            fibre = combined(load(fibres, f), load(fibres, f + 1), load(fibres, f + 2), ax, ay, az, bx, by, bz, cx, cy, cz)
            more = along - across
            ax, ay, az = pulled(across, more * load(fibres, f + 3), ax, ay, az, *fibre)
            bx, by, bz = pulled(across, more * load(fibres, f + 4), bx, by, bz, *fibre)
            cx, cy, cz = pulled(across, more * load(fibres, f + 5), cx, cy, cz, *fibre)
        at = RESTS * slot
        # How it is stretched: F F', its eigenvalues being those of edges gram edges'.
        g11, g12, g13 = load(rests, at), load(rests, at + 1), load(rests, at + 2)
        g22, g23, g33 = load(rests, at + 3), load(rests, at + 4), load(rests, at + 5)
        hx, ix, jx = symmetric(g11, g12, g13, g22, g23, g33, ax, bx, cx)
        hy, iy, jy = symmetric(g11, g12, g13, g22, g23, g33, ay, by, cy)
        hz, iz, jz = symmetric(g11, g12, g13, g22, g23, g33, az, bz, cz)
        xx, yy, zz = summed(ax, bx, cx, hx, ix, jx), summed(ay, by, cy, hy, iy, jy), summed(az, bz, cz, hz, iz, jz)
        xy, yz, zx = summed(ax, bx, cx, hy, iy, jy), summed(ay, by, cy, hz, iz, jz), summed(az, bz, cz, hx, ix, jx)
        stretch = larger(sqrt(larger(largest_root(xx, yy, zz, xy, yz, zx), 0.0)), 1e-6)
        u1x, u1y, u1z = crossed(bx, by, bz, cx, cy, cz)
        u2x, u2y, u2z = crossed(cx, cy, cz, ax, ay, az)
        u3x, u3y, u3z = crossed(ax, ay, az, bx, by, bz)
        volume, sixfold = summed(ax, ay, az, u1x, u1y, u1z), load(rests, at + 12)
        store(params, rows[slot], load(own, 0) * volume + (load(own, 1) / stretch + pressure) * sixfold)
        share, row = 1.0 / (stretch * sixfold), 9 * slot
        m11, m12, m13 = load(rests, at + 6), load(rests, at + 7), load(rests, at + 8)
        m22, m23, m33 = load(rests, at + 9), load(rests, at + 10), load(rests, at + 11)
        vx, wx, tx = symmetric(m11, m12, m13, m22, m23, m33, u1x, u2x, u3x)
        vy, wy, ty = symmetric(m11, m12, m13, m22, m23, m33, u1y, u2y, u3y)
        vz, wz, tz = symmetric(m11, m12, m13, m22, m23, m33, u1z, u2z, u3z)
        store(prestress, row, ax - share * vx)
        store(prestress, row + 1, ay - share * vy)
        store(prestress, row + 2, az - share * vz)
        store(prestress, row + 3, bx - share * wx)
        store(prestress, row + 4, by - share * wy)
        store(prestress, row + 5, bz - share * wz)
        store(prestress, row + 6, cx - share * tx)
        store(prestress, row + 7, cy - share * ty)
        store(prestress, row + 8, cz - share * tz)


@register_jitable
def pulled(across, more, x, y, z, fx, fy, fz):
    """An edge, widened, and moved along a fibre."""
    return fused(more, fx, across * x), fused(more, fy, across * y), fused(more, fz, across * z)


@register_jitable
def summed(ax, ay, az, bx, by, bz):
    """a . b."""
    return fused(ax, bx, fused(ay, by, az * bz))


@register_jitable
def symmetric(m11, m12, m13, m22, m23, m33, x, y, z):
    """A symmetric matrix times a vector."""
    return summed(m11, m12, m13, x, y, z), summed(m12, m22, m23, x, y, z), summed(m13, m23, m33, x, y, z)


@register_jitable
def largest_root(xx, yy, zz, xy, yz, zx):
    """The largest eigenvalue of symmetric matrices that have no negative one (Smith 1961)."""
    mean = (xx + yy + zz) * np.float32(1.0 / 3.0)
    x, y, z = xx - mean, yy - mean, zz - mean
    outside = fused(xy, xy, fused(yz, yz, zx * zx))
    spread = sqrt((fused(x, x, fused(y, y, z * z)) + outside + outside) * np.float32(1.0 / 6.0))
    # Where it is the same all around, whatever the direction, the root is the mean.
    inverse = 1.0 / larger(spread, mean * np.float32(1e-7) + np.float32(1e-30))
    x, y, z, xy, yz, zx = x * inverse, y * inverse, z * inverse, xy * inverse, yz * inverse, zx * inverse
    half = np.float32(0.5) * (x * (y * z - yz * yz) - xy * (xy * z - yz * zx) + zx * (xy * yz - y * zx))
    u = sqrt(larger(smaller(np.float32(0.5) * half + np.float32(0.5), 1.0), 0.0))
    root = u * np.float32(ROOT[6]) + np.float32(ROOT[5])
    for k in range(4, -1, -1):
        root = fused(root, u, np.float32(ROOT[k]))
    return fused(spread, root, mean)


settle = kernel(_settle)


def _stiffen(first, end, bodies, pulls, loose, firmer, matrices):
    """Make the matrices of slots first..end-1, each of which has its own, those of bodies that are pulled by ``pulls`` (Q,), 0..1.

    loose (MATRICES slots, 16) are those of no pull, ``firmer`` what a full one adds. What is between two implicit steps, row by row, is an
    implicit step too, of a stiffness between theirs.
    """
    own = on_stack(np.float32, 1, LANES)
    for slot in range(first, end):
        for lane in range(LANES):
            own[0, lane] = pulls[bodies[slot, lane]]
        for row in range(MATRICES * slot, MATRICES * (slot + 1)):
            store(matrices, row, fused(load(own, 0), load(firmer, row), load(loose, row)))


stiffen = kernel(_stiffen)
