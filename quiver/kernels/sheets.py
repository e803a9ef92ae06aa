"""A frame of a sheet: a net of springs that bends along hinges, in few substeps, each of which answers the true forces.

One substep of dt with THETA = 0.2:

    y = x + THETA dt v                     held particles go to their keyed places
    r = dt^2 f(y)                          f of gravity, springs, bends and holds
    A d = r                                by a few conjugate gradients (Hestenes, Stiefel 1952)
    x' = x + dt v + d                      then contacts move x', and v = (x' - x) / dt

A = M + dt^2 (springs along their directions + bends + holds); the constant P, the same with springs that pull every way (as projective
dynamics takes them: Bouaziz et al. 2014), is factored once and preconditions A. So a sheet rests only where all forces vanish, however few
the iterations: what it does hardly depends on its mesh. Bends: half k |q - q0 n|^2 with q = sum w x, linear where it is flat at rest.

Particles are in the order of the factor, nested dissection: two halves, then what lies between them. Two threads take the halves and meet
at a barrier, so the result is the same to the bit however many there are.

=========  =================  ==================================================================
array      shape              content
=========  =================  ==================================================================
order      int32 (N,)         which particle comes when; ends (4,) where the halves and what lies between begin, and all ends
mass       (N,)               [kg]; springs (N,) [1/s2] of the holds; held (N,) float32, 0 for what is fixed, else 1
net        ptr ind stiff long neighbours of each particle: springs [N/m] and their lengths [m]
bends      ptr ind value      the bends' matrix [N/m], by rows
curves     hinges weights pull (H, 4), (H, 4), (H,): hinges that are bent at rest, which draw along their normals by ``pull`` [N]; and where
                              those inside of each half begin, then the others (4,)
factor     lower by rows, lower by columns, one over the diagonal, where in a row what is of the second half and of the middle begins
own        scratch            y, v, force, base, here (N, 3), ways (E, 3), rows (E, 4), vectors (6, N, 4), more (2, N, 4), sums (3, 2)
=========  =================  ==================================================================

Other arrays as in soft.py.
"""

import math

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic, overload, register_jitable

from quiver.kernels.barriers import meet
from quiver.kernels.contacts import push_held, push_pairs, push_surface_contacts
from quiver.kernels.lanes import LANES
from quiver.kernels.soft import begin, finish_rows, move
from quiver.kernels.surface_contacts import push_surface_contact_lanes

THETA = 0.2
TINY = 1e-12


@njit(nogil=True, cache=True, error_model="numpy")
def look(first, end, order, positions, net, bends, ways, base, here):
    """Where particles first..end-1 and their neighbours are when a frame begins, and the forces of the bends there."""
    ptr, ind = net[0], net[1]
    for k in range(first, end):
        i = order[k]
        x, y, z = positions[i, 0], positions[i, 1], positions[i, 2]
        here[k, 0], here[k, 1], here[k, 2] = x, y, z
        for t in range(ptr[k], ptr[k + 1]):
            j = order[ind[t]]
            ways[t, 0], ways[t, 1], ways[t, 2] = positions[j, 0] - x, positions[j, 1] - y, positions[j, 2] - z
        fx = fy = fz = 0.0
        for t in range(bends[0][k], bends[0][k + 1]):
            j, c = order[bends[1][t]], bends[2][t]
            fx, fy, fz = fx - c * (positions[j, 0] - x), fy - c * (positions[j, 1] - y), fz - c * (positions[j, 2] - z)
        base[k, 0], base[k, 1], base[k, 2] = fx, fy, fz


