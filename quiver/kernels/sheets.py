"""A frame of a sheet: a net of springs that bends along hinges, in few substeps, each of which answers the true forces.

One substep of dt with THETA = 0.2:

    y = x + THETA dt v                     held particles go to their keyed places
    r = dt^2 f(y)                          f of gravity, springs, bends and holds
    A d = r                                by a few conjugate gradients (Hestenes, Stiefel 1952)
    x' = x + dt v + d                      then contacts move x', and v = (x' - x) / dt

A = M + dt^2 (springs along their directions + bends + holds); the constant P, the same with springs that pull every way (as projective
dynamics takes them: Bouaziz et al. 2014), is factored once and preconditions A. So a sheet rests only where all forces vanish, however few
the iterations: what it does hardly depends on its mesh. Bends: half k |q - q0 n|^2 with q = sum w x, linear where it is flat at rest.

Particles are in the order of the factor, nested dissection: two halves, then what lies between them, each filled up with nobodies to whole
panels of sixteen. Two threads take the halves and meet at a barrier, so the result is the same to the bit however many there are. Springs
and hinges go sixteen at a time; what they pull is kept for each, and then every particle gathers what is its own. All numbers are moves
since the frame began, so float32 stays exact; how much longer than at rest a spring is comes from float64, once a frame.

==========  ===================  ==============================================================
array       shape                content
==========  ===================  ==============================================================
order       int32 (M / 16, 16)   which particle comes when; spans (4,) where the halves and what lies between begin, and all ends;
                                 ends (3,) where the nobodies of each begin
mass        (M,)                 [kg]; springs (M,) [1/s2] of the holds; held (M,), 0 for what is fixed, else 1; all float32
bends       ptr ind value        the bends' matrix [N/m], by rows
net         tails heads stiffness lengths starts, ptr ind sign      springs, sixteen a row (B, 16), [N/m], [m]; where rows of those inside
                                 of each half begin, then the others (4,); for each particle its own ones, and whether it is their tail
hinges      corners pull starts, ptr ind weight     likewise what is bent at rest (4 B, 16), and draws along its normals by ``pull`` [N]
factor      down, up             a triangular matrix each, by panels of sixteen rows: ptr (P + 1,), ind (T,) the columns outside of the
                                 panel and their values (T, 16), the inverse of the panel's own square (16 P, 16), column by column;
                                 and where in a panel what is of the second half and of the middle begins (P, 2)
own         scratch              y, v, force, base (M, 4), here (M, 3) float64, ways (5 B, 16), directions (4 B, 16), hinge ways (9 B, 16),
                                 what springs and hinges pull (16 B, 4) each, vectors (6, M, 4), more (2, 3 P, 16), sums (3, 2)
==========  ===================  ==============================================================

Other arrays as in soft.py.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.barriers import meet
from quiver.kernels.compiling import kernel
from quiver.kernels.contacts import NO_PIECES, push_held, push_surface_contacts
from quiver.kernels.folds import push_folds
from quiver.kernels.gathering import gathered, gathered_apart
from quiver.kernels.lanes import (
    LANES,
    fused,
    gather,
    larger,
    load,
    load_points,
    scatter,
    smaller,
    sqrt,
    store,
    store_points,
    total_of,
    where_less,
)
from quiver.kernels.panels import sum_of_columns, times_square
from quiver.kernels.soft import begin, finish_rows, moment, move
from quiver.kernels.surface_contacts import push_surface_contact_lanes

THETA = 0.2
TINY = 1e-12


@kernel
def look(first, end, order, positions, here):
    """Where particles first..end-1 are when a frame begins."""
    for k in range(first, end):
        for axis in range(3):
            here[k, axis] = positions[order[k], axis]


@kernel
def look_around(first, end, here, bends, base):
    """The forces of the bends on particles first..end-1 when a frame begins."""
    ptr, ind, value = bends
    for k in range(first, end):
        x, y, z, fx, fy, fz = here[k, 0], here[k, 1], here[k, 2], 0.0, 0.0, 0.0
        for t in range(ptr[k], ptr[k + 1]):
            j, c = ind[t], value[t]
            fx, fy, fz = fx - c * (here[j, 0] - x), fy - c * (here[j, 1] - y), fz - c * (here[j, 2] - z)
        base[k, 0], base[k, 1], base[k, 2] = fx, fy, fz


@kernel
def look_along(first, end, here, net, ways):
    """The ways along springs of rows first..end-1 when a frame begins, how long they are, and by how much longer than at rest."""
    tails, heads, lengths = net[0], net[1], net[3]
    for b in range(first, end):
        for lane in range(LANES):
            i, j = tails[b, lane], heads[b, lane]
            dx, dy, dz = here[j, 0] - here[i, 0], here[j, 1] - here[i, 1], here[j, 2] - here[i, 2]
            length = np.sqrt(dx * dx + dy * dy + dz * dz)
            ways[5 * b, lane], ways[5 * b + 1, lane], ways[5 * b + 2, lane] = dx, dy, dz
            ways[5 * b + 3, lane], ways[5 * b + 4, lane] = length, length - lengths[b, lane]


@kernel
def look_across(first, end, here, corners, ways):
    """The ways from the first corner of hinges of rows first..end-1 to the three others when a frame begins."""
    for b in range(first, end):
        for lane in range(LANES):
            i = corners[4 * b, lane]
            for corner in range(3):
                j = corners[4 * b + 1 + corner, lane]
                for axis in range(3):
                    ways[9 * b + 3 * corner + axis, lane] = here[j, axis] - here[i, axis]


@register_jitable
def ahead(is_first, dt, place, old, velocity, last, now, then, pull, factors, spring, mass, held):
    """Along one axis: (how fast particles are, where they will be after THETA dt, what draws them from outside)."""
    damping_factor, drag_factor, limit = factors
    rate = np.float32(1.0) / dt
    if not is_first:
        before = (now - last) * rate
        velocity = before + smaller(limit, larger((place - old) * rate - before, -limit))
    keyed = (then - now) * rate
    speed = fused(velocity - keyed, damping_factor, keyed) * drag_factor
    speed = where_less(held, 0.5, (then - place) * rate, speed)
    y = fused(speed, np.float32(THETA) * dt, place)
    return speed, y, mass * (pull * rate - spring * (y - then))


@kernel
def predict(first, end, is_first, dt, order, points, old, velocities, last, now, then, pulls, factors, particles, y, v, force):
    """Where particles of panels first..end-1 will be after THETA dt, and what draws them from outside; ``old`` is where they are."""
    springs, mass, held = particles
    # Where all are pulled alike, there is one row for all.
    one = pulls[0]
    for panel in range(first, end):
        px, py, pz, inverse = gather(points, order, panel)
        ox, oy, oz, _ = gather(old, order, panel)
        vx, vy, vz, _ = gather(velocities, order, panel)
        lx, ly, lz, _ = gather(last, order, panel)
        nx, ny, nz, _ = gather(now, order, panel)
        tx, ty, tz, none = gather(then, order, panel)
        gx, gy, gz = none + one[0], none + one[1], none + one[2]
        if len(pulls) > 1:
            gx, gy, gz, _ = gather(pulls, order, panel)
        spring, weight, hold = load(springs, panel), load(mass, panel), load(held, panel)
        scatter(old, order, panel, px, py, pz, inverse)
        sx, yx, fx = ahead(is_first, dt, px, ox, vx, lx, nx, tx, gx, factors, spring, weight, hold)
        sy, yy, fy = ahead(is_first, dt, py, oy, vy, ly, ny, ty, gy, factors, spring, weight, hold)
        sz, yz, fz = ahead(is_first, dt, pz, oz, vz, lz, nz, tz, gz, factors, spring, weight, hold)
        store_points(v, panel, sx, sy, sz, none)
        store_points(y, panel, yx, yy, yz, none)
        store_points(force, panel, fx, fy, fz, none)


@register_jitable
def joined(points, indices, row, x, y, z, ways, at):
    """The way from x y z to points, sixteen of them, where ``ways`` says what it was when the frame began."""
    jx, jy, jz, _ = gather(points, indices, row)
    return load(ways, at) + (jx - x), load(ways, at + 1) + (jy - y), load(ways, at + 2) + (jz - z)


@kernel
def draw_curves(first, end, y, hinges, ways, pulls):
    """What draws hinges of rows first..end-1, which are bent at rest, along their normals: bounded, whatever the shape."""
    corners, strength, small = hinges[0], hinges[1], np.float32(1e-20)
    for b in range(first, end):
        ax, ay, az, none = gather(y, corners, 4 * b)
        ex, ey, ez = joined(y, corners, 4 * b + 1, ax, ay, az, ways, 9 * b)
        fx, fy, fz = joined(y, corners, 4 * b + 2, ax, ay, az, ways, 9 * b + 3)
        gx, gy, gz = joined(y, corners, 4 * b + 3, ax, ay, az, ways, 9 * b + 6)
        nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
        mx, my, mz = gy * ez - gz * ey, gz * ex - gx * ez, gx * ey - gy * ex
        one = 1.0 / (sqrt(fused(nx, nx, fused(ny, ny, nz * nz))) + small)
        other = 1.0 / (sqrt(fused(mx, mx, fused(my, my, mz * mz))) + small)
        px, py, pz = fused(one, nx, other * mx), fused(one, ny, other * my), fused(one, nz, other * mz)
        share = load(strength, b) / (sqrt(fused(px, px, fused(py, py, pz * pz))) + np.float32(1e-6))
        store_points(pulls, b, share * px, share * py, share * pz, none)


@kernel
def draw_springs(first, end, dt, y, net, ways, directions, pulls):
    """What springs of rows first..end-1 pull at their tails; their directions, and by how much A has less of them across than P."""
    tails, heads, stiffness = net[0], net[1], net[2]
    square, small = np.float32(dt * dt), np.float32(TINY)
    for b in range(first, end):
        ix, iy, iz, none = gather(y, tails, b)
        jx, jy, jz, _ = gather(y, heads, b)
        wx, wy, wz = load(ways, 5 * b), load(ways, 5 * b + 1), load(ways, 5 * b + 2)
        ux, uy, uz = jx - ix, jy - iy, jz - iz
        dx, dy, dz = wx + ux, wy + uy, wz + uz
        length = sqrt(fused(dx, dx, fused(dy, dy, dz * dz)))
        over = 1.0 / (length + small)
        # How much longer it grew in this frame, without taking one length from another that is nearly the same.
        grown = fused(wx + dx, ux, fused(wy + dy, uy, (wz + dz) * uz)) / (length + load(ways, 5 * b + 3) + small) + load(ways, 5 * b + 4)
        stiff = load(stiffness, b)
        tension = stiff * grown * over
        store(directions, 4 * b, over * dx)
        store(directions, 4 * b + 1, over * dy)
        store(directions, 4 * b + 2, over * dz)
        store(directions, 4 * b + 3, (larger(tension, 0.0) - stiff) * square)
        store_points(pulls, b, tension * dx, tension * dy, tension * dz, none)


@kernel
def prepare(first, end, dt, held, y, force, base, net, hinges, bends, pulls, hinge_pulls, r, step, p, q):
    """All forces on particles first..end-1 at places y."""
    square, (along, own, sign), (bent, its, shares), (around, others, weights) = np.float32(dt * dt), net[5:8], hinges[3:6], bends
    for k in range(first, end):
        ax, ay, az = gathered(along[k], along[k + 1], own, sign, pulls)
        bx, by, bz = gathered(bent[k], bent[k + 1], its, shares, hinge_pulls)
        cx, cy, cz = gathered_apart(around[k], around[k + 1], others, weights, y, k)
        gain = square * held[k]
        r[k, 0] = gain * (force[k, 0] + base[k, 0] + ax + bx - cx)
        r[k, 1] = gain * (force[k, 1] + base[k, 1] + ay + by - cy)
        r[k, 2] = gain * (force[k, 2] + base[k, 2] + az + bz - cz)
        for axis in range(3):
            step[k, axis] = p[k, axis] = q[k, axis] = 0.0


@register_jitable
def nothing(x):
    """Zeros, as wide as x."""
    return x * np.float32(0.0)


@register_jitable
def taken_off(first, end, ind, value, w, x, y, z):
    """Three rows of sixteen, less values (T, 16) first..end-1 times the rows of w (M, 4) that ``ind`` names."""
    ax, ay, az = sum_of_columns(first, end, ind, value, w)
    return x - ax, y - ay, z - az


@register_jitable
def put_square(panel, inverse, x, y, z, w):
    """Multiply three rows of sixteen by a panel's inverse square, and put them where the panel's particles are."""
    x, y, z = times_square(inverse, panel, x, y, z)
    store_points(w, panel, x, y, z, nothing(x))


@kernel
def solve_down(first, end, factor, b, w):
    """L w = b for panels first..end-1 of one half."""
    ptr, ind, value, inverse = factor[0], factor[1], factor[2], factor[3]
    for panel in range(first, end):
        x, y, z, _ = load_points(b, panel)
        x, y, z = taken_off(ptr[panel], ptr[panel + 1], ind, value, w, x, y, z)
        put_square(panel, inverse, x, y, z, w)


@kernel
def gather_middle(first, end, part, factor, b, w, more):
    """What is left of b for panels first..end-1 of the middle once one half is taken off; the first half begins with b."""
    ptr, ind, value, splits = factor[0], factor[1], factor[2], factor[4]
    for panel in range(first, end):
        begins, ends = (ptr[panel], splits[panel, 0]) if part == 0 else (splits[panel, 0], splits[panel, 1])
        x, y, z, _ = load_points(b, panel)
        x, y, z = (x, y, z) if part == 0 else (nothing(x), nothing(y), nothing(z))
        x, y, z = taken_off(begins, ends, ind, value, w, x, y, z)
        store(more[part], 3 * panel, x)
        store(more[part], 3 * panel + 1, y)
        store(more[part], 3 * panel + 2, z)


@kernel
def solve_middle(first, end, factor, w, more):
    """L w = b for panels first..end-1 of the middle, what the halves left of b being in ``more``."""
    ptr, ind, value, inverse, splits = factor[0], factor[1], factor[2], factor[3], factor[4]
    one, other = more[0], more[1]
    for panel in range(first, end):
        x = load(one, 3 * panel) + load(other, 3 * panel)
        y = load(one, 3 * panel + 1) + load(other, 3 * panel + 1)
        z = load(one, 3 * panel + 2) + load(other, 3 * panel + 2)
        x, y, z = taken_off(splits[panel, 1], ptr[panel + 1], ind, value, w, x, y, z)
        put_square(panel, inverse, x, y, z, w)


@kernel
def solve_up(first, end, factor, w):
    """L' z = w for panels first..end-1, from the last to the first, in place."""
    ptr, ind, value, inverse = factor[5], factor[6], factor[7], factor[8]
    for panel in range(end - 1, first - 1, -1):
        x, y, z, _ = load_points(w, panel)
        x, y, z = taken_off(ptr[panel], ptr[panel + 1], ind, value, w, x, y, z)
        put_square(panel, inverse, x, y, z, w)


