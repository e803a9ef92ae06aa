"""Points of one piece of a solid against the surfaces of its others: which is nearest, what may meet, and keeping that apart in a substep.

Each piece has a tree of its own, complete as in kernels/nearest.py, with leaves of up to sixteen triangles; a packet of points of one piece
goes down those of all others together, in float32, as in kernels/packets.py. Where a point is nearest is then said in float64.
"""

from typing import NamedTuple

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.lanes import LANES, fused, gather, least, less_bits, load, lowest, scatter, total_of
from quiver.kernels.nearest import DEEPEST, box_distance, join, nearest_on
from quiver.kernels.packets import WIDER, box_gap, sixteen, triangle_gaps
from quiver.kernels.posed import fit_leaf

TINY = 1e-12
ASTRAY = 0.5
"""By this share of its length a way may lead elsewhere than is thought."""
GAP, OUT_X, OUT_Y, OUT_Z, EASE = range(5)
"""What `push_apart` takes of two that may meet: how far apart they were when the frame began beyond what they keep [m], where the other
looks, and one over how easily they give way [kg]."""


class Forest(NamedTuple):
    """Surfaces of Q pieces: F triangles, piece by piece and in their trees' order, L leaves."""

    triangles: np.ndarray
    """int32 (F, 3)"""
    starts: np.ndarray
    """(L + 1,) where a leaf's triangles begin"""
    corners: np.ndarray
    """int32 (3 L, 16) the first, second and third corners of a leaf's triangles; nobody's for lanes without one"""
    roots: np.ndarray
    """(Q + 1,) where a piece's leaves begin: its nodes begin at twice that less the pieces before it"""


@register_jitable
def carried_by(v, corners, weights, moved):
    """Where particles at moved (N, 3) carry a vertex."""
    x, y, z = 0.0, 0.0, 0.0
    for c in range(4):
        i, share = corners[v, c], weights[v, c]
        x, y, z = x + share * moved[i, 0], y + share * moved[i, 1], z + share * moved[i, 2]
    return x, y, z


@kernel
def carry_all(first, end, corners, weights, positions, ways, places, gone, near_places):
    """Vertices first..end-1 at corners (V, 4) of particles by weights (V, 4): their places (V, 3) and how far they go, gone (K, V, 3),
    where the particles are at positions (N, 3) and go ways (K, N, 3); near_places float32 (V + 1, 4) count from the first particle.
    """
    for v in range(first, end):
        x, y, z = carried_by(v, corners, weights, positions)
        places[v, 0], places[v, 1], places[v, 2] = x, y, z
        near_places[v, 0], near_places[v, 1], near_places[v, 2] = x - positions[0, 0], y - positions[0, 1], z - positions[0, 2]
        for k in range(len(ways)):
            gone[k, v, 0], gone[k, v, 1], gone[k, v, 2] = carried_by(v, corners, weights, ways[k])


@kernel
def fit(first, end, forest, near_places, boxes):
    """Fit the boxes (nodes, 6) of pieces first..end-1 to where their vertices are."""
    for q in range(first, end):
        begin, leaves = forest.roots[q], forest.roots[q + 1] - forest.roots[q]
        own = boxes[2 * begin - q :]
        for leaf in range(leaves):
            fit_leaf(near_places, forest.corners, begin + leaf, own, leaves - 1 + leaf)
        for node in range(leaves - 2, -1, -1):
            join(own, node)


@kernel
def look_as_far(rows, gone, inside, near, deep, limits):
    """How far to look for each of vertices rows (R,) that go gone (K, V, 3), limits (R,): ``deep`` where one was ``inside``, else what is
    ``near`` and as far as it and what it meets may go, but no farther than that.
    """
    for r in range(len(rows)):
        square = 0.0
        for k in range(len(gone)):
            x, y, z = gone[k, rows[r], 0], gone[k, rows[r], 1], gone[k, rows[r], 2]
            square = max(square, x * x + y * y + z * z)
        limits[r] = deep if inside[r] else min(near + 2.0 * np.sqrt(square), deep)