@njit(nogil=True, cache=True, error_model="numpy")
def predict(first, end, is_first, dt, order, points, old, velocities, last, now, then, pulls, factors, springs, mass, held, y, v, force):
    """Where particles first..end-1 will be after THETA dt, and what draws them from outside; ``old`` is where they are."""
    damping_factor, drag_factor, limit = factors
    rate = 1.0 / dt
    for k in range(first, end):
        i = order[k]
        old[i, 3] = points[i, 3]
        for axis in range(3):
            place, keyed = float(points[i, axis]), (then[i, axis] - now[i, axis]) * rate
            speed = float(velocities[i, axis])
            if not is_first:
                before = (now[i, axis] - last[i, axis]) * rate
                relative = (place - old[i, axis]) * rate - before
                speed = before + min(limit, max(relative, -limit))
            speed = (keyed + (speed - keyed) * damping_factor) * drag_factor
            if held[k] == 0.0:
                speed = (then[i, axis] - place) * rate
            old[i, axis] = points[i, axis]
            v[k, axis], y[k, axis] = speed, place + THETA * dt * speed
            pull = pulls[i, axis] if len(pulls) > 1 else pulls[0, axis]
            force[k, axis] = mass[k] * (pull * rate - springs[k] * (y[k, axis] - then[i, axis]))


@register_jitable
def spot(k, here, y):
    """Where a particle is."""
    return here[k, 0] + y[k, 0], here[k, 1] + y[k, 1], here[k, 2] + y[k, 2]


@njit(nogil=True, cache=True, error_model="numpy")
def draw_curves(first, end, here, y, curves, force):
    """What draws hinges first..end-1, which are bent at rest, back to their bends: bounded, whatever the shape."""
    hinges, weights, strength = curves[0], curves[1], curves[2]
    for h in range(first, end):
        i, j, k, m = hinges[h, 0], hinges[h, 1], hinges[h, 2], hinges[h, 3]
        ax, ay, az = spot(i, here, y)
        bx, by, bz = spot(j, here, y)
        cx, cy, cz = spot(k, here, y)
        dx, dy, dz = spot(m, here, y)
        ex, ey, ez, fx, fy, fz, gx, gy, gz = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az, dx - ax, dy - ay, dz - az
        nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
        mx, my, mz = gy * ez - gz * ey, gz * ex - gx * ez, gx * ey - gy * ex
        a = 1.0 / (math.sqrt(nx * nx + ny * ny + nz * nz) + 1e-20)
        b = 1.0 / (math.sqrt(mx * mx + my * my + mz * mz) + 1e-20)
        px, py, pz = a * nx + b * mx, a * ny + b * my, a * nz + b * mz
        share = strength[h] / (math.sqrt(px * px + py * py + pz * pz) + 1e-6)
        px, py, pz = share * px, share * py, share * pz
        for corner in range(4):
            at, amount = hinges[h, corner], weights[h, corner]
            force[at, 0] += amount * px
            force[at, 1] += amount * py
            force[at, 2] += amount * pz


@njit(nogil=True, cache=True, error_model="numpy")
def prepare(first, end, dt, held, y, force, base, net, bends, ways, rows, r, step, p, q):
    """All forces on particles first..end-1 at places y; the springs' directions, and by how much A has less of them across than P."""
    ptr, ind, stiff, long = net
    square = dt * dt
    for k in range(first, end):
        fx, fy, fz = force[k, 0] + base[k, 0], force[k, 1] + base[k, 1], force[k, 2] + base[k, 2]
        px, py, pz = y[k, 0], y[k, 1], y[k, 2]
        for t in range(bends[0][k], bends[0][k + 1]):
            j, c = bends[1][t], bends[2][t]
            fx, fy, fz = fx - c * (y[j, 0] - px), fy - c * (y[j, 1] - py), fz - c * (y[j, 2] - pz)
        for t in range(ptr[k], ptr[k + 1]):
            j = ind[t]
            dx, dy, dz = ways[t, 0] + (y[j, 0] - px), ways[t, 1] + (y[j, 1] - py), ways[t, 2] + (y[j, 2] - pz)
            over = 1.0 / (math.sqrt(dx * dx + dy * dy + dz * dz) + TINY)
            tension = stiff[t] * (1.0 - long[t] * over)
            fx, fy, fz = fx + tension * dx, fy + tension * dy, fz + tension * dz
            rows[t, 0], rows[t, 1], rows[t, 2] = over * dx, over * dy, over * dz
            rows[t, 3] = square * (max(tension, 0.0) - stiff[t])
        gain = square * held[k]
        r[k, 0], r[k, 1], r[k, 2] = gain * fx, gain * fy, gain * fz
        for axis in range(3):
            step[k, axis] = p[k, axis] = q[k, axis] = 0.0


