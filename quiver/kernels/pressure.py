"""Pressure: what is inside of a closed surface keeps its volume as a whole, whatever its tetrahedra do one by one.

One step a substep for each surface (extended position-based dynamics; one pressure for a whole body: Diziol, Bender, Bayer 2011), along the
way in which the volume grows the most for what it moves, so that momentum stays.

How a volume changes is found from the moves since the frame began, in float32: exactly nothing where nothing moves.
"""

import math

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.gathering import gathered
from quiver.kernels.lanes import LANES, fused, gather, larger, least, load, scatter, splat, store, total_of
from quiver.kernels.measures import spanned

TINY = 1e-30
AFRESH = 4
"""Every so many substeps a volume is looked at as a whole; between, it changes by where its particles go along what grew it then."""


@register_jitable
def see_from(origin, first, end, positions, corners, shares, ways):
    """The ways from a particle to the three corners of faces of rows first..end-1, nine rows each, and six times the volume inside; faces
    count by ``shares`` (B, 16).
    """
    ox, oy, oz, sixfold = positions[origin, 0], positions[origin, 1], positions[origin, 2], 0.0
    for b in range(first, end):
        for lane in range(LANES):
            i, j, k = corners[3 * b, lane], corners[3 * b + 1, lane], corners[3 * b + 2, lane]
            # Where there is no face, all corners are nobody's.
            if i == j:
                continue
            ax, ay, az = positions[i, 0] - ox, positions[i, 1] - oy, positions[i, 2] - oz
            bx, by, bz = positions[j, 0] - ox, positions[j, 1] - oy, positions[j, 2] - oz
            cx, cy, cz = positions[k, 0] - ox, positions[k, 1] - oy, positions[k, 2] - oz
            sixfold += shares[b, lane] * spanned(ax, ay, az, bx, by, bz, cx, cy, cz)
            ways[9 * b, lane], ways[9 * b + 1, lane], ways[9 * b + 2, lane] = ax, ay, az
            ways[9 * b + 3, lane], ways[9 * b + 4, lane], ways[9 * b + 5, lane] = bx, by, bz
            ways[9 * b + 6, lane], ways[9 * b + 7, lane], ways[9 * b + 8, lane] = cx, cy, cz
    return sixfold


@register_jitable
def grown(origin, first, end, points, corners, shares, ways, numbers, looks):
    """By how much six times the volume grew since the ways were found; where faces look and twice how large they are, rows of looks."""
    ox, oy, oz = points[origin, 0], points[origin, 1], points[origin, 2]
    total = load(ways, 9 * first) * np.float32(0.0)
    for b in range(first, end):
        dx, dy, dz, none = gather(points, corners, 3 * b)
        ex, ey, ez, _ = gather(points, corners, 3 * b + 1)
        fx, fy, fz, _ = gather(points, corners, 3 * b + 2)
        dx, dy, dz, ex, ey, ez, fx, fy, fz = dx - ox, dy - oy, dz - oz, ex - ox, ey - oy, ez - oz, fx - ox, fy - oy, fz - oz
        ax, ay, az = load(ways, 9 * b), load(ways, 9 * b + 1), load(ways, 9 * b + 2)
        bx, by, bz = load(ways, 9 * b + 3), load(ways, 9 * b + 4), load(ways, 9 * b + 5)
        cx, cy, cz = load(ways, 9 * b + 6) + fx, load(ways, 9 * b + 7) + fy, load(ways, 9 * b + 8) + fz
        # a b c was and a' b' c' is: a' b' c' - a b c = d b' c' + a e c' + a b f.
        share = load(shares, b)
        total = total + share * fused(fx, ay * bz - az * by, fused(fy, az * bx - ax * bz, fz * (ax * by - ay * bx)))
        bx, by, bz = bx + ex, by + ey, bz + ez
        total = total + share * fused(ex, cy * az - cz * ay, fused(ey, cz * ax - cx * az, ez * (cx * ay - cy * ax)))
        total = total + share * fused(dx, by * cz - bz * cy, fused(dy, bz * cx - bx * cz, dz * (bx * cy - by * cx)))
        ax, ay, az = ax + dx, ay + dy, az + dz
        bx, by, bz, cx, cy, cz = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az
        scatter(looks, numbers, b, share * (by * cz - bz * cy), share * (bz * cx - bx * cz), share * (bx * cy - by * cx), none)
    return total