@kernel
def multiply_springs(first, end, z, net, directions, pulls):
    """What of A z - P z springs of rows first..end-1 give to their tails."""
    tails, heads = net[0], net[1]
    for b in range(first, end):
        ix, iy, iz, none = gather(z, tails, b)
        jx, jy, jz, _ = gather(z, heads, b)
        dx, dy, dz = ix - jx, iy - jy, iz - jz
        nx, ny, nz, w = load(directions, 4 * b), load(directions, 4 * b + 1), load(directions, 4 * b + 2), load(directions, 4 * b + 3)
        share = fused(nx, dx, fused(ny, dy, nz * dz))
        store_points(pulls, b, w * (dx - share * nx), w * (dy - share * ny), w * (dz - share * nz), none)


@kernel
def multiply(first, end, net, held, pulls, r, az):
    """az = A z of particles first..end-1, where P z = r."""
    ptr, ind, sign = net[5], net[6], net[7]
    for k in range(first, end):
        x, y, z = gathered(ptr[k], ptr[k + 1], ind, sign, pulls)
        az[k, 0], az[k, 1], az[k, 2] = held[k] * (r[k, 0] + x), held[k] * (r[k, 1] + y), held[k] * (r[k, 2] + z)


@kernel
def dotted(first, end, one, other):
    """The scalar product of rows first..end-1 of two vectors, four particles a row."""
    more = nothing(load(one, first))
    for row in range(first, end):
        more = fused(load(one, row), load(other, row), more)
    return total_of(more)