@intrinsic
def _gathered(typing, first, end, ind, value, w):
    """The same, four numbers at a time and four sums at once: none of them waits for another."""
    quad, i64, i32 = ir.VectorType(ir.FloatType(), 4), ir.IntType(64), ir.IntType(32)

    def generate(context, builder, sig, args):
        indices, values, rows = (context.make_array(sig.args[k])(context, builder, args[k]).data for k in (2, 3, 4))
        kind, four = ir.FunctionType(quad, [quad] * 3), ir.Constant(i64, 4)
        multiply_add = cgutils.get_or_insert_function(builder.module, kind, "llvm.fma.v4f32")

        def term(at, total):
            place = builder.mul(builder.zext(builder.load(builder.gep(indices, [at])), i64), four)
            row = builder.load(builder.bitcast(builder.gep(rows, [place]), quad.as_pointer()), align=4)
            one = builder.insert_element(ir.Constant(quad, ir.Undefined), builder.load(builder.gep(values, [at])), i32(0))
            wide = builder.shuffle_vector(one, one, ir.Constant(ir.VectorType(i32, 4), [0] * 4))
            return builder.call(multiply_add, [wide, row, total])

        begun = builder.block
        head, body, tail, more, out = (builder.append_basic_block(name) for name in ("head", "body", "tail", "more", "out"))
        builder.branch(head)
        builder.position_at_end(head)
        at, sums = builder.phi(i64), [builder.phi(quad) for _ in range(4)]
        builder.cbranch(builder.icmp_signed("<=", builder.add(at, four), args[1]), body, tail)
        builder.position_at_end(body)
        ahead = [builder.add(at, four), *(term(builder.add(at, i64(k)), sums[k]) for k in range(4))]
        for phi, start, then in zip([at, *sums], [args[0], *[quad([0.0] * 4)] * 4], ahead, strict=True):
            phi.add_incoming(start, begun)
            phi.add_incoming(then, body)
        builder.branch(head)
        builder.position_at_end(tail)
        one, rest = builder.phi(i64), builder.phi(quad)
        builder.cbranch(builder.icmp_signed("<", one, args[1]), more, out)
        builder.position_at_end(more)
        for phi, start, then in ((one, at, builder.add(one, i64(1))), (rest, sums[0], term(one, rest))):
            phi.add_incoming(start, head)
            phi.add_incoming(then, more)
        builder.branch(tail)
        builder.position_at_end(out)
        total = builder.fadd(builder.fadd(rest, sums[1]), builder.fadd(sums[2], sums[3]))
        return context.make_tuple(builder, sig.return_type, [builder.extract_element(total, i32(k)) for k in range(3)])

    return types.UniTuple(types.float32, 3)(types.int64, types.int64, ind, value, w), generate


def gathered(first, end, ind, value, w):
    """The sum (3,) of values first..end-1 times rows of w (N, 4), which indices name: what a sparse row does to all three coordinates."""
    total = np.zeros(3, np.float32)
    for t in range(first, end):
        total += value[t] * w[ind[t], :3]
    return total[0], total[1], total[2]


@overload(gathered, inline="always")
def _compiled_gathered(first, end, ind, value, w):
    return lambda first, end, ind, value, w: _gathered(np.int64(first), np.int64(end), ind, value, w)


@njit(nogil=True, cache=True, error_model="numpy")
def solve_down(first, end, factor, b, w):
    """Rows of L w = b of one half."""
    ptr, ind, value, scale = factor[0], factor[1], factor[2], factor[6]
    for k in range(first, end):
        x, y, z = gathered(ptr[k], ptr[k + 1], ind, value, w)
        w[k, 0], w[k, 1], w[k, 2] = (b[k, 0] - x) * scale[k], (b[k, 1] - y) * scale[k], (b[k, 2] - z) * scale[k]


