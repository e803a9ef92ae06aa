"""A sheet against itself: vertices against triangles and edges against edges (Bridson, Fedkiw, Anderson 2002).

What may touch is looked up once in a while, and which side it is on then is remembered: each *fold* is a weighted sum of four particles,
how far a vertex is in front of a triangle, a ridge or a tip, or an edge beside another one, along a normal that stays until the next look.
What has a vertex straight above it, or an edge across it, counts a little beyond its rim too, for what comes over it until then.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, making_arrays
from quiver.kernels.contacts import SLACK, TINY
from quiver.kernels.measures import spanned
from quiver.kernels.nearest import nearest_on

PARALLEL, NEARLY = 1e-9, 1e-3
"""Squared sines of angles: less is no plane; and edges that are nearly parallel do not cross each other."""
TURNED = 0.2
"""The sine of an angle between edges from which on it is remembered which side they are on: it changes where they turn past each other."""
BEYOND = 0.1
"""Triangles and edges are taken to be so much longer to each side, as a share; not by what is an edge's length from them at rest."""
BACK = 0.3
"""The share of its depth that what is too near is let back by in a substep."""
ROUNDS, MOST_ROUNDS, TIGHT = 3, 12, 0.5
"""Times that folds are kept apart in a substep, one after another, as those in a pile push each other: more often as long as any is nearer
than such a share of what it keeps."""
LEAST = 0.2
"""Nothing comes nearer than such a share: it goes along with what it would go through."""
FIXED = 1e-9
"""Inverse mass of what is fixed, where a mass is needed [1/kg]."""


@register_jitable
def cell_of(x, y, z, low, size, counts):
    """The number of the grid's cell that a place lies in."""
    i = min(max(int((x - low[0]) / size), 0), counts[0] - 1)
    j = min(max(int((y - low[1]) / size), 0), counts[1] - 1)
    k = min(max(int((z - low[2]) / size), 0), counts[2] - 1)
    return (i * counts[1] + j) * counts[2] + k


@making_arrays
def sort_into_cells(middles, low, size, counts, starts, order):
    """Sort places (n, 3) by the cells of a grid: those of cell c are order[starts[c]:starts[c + 1]]."""
    starts[:] = 0
    for n in range(len(middles)):
        starts[cell_of(middles[n, 0], middles[n, 1], middles[n, 2], low, size, counts) + 1] += 1
    for c in range(len(starts) - 1):
        starts[c + 1] += starts[c]
    ahead = starts.copy()
    for n in range(len(middles)):
        c = cell_of(middles[n, 0], middles[n, 1], middles[n, 2], low, size, counts)
        order[ahead[c]] = n
        ahead[c] += 1


@register_jitable
def squared_apart(places, i, others, j):
    """The squared distance of a place from another one."""
    x, y, z = places[i, 0] - others[j, 0], places[i, 1] - others[j, 1], places[i, 2] - others[j, 2]
    return x * x + y * y + z * z


@register_jitable
def squared(u):
    """The square of a way's length."""
    return u[0] * u[0] + u[1] * u[1] + u[2] * u[2]


@register_jitable
def tell(count, found, corners, shares, gap, allowed, key):
    """Add a fold whose gap is a way; returns how many there are, whether or not there was room."""
    (items, weights, normals, gaps, keys), length = found, np.sqrt(squared(gap))
    if length <= TINY:
        return count
    if count < len(items):
        for c in range(4):
            items[count, c], weights[count, c] = corners[c], shares[c]
        normals[count, 0], normals[count, 1], normals[count, 2] = gap[0] / length, gap[1] / length, gap[2] / length
        gaps[count, 0], gaps[count, 1], keys[count] = length, allowed, key
    return count + 1


@register_jitable
def way(p, i, j):
    """From one particle to another: x y z."""
    return p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]


@register_jitable
def products(u, v, w):
    """The scalar products of ways: (u u, u v, v v, u w, v w)."""
    return (
        u[0] * u[0] + u[1] * u[1] + u[2] * u[2],
        u[0] * v[0] + u[1] * v[1] + u[2] * v[2],
        v[0] * v[0] + v[1] * v[1] + v[2] * v[2],
        u[0] * w[0] + u[1] * w[1] + u[2] * w[2],
        v[0] * w[0] + v[1] * w[1] + v[2] * w[2],
    )


@register_jitable
def left_of(w, s, u, t, v):
    """What is left of a way w with s of a way u and less t of v: x y z."""
    return w[0] + s * u[0] - t * v[0], w[1] + s * u[1] - t * v[1], w[2] + s * u[2] - t * v[2]