@register_jitable
def go_down(q, forest, near_places, boxes, queries, best, which, middle, stack):
    """A packet, queries float32 (3, 16), goes down the tree of piece ``q``: the nearest triangles, which (16,), within squared
    distances ``best`` (1, 16)."""
    begin, leaves = forest.roots[q], forest.roots[q + 1] - forest.roots[q]
    own = boxes[2 * begin - q :]
    x, y, z = load(queries, 0), load(queries, 1), load(queries, 2)
    stack[0], top = 0, 1
    while top:
        top -= 1
        node = stack[top]
        bits = less_bits(box_gap(own, node, x, y, z), load(best, 0))
        if bits == 0:
            continue
        if node < leaves - 1:
            left, right = 2 * node + 1, 2 * node + 2
            if box_distance(own, left, middle[0], middle[1], middle[2]) < box_distance(own, right, middle[0], middle[1], middle[2]):
                left, right = right, left
            stack[top], stack[top + 1], top = left, right, top + 2
            continue
        leaf = begin + node - leaves + 1
        triangles = sixteen(near_places, forest.corners, leaf)
        while bits:
            lane = lowest(bits)
            bits &= bits - 1
            gaps = triangle_gaps(triangles, queries[0, lane], queries[1, lane], queries[2, lane])
            near = least(gaps)
            if near < best[0, lane]:
                best[0, lane], which[lane] = near, forest.starts[leaf] + lowest(~less_bits(near, gaps))


@kernel
def find_others(first, end, packets, rows, pieces, limits, forest, places, near_places, boxes, found, shares):
    """For points rows (R,) in packets first..end-1, each of one of ``pieces`` (P,) and at packets (P + 1,) of the rows: the nearest
    triangle of another within limits (R,), -1 for none, and its second and third corners' shares (R, 2).
    """
    queries, best, middle = on_stack(np.float32, 3, LANES), on_stack(np.float32, 1, LANES), on_stack(np.float64, 3)
    which, stack = on_stack(np.int64, LANES), on_stack(np.int64, DEEPEST)
    for packet in range(first, end):
        begin, count = packets[packet], packets[packet + 1] - packets[packet]
        middle[0], middle[1], middle[2] = 0.0, 0.0, 0.0
        for lane in range(LANES):
            r = begin + min(lane, count - 1)
            for k in range(3):
                queries[k, lane] = near_places[rows[r], k]
            best[0, lane], which[lane] = limits[r] * limits[r] * WIDER if lane < count else -1.0, -1
            if lane < count:
                for k in range(3):
                    middle[k] += queries[k, lane] / count
        for q in range(len(forest.roots) - 1):
            if q != pieces[packet]:
                go_down(q, forest, near_places, boxes, queries, best, which, middle, stack)
        for lane in range(count):
            r, t = begin + lane, which[lane]
            found[r] = -1
            if t >= 0:
                x, y, z = places[rows[r], 0], places[rows[r], 1], places[rows[r], 2]
                a, b, c = forest.triangles[t, 0], forest.triangles[t, 1], forest.triangles[t, 2]
                squared, shares[r, 0], shares[r, 1] = nearest_on(x, y, z, places, a, b, c)
                if squared <= limits[r] * limits[r]:
                    found[r] = t


@register_jitable
def blended(values, triangle, u, v, w, k):
    """A number of a triangle's spot from those of its corners, values (V, 3)."""
    return u * values[triangle[0], k] + v * values[triangle[1], k] + w * values[triangle[2], k]


@kernel
def look_at(rows, found, shares, triangles, places, normals, distances, looks):
    """How far points rows (R,) are in front of what was found for them, distances (R,) [m], inf where nothing was, and where that looks,
    looks (R, 3)."""
    for r in range(len(rows)):
        distances[r] = np.inf
        if found[r] < 0:
            continue
        corners, v, w = triangles[found[r]], shares[r, 0], shares[r, 1]
        square, ahead = 0.0, 0.0
        for k in range(3):
            looks[r, k] = blended(normals, corners, 1.0 - v - w, v, w, k)
            square += looks[r, k] * looks[r, k]
            ahead += looks[r, k] * (places[rows[r], k] - blended(places, corners, 1.0 - v - w, v, w, k))
        inverse = 1.0 / max(np.sqrt(square), TINY)
        distances[r] = ahead * inverse
        for k in range(3):
            looks[r, k] *= inverse


@register_jitable
def gap_after(gap, x, y, z, nx, ny, nz):
    """The least that is left of a gap in front of what looks along n when it is gone x y z against that."""
    return gap + (x * nx + y * ny + z * nz) - ASTRAY * np.sqrt(x * x + y * y + z * z)