@njit(nogil=True, cache=True, error_model="numpy")
def gather_middle(first, end, part, factor, w, more):
    """What the rows of the middle take from one half."""
    ptr, ind, value, splits = factor[0], factor[1], factor[2], factor[7]
    for k in range(first, end):
        begins, ends = (ptr[k], splits[k, 0]) if part == 0 else (splits[k, 0], splits[k, 1])
        more[part, k, 0], more[part, k, 1], more[part, k, 2] = gathered(begins, ends, ind, value, w)


@njit(nogil=True, cache=True, error_model="numpy")
def solve_middle(first, end, factor, b, w, more):
    """Rows of L w = b of the middle."""
    ptr, ind, value, scale, splits = factor[0], factor[1], factor[2], factor[6], factor[7]
    for k in range(first, end):
        x, y, z = gathered(splits[k, 1], ptr[k + 1], ind, value, w)
        x, y, z = x + (more[0, k, 0] + more[1, k, 0]), y + (more[0, k, 1] + more[1, k, 1]), z + (more[0, k, 2] + more[1, k, 2])
        w[k, 0], w[k, 1], w[k, 2] = (b[k, 0] - x) * scale[k], (b[k, 1] - y) * scale[k], (b[k, 2] - z) * scale[k]


@njit(nogil=True, cache=True, error_model="numpy")
def solve_up(first, end, factor, w):
    """Rows of L' z = w, from the last to the first, in place."""
    ptr, ind, value, scale = factor[3], factor[4], factor[5], factor[6]
    for k in range(end - 1, first - 1, -1):
        x, y, z = gathered(ptr[k], ptr[k + 1], ind, value, w)
        w[k, 0], w[k, 1], w[k, 2] = (w[k, 0] - x) * scale[k], (w[k, 1] - y) * scale[k], (w[k, 2] - z) * scale[k]


@njit(nogil=True, cache=True, error_model="numpy")
def multiply(first, end, net, held, rows, r, z, az):
    """az = A z of particles first..end-1, where P z = r; returns their part of z r."""
    ptr, ind = net[0], net[1]
    along = 0.0
    for k in range(first, end):
        x, y, u = r[k, 0], r[k, 1], r[k, 2]
        zx, zy, zz = z[k, 0], z[k, 1], z[k, 2]
        for t in range(ptr[k], ptr[k + 1]):
            j = ind[t]
            dx, dy, dz = zx - z[j, 0], zy - z[j, 1], zz - z[j, 2]
            nx, ny, nz, w = rows[t, 0], rows[t, 1], rows[t, 2], rows[t, 3]
            share = nx * dx + ny * dy + nz * dz
            x, y, u = x + w * (dx - share * nx), y + w * (dy - share * ny), u + w * (dz - share * nz)
        az[k, 0], az[k, 1], az[k, 2] = held[k] * x, held[k] * y, held[k] * u
        along += zx * r[k, 0] + zy * r[k, 1] + zz * r[k, 2]
    return along


@njit(nogil=True, cache=True, error_model="numpy")
def turn(first, end, beta, z, az, p, q):
    """The next direction of particles first..end-1; returns their part of p q."""
    along = 0.0
    for k in range(first, end):
        for axis in range(3):
            p[k, axis] = z[k, axis] + beta * p[k, axis]
            q[k, axis] = az[k, axis] + beta * q[k, axis]
            along += p[k, axis] * q[k, axis]
    return along


@njit(nogil=True, cache=True, error_model="numpy")
def go(first, end, alpha, p, q, step, r):
    """A step along the direction."""
    for k in range(first, end):
        for axis in range(3):
            step[k, axis] += alpha * p[k, axis]
            r[k, axis] -= alpha * q[k, axis]


@njit(nogil=True, cache=True, error_model="numpy")
def arrive(first, end, dt, order, held, v, step, then, points):
    """Bring particles first..end-1 to the substep's end."""
    for k in range(first, end):
        i = order[k]
        for axis in range(3):
            moved = points[i, axis] + np.float32(dt * v[k, axis]) + step[k, axis]
            points[i, axis] = then[i, axis] if held[k] == 0.0 else moved