@register_jitable
def shares_of(u, v, w, least):
    """(whether ways u and v span a plane, shares of both that come nearest to a way w): none where the square of the sine between them is
    no more than ``least``."""
    uu, uv, vv, uw, vw = products(u, v, w)
    across = uu * vv - uv * uv
    if across <= least * uu * vv:
        return False, 0.0, 0.0
    return True, (vv * uw - uv * vw) / across, (uu * vw - uv * uw) / across


@register_jitable
def between_edges(p, a, b, c, d):
    """The way from edge c d to edge a b where they are nearest to each other: x y z."""
    u, v, w = way(p, a, b), way(p, c, d), way(p, c, a)
    uu, uv, vv, uw, vw = products(u, v, w)
    across = uu * vv - uv * uv
    s = min(max((uv * vw - vv * uw) / across, 0.0), 1.0) if across > PARALLEL * uu * vv else 0.5
    t = min(max((uv * s + vw) / max(vv, TINY), 0.0), 1.0)
    s = min(max((uv * t - uw) / max(uu, TINY), 0.0), 1.0)
    return left_of(w, s, u, t, v)


@register_jitable
def between_lines(p, a, b, c, d):
    """(whether edges a b and c d cross each other at all, shares along them of where the lines through them are nearest, the way from the
    second line to the first)."""
    u, v, w = way(p, a, b), way(p, c, d), way(p, c, a)
    do_cross, back, t = shares_of(u, v, w, NEARLY)
    return do_cross, -back, t, left_of(w, -back, u, t, v)


@register_jitable
def side_of(p, a, b, c, d, w):
    """The sine of the angle between edges a b and c d, with a sign that says on which side of them a way w across both goes, however they
    are turned."""
    u, v = way(p, a, b), way(p, c, d)
    lengths = np.sqrt(squared(u) * squared(v) * squared(w))
    return spanned(w[0], w[1], w[2], u[0], u[1], u[2], v[0], v[1], v[2]) / max(lengths, TINY)


@register_jitable
def away_from(p, v, x, y, z, corner):
    """Whether a particle is on the other side of a place than a corner."""
    along = (p[v, 0] - x) * (p[corner, 0] - x) + (p[v, 1] - y) * (p[corner, 1] - y) + (p[v, 2] - z) * (p[corner, 2] - z)
    return along <= 0.0


@register_jitable
def is_tip(p, v, o, triangles, beside, s, t):
    """Whether the place of a triangle that is nearest to a particle, on its rim with shares s, t, is the nearest of all around it: a tip
    or a ridge that looks at the particle. True for one of the triangles around it.

    beside: the corner across each triangle's side opposite to its own corners, int32 (F, 3), -1 for none; where each particle's part of
    the next begins (N + 1,); int32 (6 F, 2) for each triangle around a particle its number and another corner
    """
    (across, ring_starts, ring), (shares, corner, side) = beside, ((1.0 - s - t, s, t), -1, -1)
    for k in range(3):
        if shares[k] >= 1.0 - PARALLEL:
            corner = k
        elif shares[k] <= PARALLEL:
            side = k
    if corner >= 0:
        u = triangles[o, corner]
        for n in range(ring_starts[u], ring_starts[u + 1]):
            if ring[n, 0] < o or not away_from(p, v, p[u, 0], p[u, 1], p[u, 2], ring[n, 1]):
                return False
        return True
    if side < 0:
        return False
    i, j, other = triangles[o, (side + 1) % 3], triangles[o, (side + 2) % 3], across[o, side]
    share = shares[(side + 2) % 3]
    x, y, z = p[i, 0] + share * (p[j, 0] - p[i, 0]), p[i, 1] + share * (p[j, 1] - p[i, 1]), p[i, 2] + share * (p[j, 2] - p[i, 2])
    if other >= 0 and (other < triangles[o, side] or not away_from(p, v, x, y, z, other)):
        return False
    return away_from(p, v, x, y, z, triangles[o, side])


@register_jitable
def in_cells(low, size, counts, x, y, z):
    """Where the cells around a place begin and end along each axis."""
    i, j, k = int((x - low[0]) / size), int((y - low[1]) / size), int((z - low[2]) / size)
    return (
        (max(i - 1, 0), min(i + 2, counts[0])),
        (max(j - 1, 0), min(j + 2, counts[1])),
        (max(k - 1, 0), min(k + 2, counts[2])),
    )