@kernel
def may_meet(rows, found, shares, triangles, gone, distances, looks, near, out):
    """Which of what is so far in front of something may come as ``near`` to it [m], out bool (R,), where it goes one of some ways against
    it: vertices go gone (K, V, 3). Other arrays as `look_at`."""
    for r in range(len(rows)):
        least_gap = distances[r]
        if found[r] >= 0:
            corners, v, w = triangles[found[r]], shares[r, 0], shares[r, 1]
            for k in range(len(gone)):
                x = gone[k, rows[r], 0] - blended(gone[k], corners, 1.0 - v - w, v, w, 0)
                y = gone[k, rows[r], 1] - blended(gone[k], corners, 1.0 - v - w, v, w, 1)
                z = gone[k, rows[r], 2] - blended(gone[k], corners, 1.0 - v - w, v, w, 2)
                least_gap = min(least_gap, gap_after(distances[r], x, y, z, looks[r, 0], looks[r, 1], looks[r, 2]))
        out[r] = found[r] >= 0 and least_gap < near


@kernel
def may_touch(places, corners, weights, spots, contact_distances, ways, near, out):
    """The same, out bool (M,), of points at places (M, 3) that particles carry and that are in front of a surface that moves: spots (M, 12)
    and contact_distances (M,) as `push_surface_contacts` takes them; particles go ways (K, N, 3).
    """
    for m in range(len(places)):
        nx, ny, nz = spots[m, 6], spots[m, 7], spots[m, 8]
        x, y, z = places[m, 0] - spots[m, 0], places[m, 1] - spots[m, 1], places[m, 2] - spots[m, 2]
        gap = x * nx + y * ny + z * nz - contact_distances[m]
        least_gap = gap
        for k in range(len(ways)):
            x, y, z = carried_by(m, corners, weights, ways[k])
            x, y, z = x - (spots[m, 3] - spots[m, 0]), y - (spots[m, 4] - spots[m, 1]), z - (spots[m, 5] - spots[m, 2])
            least_gap = min(least_gap, gap_after(gap, x, y, z, nx, ny, nz))
        out[m] = least_gap < near


@kernel
def pair_up(rows, which, found, shares, triangles, corners, weights, masses, gaps, looks, particles, carried, meetings):
    """Rows of two that may meet as `push_apart` takes them, of ``which`` (M,) of the points that `find_others` was asked; gaps (M,) [m].

    corners (V, 4) and weights (V, 4) of what carries the vertices; masses (N,) inverse masses; particles int32 (M, 16) hold nobody's,
    carried (M, 16) zero where there is no more
    """
    for m in range(len(which)):
        r, many = which[m], 0
        v, w = shares[r, 0], shares[r, 1]
        for side in range(4):
            vertex = rows[r] if side == 0 else triangles[found[r], side - 1]
            share = 1.0 if side == 0 else (-(1.0 - v - w) if side == 1 else (-v if side == 2 else -w))
            for c in range(4):
                part, particle, at = share * weights[vertex, c], corners[vertex, c], 0
                if part == 0.0:
                    continue
                # What carries several corners counts once.
                while at < many and particles[m, at] != particle:
                    at += 1
                many = max(many, at + 1)
                particles[m, at] = particle
                carried[m, at] += part
        eases = 0.0
        for at in range(many):
            eases += carried[m, at] * carried[m, at] * masses[particles[m, at]]
        meetings[m, GAP], meetings[m, EASE] = gaps[m], 1.0 / max(eases, TINY) if eases > TINY else 0.0
        meetings[m, OUT_X], meetings[m, OUT_Y], meetings[m, OUT_Z] = looks[r, 0], looks[r, 1], looks[r, 2]


def _push_apart(points, particles, carried, meetings):
    """Push points of one piece and what they are near to of another apart, by their masses, without friction; ``points`` as in soft.py.

    particles int32 (M, 16), no one twice but for nobody, and carried float32 (M, 16) the shares of the point in them, and, with a minus,
    of its place on the other; meetings float32 (M, 5) as GAP to EASE say
    """
    for m in range(len(meetings)):
        x, y, z, mass = gather(points, particles, m)
        share = load(carried, m)
        nx, ny, nz = meetings[m, OUT_X], meetings[m, OUT_Y], meetings[m, OUT_Z]
        gap = meetings[m, GAP] + total_of(share * fused(x, nx, fused(y, ny, z * nz)))
        if gap < 0.0:
            moved = share * mass * np.float32(-gap * meetings[m, EASE])
            scatter(points, particles, m, fused(moved, nx, x), fused(moved, ny, y), fused(moved, nz, z), mass)


push_apart = kernel(_push_apart)