@register_jitable
def answer(part, thread_count, barrier, iterations, ends, held, net, factor, own):
    """Conjugate gradients: the step that answers the forces in r. All threads call this."""
    rows, vectors, more, sums = own[6:]
    r, w, az, p, q, step = vectors[0], vectors[1], vectors[2], vectors[3], vectors[4], vectors[5]
    middle, end, before = ends[2], ends[3], 1.0
    for iteration in range(iterations):
        for half in range(part, 2, thread_count):
            solve_down(ends[half], ends[half + 1], factor, r, w)
            gather_middle(middle, end, half, factor, w, more)
        meet(barrier, thread_count)
        if part == 0:
            solve_middle(middle, end, factor, r, w, more)
            solve_up(middle, end, factor, w)
        meet(barrier, thread_count)
        for half in range(part, 2, thread_count):
            solve_up(ends[half], ends[half + 1], factor, w)
        # Along the cut a half looks at the middle only, but the middle looks at both.
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            sums[span, 0] = multiply(ends[span], ends[span + 1], net, held, rows, r, w, az)
        meet(barrier, thread_count)
        now = (sums[0, 0] + sums[1, 0]) + sums[2, 0]
        beta = np.float32(now / before if iteration > 0 else 0.0)
        for span in range(part, 3, thread_count):
            sums[span, 1] = turn(ends[span], ends[span + 1], beta, w, az, p, q)
        meet(barrier, thread_count)
        along = (sums[0, 1] + sums[1, 1]) + sums[2, 1]
        if not (now > 0.0 and along > 0.0):
            break
        for span in range(part, 3, thread_count):
            go(ends[span], ends[span + 1], np.float32(now / along), p, q, step, r)
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
    order, ends, mass, springs, held, net, bends, curves, factor, iterations = sheet
    y, v, force, base, here, ways, rows, vectors = own[:8]
    r, p, q, step = vectors[0], vectors[3], vectors[4], vectors[5]
    wide, count, substeps = points.reshape(-1, LANES), len(before), len(targets)
    pull, was, speeds = pulls.reshape(-1, 4), old.reshape(-1, 4), velocities.reshape(-1, 4)
    single = pull[:1] if len(pulls) == 1 else pull
    if part == 0:
        begin(0, count, positions, masses, before, targets, goals.reshape(substeps + 1, -1, 4), points, begun)
    for span in range(part, 3, thread_count):
        look(ends[span], ends[span + 1], order, positions, net, bends, ways, base, here)
    meet(barrier, thread_count)
    for substep in range(substeps):
        last, now, then = (
            goals[max(substep - 1, 0)].reshape(-1, 4),
            goals[substep].reshape(-1, 4),
            goals[substep + 1].reshape(-1, 4),
        )
        keyed = last, now, then
        for span in range(part, 3, thread_count):
            these = ends[span], ends[span + 1], substep == 0, dt, order, points, was, speeds
            predict(*these, *keyed, single, factors, springs, mass, held, y, v, force)
        meet(barrier, thread_count)
        for half in range(part, 2, thread_count):
            draw_curves(curves[3][half], curves[3][half + 1], here, y, curves, force)
        meet(barrier, thread_count)
        if part == 0:
            draw_curves(curves[3][2], curves[3][3], here, y, curves, force)
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            prepare(ends[span], ends[span + 1], dt, held, y, force, base, net, bends, ways, rows, r, step, p, q)
        meet(barrier, thread_count)
        answer(part, thread_count, barrier, iterations, ends, held, net, factor, own)
        meet(barrier, thread_count)
        for span in range(part, 3, thread_count):
            arrive(ends[span], ends[span + 1], dt, order, held, v, step, then, points)
        meet(barrier, thread_count)
        if part == 0:
            push_held(substep, points, was, *touches[0])
            push_surface_contacts(substep, substeps, points, was, *touches[1])
            push_surface_contact_lanes(substep, substeps, points, was, *touches[2])
            push_pairs(points, was, *touches[3])
        meet(barrier, thread_count)
    if part == 0:
        limit = np.float32(factors[2])
        finish_rows(0, len(wide), np.float32(dt), wide, velocities, goals[substeps - 1], goals[substeps], old, limit)
        move(0, count, points, positions)


advance_sheet = njit(nogil=True, cache=True, error_model="numpy")(_advance_sheet)