@kernel
def tell_corner(v, o, positions, rest, triangles, beside, distance, edge, reach, count, found):
    """Add what a vertex may touch of a triangle ``o``: how many folds there are now."""
    a, b, c = np.int64(triangles[o, 0]), np.int64(triangles[o, 1]), np.int64(triangles[o, 2])
    if v in (a, b, c):
        return count
    x, y, z, far = positions[v, 0], positions[v, 1], positions[v, 2], reach[v] + max(reach[a], reach[b], reach[c]) + distance
    off, on_b, on_c = nearest_on(x, y, z, positions, a, b, c)
    if off > far * far:
        return count
    at_rest, _, _ = nearest_on(rest[v, 0], rest[v, 1], rest[v, 2], rest, a, b, c)
    beyond = BEYOND if at_rest > edge * edge else 0.0
    u, other, w = way(positions, a, b), way(positions, a, c), way(positions, a, v)
    is_plane, s, t = shares_of(u, other, w, PARALLEL)
    is_over = is_plane and s > -beyond and t > -beyond and s + t < 1.0 + beyond
    if not is_over:
        # What is beside it is free to come over it, but where no triangle is below: a ridge or a tip is nearest there.
        if at_rest <= distance * distance or not is_tip(positions, v, o, triangles, beside, on_b, on_c):
            return count
        s, t = on_b, on_c
    gap, key = left_of(w, -s, u, t, other), -1
    if is_over and min(s, t, 1.0 - s - t) > 0.0:
        key = 2 * (v * len(triangles) + o) + (1 if side_of(positions, a, b, a, c, gap) > 0.0 else 0)
    return tell(count, found, (v, a, b, c), (1.0, s + t - 1.0, -s, -t), gap, min(distance, np.sqrt(at_rest)), key)


@kernel
def tell_edge(e, f, positions, rest, edges, first_key, distance, edge, reach, count, found):
    """Add what an edge may touch of another one, ``f``: how many folds there are now."""
    a, b, c, d = np.int64(edges[e, 0]), np.int64(edges[e, 1]), np.int64(edges[f, 0]), np.int64(edges[f, 1])
    if a in (c, d) or b in (c, d):
        return count
    far = max(reach[a], reach[b]) + max(reach[c], reach[d]) + distance
    if squared(between_edges(positions, a, b, c, d)) > far * far:
        return count
    at_rest = squared(between_edges(rest, a, b, c, d))
    beyond = BEYOND if at_rest > edge * edge else 0.0
    do_cross, s, t, gap = between_lines(positions, a, b, c, d)
    # At its ends it is a matter of vertices and triangles.
    if not do_cross or s <= -beyond or s >= 1.0 + beyond or t <= -beyond or t >= 1.0 + beyond:
        return count
    key = -1
    if min(s, t, 1.0 - s, 1.0 - t) > 0.0:
        side = side_of(positions, a, b, c, d, gap)
        if abs(side) > TURNED:
            key = 2 * (first_key + e * len(edges) + f) + (1 if side > 0.0 else 0)
    return tell(count, found, (a, b, c, d), (1.0 - s, s, t - 1.0, -t), gap, min(distance, np.sqrt(at_rest)), key)


@making_arrays
def find_folds(positions, rest, triangles, edges, beside, distance, edge, reach, grid, items, weights, normals, gaps, keys):
    """What of a sheet may touch itself within ``reach`` (N,) of each particle: how many folds there are, written as far as there is room.

    positions, rest (N, 3) now and at rest; triangles (F, 3), edges (E, 2) of about the length ``edge``; ``beside`` as `is_tip` takes it;
    ``distance`` what stays apart keeps, or what it kept at rest; grid: low (3,), size, counts (3,); items int32 (Q, 4), weights (Q, 4),
    normals (Q, 3), gaps (Q, 2) now and as kept; keys (Q,) twice the number of the pair, and one more on one of its sides, -1 for what is
    not straight above or across
    """
    low, size, counts = grid
    cells, count, found = counts[0] * counts[1] * counts[2], 0, (items, weights, normals, gaps, keys)
    starts, middles = np.empty(cells + 1, np.int64), np.empty((max(len(triangles), len(edges)), 3))
    order, halves = np.empty(len(middles), np.int64), np.zeros(len(middles))
    for t in range(len(triangles)):
        for k in range(3):
            middles[t, k] = (positions[triangles[t, 0], k] + positions[triangles[t, 1], k] + positions[triangles[t, 2], k]) / 3.0
        for c in range(3):
            halves[t] = max(halves[t], np.sqrt(squared_apart(positions, triangles[t, c], middles, t)))
        # As far as its corners may go.
        halves[t] += max(reach[triangles[t, 0]], reach[triangles[t, 1]], reach[triangles[t, 2]])
    sort_into_cells(middles[: len(triangles)], low, size, counts, starts, order)
    for v in range(len(positions)):
        (i0, i1), (j0, j1), (k0, k1) = in_cells(low, size, counts, positions[v, 0], positions[v, 1], positions[v, 2])
        for i in range(i0, i1):
            for j in range(j0, j1):
                first = (i * counts[1] + j) * counts[2]
                for n in range(starts[first + k0], starts[first + k1]):
                    o = order[n]
                    around = reach[v] + distance + halves[o]
                    if squared_apart(positions, v, middles, o) <= around * around:
                        count = tell_corner(v, o, positions, rest, triangles, beside, distance, edge, reach, count, found)
    for e in range(len(edges)):
        for k in range(3):
            middles[e, k] = 0.5 * (positions[edges[e, 0], k] + positions[edges[e, 1], k])
        halves[e] = np.sqrt(squared_apart(positions, edges[e, 0], middles, e)) + max(reach[edges[e, 0]], reach[edges[e, 1]])
    sort_into_cells(middles[: len(edges)], low, size, counts, starts, order)
    first_key = len(positions) * len(triangles)
    for e in range(len(edges)):
        (i0, i1), (j0, j1), (k0, k1) = in_cells(low, size, counts, middles[e, 0], middles[e, 1], middles[e, 2])
        for i in range(i0, i1):
            for j in range(j0, j1):
                first = (i * counts[1] + j) * counts[2]
                for n in range(starts[first + k0], starts[first + k1]):
                    f = order[n]
                    around = halves[e] + halves[f] + distance
                    if f > e and squared_apart(middles, e, middles, f) <= around * around:
                        count = tell_edge(e, f, positions, rest, edges, first_key, distance, edge, reach, count, found)
    return count