@kernel
def turn(first, end, beta, z, az, p, q):
    """The next direction for rows first..end-1; returns their part of p q."""
    for row in range(first, end):
        store(p, row, fused(load(p, row), beta, load(z, row)))
        store(q, row, fused(load(q, row), beta, load(az, row)))
    return dotted(first, end, p, q)


@kernel
def go(first, end, alpha, p, q, step, r):
    """A step along the direction."""
    for row in range(first, end):
        store(step, row, fused(load(p, row), alpha, load(step, row)))
        store(r, row, fused(load(q, row), -alpha, load(r, row)))


@kernel
def arrive(first, end, dt, order, held, v, step, then, points):
    """Bring particles of panels first..end-1 to the substep's end."""
    for panel in range(first, end):
        px, py, pz, inverse = gather(points, order, panel)
        vx, vy, vz, _ = load_points(v, panel)
        sx, sy, sz, _ = load_points(step, panel)
        tx, ty, tz, _ = gather(then, order, panel)
        hold = load(held, panel)
        px = where_less(hold, 0.5, tx, fused(vx, dt, px) + sx)
        py = where_less(hold, 0.5, ty, fused(vy, dt, py) + sy)
        pz = where_less(hold, 0.5, tz, fused(vz, dt, pz) + sz)
        scatter(points, order, panel, px, py, pz, inverse)