def _keep_volumes(first, each, step, is_again, points, positions, goals, surfaces, compliances, farthest, room):
    """Bring the volumes inside of surfaces first, first + each, ... of Q to their goals in a substep of a frame; ``points`` (P, 4) as
    soft.py says, since the frame began at positions (N, 3). In the first it looks how large they were then. ``is_again`` is a second time
    in a substep, for those that give way to nothing.

    surfaces  corners int32 (3 B, 16) of faces that look outwards, nobody's for lanes without one, those of surface q from rows starts[q]
              on; by which share each counts, float32 (B, 16), as one between what is inside in full and what is in part; rims int32 (R, 16)
              the particles at them, nobody's for lanes without one, in rows from rim_starts[q] on; the faces around each as `gathered`
              takes them; and numbers int32 (B, 16) of all lanes
    goals (Q,) six times the volumes wanted [m3]; compliances (Q,) over dt squared, of these
    farthest  no particle is pushed farther in a substep than this share of how large its piece is
    room      scratch: ways (9 B, 16), looks (16 B, 4), pushes (3 R, 16), sixfolds (Q,); and of the last look: where rims were
              (3 R, 16), and by how much it had grown, how much it gives, and the most that one goes (Q, 3)
    """
    corners, starts, shares, rims, rim_starts, (ptr, ind, ones), numbers = surfaces
    ways, looks, pushes, sixfolds, seen, found = room
    for q in range(first, len(compliances), each):
        if is_again and compliances[q] > 0.0:
            continue
        origin, begin, end = corners[3 * starts[q], 0], rim_starts[q], rim_starts[q + 1]
        if step == 0 and not is_again:
            sixfolds[q] = see_from(origin, starts[q], starts[q + 1], positions, corners, shares, ways)
        if step % AFRESH == 0 and not is_again:
            more = total_of(grown(origin, starts[q], starts[q + 1], points, corners, shares, ways, numbers, looks))
            for r in range(begin, end):
                for lane in range(LANES):
                    at = LANES * r + lane
                    pushes[3 * r, lane], pushes[3 * r + 1, lane], pushes[3 * r + 2, lane] = gathered(ptr[at], ptr[at + 1], ind, ones, looks)
            gives, most = splat(0.0), splat(0.0)
            for r in range(begin, end):
                x, y, z, mass = gather(points, rims, r)
                store(seen, 3 * r, x)
                store(seen, 3 * r + 1, y)
                store(seen, 3 * r + 2, z)
                px, py, pz = load(pushes, 3 * r), load(pushes, 3 * r + 1), load(pushes, 3 * r + 2)
                square = fused(px, px, fused(py, py, pz * pz))
                gives, most = fused(mass, square, gives), larger(mass * mass * square, most)
            found[q, 0], found[q, 1], found[q, 2] = more, compliances[q] + total_of(gives), math.sqrt(-least(-most))
        else:
            total = splat(0.0)
            for r in range(begin, end):
                x, y, z, _ = gather(points, rims, r)
                x, y, z = x - load(seen, 3 * r), y - load(seen, 3 * r + 1), z - load(seen, 3 * r + 2)
                total = fused(load(pushes, 3 * r), x, fused(load(pushes, 3 * r + 1), y, fused(load(pushes, 3 * r + 2), z, total)))
            more = found[q, 0] + total_of(total)
        share = (goals[q] - (sixfolds[q] + more)) / max(found[q, 1], TINY)
        limit = farthest * abs(goals[q] / 6.0) ** (1.0 / 3.0) / max(found[q, 2], TINY)
        share = np.float32(min(max(share, -limit), limit))
        for r in range(begin, end):
            x, y, z, mass = gather(points, rims, r)
            by = mass * share
            x, y, z = fused(by, load(pushes, 3 * r), x), fused(by, load(pushes, 3 * r + 1), y), fused(by, load(pushes, 3 * r + 2), z)
            scatter(points, rims, r, x, y, z, mass)


keep_volumes = kernel(_keep_volumes)


@register_jitable
def sixfold_inside(positions, faces, shares, first, end):
    """Six times the volume inside of faces first..end-1 of (F, 3), which count by shares (F,), at positions float64 (N, 3)."""
    o, sixfold = faces[first, 0], 0.0
    ox, oy, oz = positions[o, 0], positions[o, 1], positions[o, 2]
    for f in range(first, end):
        i, j, k = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = positions[i, 0] - ox, positions[i, 1] - oy, positions[i, 2] - oz
        bx, by, bz = positions[j, 0] - ox, positions[j, 1] - oy, positions[j, 2] - oz
        cx, cy, cz = positions[k, 0] - ox, positions[k, 1] - oy, positions[k, 2] - oz
        sixfold += shares[f] * spanned(ax, ay, az, bx, by, bz, cx, cy, cz)
    return sixfold


@kernel
def volumes_at(positions, faces, shares, face_starts, out):
    """Write six times the volumes (Q,) inside of surfaces at positions float64 (N, 3): faces (F, 3), which count by shares (F,), those of q
    from face_starts[q] on.
    """
    for q in range(len(out)):
        out[q] = sixfold_inside(positions, faces, shares, face_starts[q], face_starts[q + 1])


@kernel
def look_along(first, end, at, before, targets, faces, shares, face_starts, here, middles, looked):
    """How a solid is keyed at some moments, first..end-1 of ``at`` (L,), on its way from before (N, 3) through targets (K, N, 3): straight
    from each to the next, 0 being before and K the last.

    looked (L, Q) receives the volumes as `volumes_at` says, middles (M, P, 4) the float32 places at the first M moments, seen from the
    first particle; here (N, 3) is room
    """
    for k in range(first, end):
        target = min(int(at[k]), len(targets) - 1)
        share, now, last = at[k] - target, targets[target], targets[target - 1] if target > 0 else before
        for v in range(len(before)):
            for axis in range(3):
                here[v, axis] = last[v, axis] + share * (now[v, axis] - last[v, axis])
        if k < len(middles):
            for v in range(len(before)):
                for axis in range(3):
                    middles[k, v, axis] = here[v, axis] - here[0, axis]
        for q in range(looked.shape[1]):
            looked[k, q] = sixfold_inside(here, faces, shares, face_starts[q], face_starts[q + 1])