@register_jitable
def gap_of(q, points, items, weights, normals, gaps):
    """How far apart a fold is with its particles at points (P, 4)."""
    gap = gaps[q, 0]
    for c in range(4):
        i = items[q, c]
        gap += weights[q, c] * (points[i, 0] * normals[q, 0] + points[i, 1] * normals[q, 1] + points[i, 2] * normals[q, 2])
    return gap


@register_jitable
def go_as_one(q, points, old, items):
    """Let the particles of a fold go along with each other: whatever holds them, they come no nearer."""
    x, y, z, mass = 0.0, 0.0, 0.0, 0.0
    for c in range(4):
        i = items[q, c]
        own = 1.0 / max(np.float64(points[i, 3]), FIXED)
        x, y, z = x + own * (points[i, 0] - old[i, 0]), y + own * (points[i, 1] - old[i, 1]), z + own * (points[i, 2] - old[i, 2])
        mass += own
    for c in range(4):
        i = items[q, c]
        if points[i, 3] > 0.0:
            points[i, 0], points[i, 1], points[i, 2] = old[i, 0] + x / mass, old[i, 1] + y / mass, old[i, 2] + z / mass


def _push_folds(points, old, items, weights, normals, gaps, friction):
    """Keep folds apart, one after another; ``points`` and ``old`` (P, 4) as soft.py says, other arrays as `find_folds`, made when the
    frame began."""
    tight = False
    for turn in range(MOST_ROUNDS):
        tight = False
        for q in range(len(items)):
            gap, gives = gap_of(q, points, items, weights, normals, gaps), 0.0
            for c in range(4):
                gives += weights[q, c] * weights[q, c] * points[items[q, c], 3]
            if gap >= gaps[q, 1] or gives <= 0.0:
                continue
            tight = tight or gap < TIGHT * gaps[q, 1]
            gap, began = gap - gaps[q, 1], gap_of(q, old, items, weights, normals, gaps) - gaps[q, 1]
            push = -gap if began >= -SLACK else min(-gap, max((1.0 - BACK) * began - gap, 0.0))
            nx, ny, nz = normals[q, 0], normals[q, 1], normals[q, 2]
            mx = my = mz = 0.0
            for c in range(4):
                i, share = items[q, c], weights[q, c]
                mx += share * (points[i, 0] - old[i, 0])
                my += share * (points[i, 1] - old[i, 1])
                mz += share * (points[i, 2] - old[i, 2])
            along = mx * nx + my * ny + mz * nz
            mx, my, mz = mx - along * nx, my - along * ny, mz - along * nz
            held = min(friction * push / max(np.sqrt(mx * mx + my * my + mz * mz), TINY), 1.0)
            x, y, z = (push * nx - held * mx) / gives, (push * ny - held * my) / gives, (push * nz - held * mz) / gives
            for c in range(4):
                i = items[q, c]
                part = np.float32(weights[q, c] * points[i, 3])
                points[i, 0] += part * np.float32(x)
                points[i, 1] += part * np.float32(y)
                points[i, 2] += part * np.float32(z)
        if turn + 1 >= ROUNDS and not tight:
            break
    # What would still go through goes along with the other, and then what would go through these.
    for _ in range(MOST_ROUNDS):
        if not tight:
            break
        tight = False
        for q in range(len(items)):
            gap = gap_of(q, points, items, weights, normals, gaps)
            if gap < LEAST * gaps[q, 1] and gap < gap_of(q, old, items, weights, normals, gaps) - SLACK * gaps[q, 1]:
                go_as_one(q, points, old, items)
                tight = True


push_folds = kernel(_push_folds)