@register_jitable
def answer(part, thread_count, barrier, iterations, spans, ends, held, net, factor, own):
    """Conjugate gradients: the step that answers the forces in r. All threads call this."""
    directions, pulls, vectors, more, sums = own[6], own[8], own[10], own[11], own[12]
    r, w, az = vectors[0], vectors[1], vectors[2]
    wide = vectors.reshape(6, -1, LANES)
    middle, last, before = spans[2] // LANES, spans[3] // LANES, 1.0
    for iteration in range(iterations):
        for half in range(part, 2, thread_count):
            solve_down(spans[half] // LANES, spans[half + 1] // LANES, factor, r, w)
            gather_middle(middle, last, half, factor, r, w, more)
        meet(barrier, thread_count)
        if part == 0:
            solve_middle(middle, last, factor, w, more)
            solve_up(middle, last, factor, w)
        meet(barrier, thread_count)
        for half in range(part, 2, thread_count):
            solve_up(spans[half] // LANES, spans[half + 1] // LANES, factor, w)
        # Along the cut a half looks at the middle only, but the middle looks at both.
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            multiply_springs(net[4][span], net[4][span + 1], w, net, directions, pulls)
            sums[span, 0] = dotted(spans[span] // 4, spans[span + 1] // 4, wide[0], wide[1])
        meet(barrier, thread_count)
        now = (sums[0, 0] + sums[1, 0]) + sums[2, 0]
        beta = np.float32(now / before if iteration > 0 else 0.0)
        for span in range(part, 3, thread_count):
            multiply(spans[span], ends[span], net, held, pulls, r, az)
            sums[span, 1] = turn(spans[span] // 4, spans[span + 1] // 4, beta, wide[1], wide[2], wide[3], wide[4])
        meet(barrier, thread_count)
        along = (sums[0, 1] + sums[1, 1]) + sums[2, 1]
        if not (now > 0.0 and along > 0.0):
            break
        for span in range(part, 3, thread_count):
            go(spans[span] // 4, spans[span + 1] // 4, np.float32(now / along), wide[3], wide[4], wide[5], wide[0])
        before = now
        meet(barrier, thread_count)


def _advance_sheet(
    part, thread_count, barrier, dt, positions, masses, pulls, factors, sheet, touches, targets, before, velocities, goals, scratch, own
):
    """Advance a sheet by one frame of S substeps of ``dt`` seconds, in place (arrays as in the module's text).

    part, thread_count  which of how many threads this is; all of them call this with one ``barrier``, int64 (1,), zero at the start
    masses      inverse masses (N,) float32 [1/kg]; factors the damping and drag factors of a substep, and the greatest speed [m/s]
    pulls       (1 or P / 4, 16) what a substep adds to the velocity [m/s]
    """
    points, old, begun = scratch
    order, spans, ends, mass, springs, held, bends, net, hinges, factor, iterations = sheet
    y, v, force, base, here, ways, directions, hinge_ways, spring_pulls, hinge_pulls, vectors = own[:11]
    single_dt = np.float32(dt)
    limits = np.float32(factors[0]), np.float32(factors[1]), np.float32(factors[2])
    particles = springs.reshape(-1, LANES), mass.reshape(-1, LANES), held.reshape(-1, LANES)
    in_order = order.reshape(-1)
    r, p, q, step = vectors[0], vectors[3], vectors[4], vectors[5]
    wide, count, substeps = points.reshape(-1, LANES), len(before), len(targets)
    pull, was, speeds = pulls.reshape(-1, 4), old.reshape(-1, 4), velocities.reshape(-1, 4)
    single = pull[:1] if len(pulls) == 1 else pull
    if part == 0:
        begin(0, len(wide), positions, masses, before, targets, goals, points, begun)
    for span in range(part, 3, thread_count):
        look(spans[span], ends[span], in_order, positions, here)
    meet(barrier, thread_count)
    for span in range(part, 3, thread_count):
        look_around(spans[span], ends[span], here, bends, base)
        look_along(net[4][span], net[4][span + 1], here, net, ways)
        look_across(hinges[2][span], hinges[2][span + 1], here, hinges[0], hinge_ways)
    for substep in range(substeps):
        last, now, then = (
            goals[max(substep - 1, 0)].reshape(-1, 4),
            goals[substep].reshape(-1, 4),
            goals[substep + 1].reshape(-1, 4),
        )
        keyed = last, now, then
        for span in range(part, 3, thread_count):
            these = spans[span] // LANES, spans[span + 1] // LANES, substep == 0, single_dt, order, points, was, speeds
            predict(*these, *keyed, single, limits, particles, y, v, force)
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            draw_curves(hinges[2][span], hinges[2][span + 1], y, hinges, hinge_ways, hinge_pulls)
            draw_springs(net[4][span], net[4][span + 1], dt, y, net, ways, directions, spring_pulls)
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            prepare(spans[span], ends[span], dt, held, y, force, base, net, hinges, bends, spring_pulls, hinge_pulls, r, step, p, q)
        meet(barrier, thread_count)
        answer(part, thread_count, barrier, iterations, spans, ends, held, net, factor, own)
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            arrive(spans[span] // LANES, spans[span + 1] // LANES, single_dt, order, particles[2], v, step, then, points)
        meet(barrier, thread_count)
        if part == 0:
            # Folds push what lies below them into what it lies on: that pushes back.
            for _ in range(2 if len(touches[3][0]) else 1):
                push_held(0, 1, NO_PIECES, substep, points, was, *touches[0])
                push_surface_contacts(0, 1, NO_PIECES, substep, substeps, points, was, *touches[1])
                push_surface_contact_lanes(substep, substeps, points, was, *touches[2])
                push_folds(points, was, *touches[3])
        meet(barrier, thread_count)
    if part == 0:
        limit = np.float32(factors[2])
        last, now = moment(substeps - 1, substeps, goals), moment(substeps, substeps, goals)
        finish_rows(0, len(wide), np.float32(dt), wide, velocities, goals, last, now, old, limit)
        move(0, count, points, positions)


advance_sheet = kernel(_advance_sheet)
