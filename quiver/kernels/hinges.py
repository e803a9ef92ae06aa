"""Hinges: two triangles of a sheet bend about the edge they share, sixteen at a time.

The energy is half the stiffness times the square of the angle's change (discrete shells: Grinspun et al. 2003), its gradients are those of
Bridson et al. 2003, and a step is one of extended position-based dynamics. ``points`` are as in soft.py. ``indices`` int32 (4 B, 16): the
edge's ends, then the corner opposite to it in either triangle. ``params`` (PARAMS B, 16): see the constants.
"""

from numba import njit
from numba.extending import register_jitable

from quiver.kernels.lanes import fused, gather, larger, load, scatter, sqrt, where_less
from quiver.kernels.tets import crossed

WAYS = 0
"""From the edge's first end to the other three when the frame began, nine rows [m]."""
SINE = 9
COSINE = 10
"""Of the angle by which it is bent at rest."""
COMPLIANCE = 11
"""Compliance over dt squared; large where there is no hinge."""
PARAMS = 12
TINY, SHORT = 1e-24, 1e-12
"""Guard divisions by a squared area [m4] and by a length [m]: float32 still holds what comes of it."""


@register_jitable
def dotted(ax, ay, az, bx, by, bz):
    return fused(ax, bx, fused(ay, by, az * bz))


@njit(nogil=True, cache=True, error_model="numpy")
def solve_hinges(first, end, points, indices, params):
    """Bend the hinges of blocks first..end-1 nearer to their angles at rest."""
    for block in range(first, end):
        i, p = 4 * block, PARAMS * block
        ax, ay, az, aw = gather(points, indices, i)
        bx, by, bz, bw = gather(points, indices, i + 1)
        cx, cy, cz, cw = gather(points, indices, i + 2)
        dx, dy, dz, dw = gather(points, indices, i + 3)
        ex, ey, ez = load(params, p) + (bx - ax), load(params, p + 1) + (by - ay), load(params, p + 2) + (bz - az)
        fx, fy, fz = load(params, p + 3) + (cx - ax), load(params, p + 4) + (cy - ay), load(params, p + 5) + (cz - az)
        gx, gy, gz = load(params, p + 6) + (dx - ax), load(params, p + 7) + (dy - ay), load(params, p + 8) + (dz - az)
        # Normals of both triangles, as long as twice their areas.
        nx, ny, nz = crossed(ex, ey, ez, fx, fy, fz)
        mx, my, mz = crossed(gx, gy, gz, ex, ey, ez)
        edge = larger(sqrt(dotted(ex, ey, ez, ex, ey, ez)), SHORT)
        n2, m2 = larger(dotted(nx, ny, nz, nx, ny, nz), TINY), larger(dotted(mx, my, mz, mx, my, mz), TINY)
        both = 1.0 / (sqrt(n2) * sqrt(m2))
        sx, sy, sz = crossed(nx, ny, nz, mx, my, mz)
        sine, cosine = dotted(sx, sy, sz, ex, ey, ez) * both / edge, dotted(nx, ny, nz, mx, my, mz) * both
        rest_sine, rest_cosine = load(params, p + SINE), load(params, p + COSINE)
        off = sine * rest_cosine - cosine * rest_sine
        # Beyond a right angle the sine falls again, the error must not.
        ahead = cosine * rest_cosine + sine * rest_sine
        beyond = where_less(off, 0.0, -2.0, 2.0) - off
        off = where_less(ahead, 0.0, beyond, off)
        # Gradients of the angle, downwards: along the normals at the corners, shared by where the corners' feet are on the edge.
        pn, pm = edge / n2, edge / m2
        tn = dotted(ex, ey, ez, fx, fy, fz) / (edge * edge)
        tm = dotted(ex, ey, ez, gx, gy, gz) / (edge * edge)
        ca, da = -(1.0 - tn) * pn, -(1.0 - tm) * pm
        cb, db = -(tn * pn), -(tm * pm)
        ux, uy, uz = fused(ca, nx, da * mx), fused(ca, ny, da * my), fused(ca, nz, da * mz)
        vx, vy, vz = fused(cb, nx, db * mx), fused(cb, ny, db * my), fused(cb, nz, db * mz)
        inverse_mass = aw * dotted(ux, uy, uz, ux, uy, uz) + bw * dotted(vx, vy, vz, vx, vy, vz) + cw * pn * pn * n2 + dw * pm * pm * m2
        turn = off / larger(inverse_mass + load(params, p + COMPLIANCE), TINY)
        ka, kb, kc, kd = turn * aw, turn * bw, turn * cw * pn, turn * dw * pm
        scatter(points, indices, i, fused(ka, ux, ax), fused(ka, uy, ay), fused(ka, uz, az), aw)
        scatter(points, indices, i + 1, fused(kb, vx, bx), fused(kb, vy, by), fused(kb, vz, bz), bw)
        scatter(points, indices, i + 2, fused(kc, nx, cx), fused(kc, ny, cy), fused(kc, nz, cz), cw)
        scatter(points, indices, i + 3, fused(kd, mx, dx), fused(kd, my, dy), fused(kd, mz, dz), dw)
