"""A sheet against itself: vertices against triangles and edges against edges (Bridson, Fedkiw, Anderson 2002).

What may touch is looked up once in a while, and which side it is on then is remembered: each *fold* is a weighted sum of four particles,
how far a vertex is in front of a triangle or an edge beside another one, along a normal that stays until the next look. So nothing can
slip through in between, however fast.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, making_arrays
from quiver.kernels.contacts import EASE, SLACK, TINY
from quiver.kernels.nearest import nearest_on

PARALLEL = 1e-9
ROUNDS = 3
"""Times that folds are kept apart in a substep, one after another: those in a pile push each other."""


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
def tell(count, items, weights, normals, gaps, corners, shares, x, y, z, allowed):
    """Add a fold whose gap is x y z long; returns how many there are, whether or not there was room."""
    length = np.sqrt(x * x + y * y + z * z)
    if length <= TINY:
        return count
    if count < len(items):
        for c in range(4):
            items[count, c], weights[count, c] = corners[c], shares[c]
        normals[count, 0], normals[count, 1], normals[count, 2] = x / length, y / length, z / length
        gaps[count, 0], gaps[count, 1] = length, allowed
    return count + 1


@register_jitable
def between_edges(p, a, b, c, d):
    """(shares along edges a b and c d of where they are nearest to each other, the way from the second to the first x y z)."""
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    vx, vy, vz = p[d, 0] - p[c, 0], p[d, 1] - p[c, 1], p[d, 2] - p[c, 2]
    wx, wy, wz = p[a, 0] - p[c, 0], p[a, 1] - p[c, 1], p[a, 2] - p[c, 2]
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    uw, vw = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    across = uu * vv - uv * uv
    s = min(max((uv * vw - vv * uw) / across, 0.0), 1.0) if across > PARALLEL * uu * vv else 0.5
    t = min(max((uv * s + vw) / max(vv, TINY), 0.0), 1.0)
    s = min(max((uv * t - uw) / max(uu, TINY), 0.0), 1.0)
    return s, t, wx + s * ux - t * vx, wy + s * uy - t * vy, wz + s * uz - t * vz


@making_arrays
def find_folds(positions, rest, triangles, edges, distance, reach, grid, items, weights, normals, gaps):
    """What of a sheet may touch itself within ``reach`` (N,) of each particle: how many folds there are, written as far as there is room.

    positions, rest (N, 3) now and at rest; triangles (F, 3), edges (E, 2); ``distance`` what stays apart keeps, or what it kept at rest;
    grid: low (3,), size, counts (3,); items int32 (Q, 4), weights (Q, 4), normals (Q, 3), gaps (Q, 2) now and as kept
    """
    low, size, counts = grid
    cells, count = counts[0] * counts[1] * counts[2], 0
    starts, middles = np.empty(cells + 1, np.int64), np.empty((max(len(triangles), len(edges)), 3))
    order = np.empty(len(middles), np.int64)
    for t in range(len(triangles)):
        for k in range(3):
            middles[t, k] = (positions[triangles[t, 0], k] + positions[triangles[t, 1], k] + positions[triangles[t, 2], k]) / 3.0
    sizes = np.zeros(len(triangles))
    for t in range(len(triangles)):
        for c in range(3):
            squared = 0.0
            for k in range(3):
                squared += (positions[triangles[t, c], k] - middles[t, k]) ** 2
            sizes[t] = max(sizes[t], np.sqrt(squared))
    sort_into_cells(middles[: len(triangles)], low, size, counts, starts, order)
    for v in range(len(positions)):
        x, y, z = positions[v, 0], positions[v, 1], positions[v, 2]
        i0, j0, k0 = int((x - low[0]) / size), int((y - low[1]) / size), int((z - low[2]) / size)
        for i in range(max(i0 - 1, 0), min(i0 + 2, counts[0])):
            for j in range(max(j0 - 1, 0), min(j0 + 2, counts[1])):
                first = (i * counts[1] + j) * counts[2]
                for n in range(starts[first + max(k0 - 1, 0)], starts[first + min(k0 + 2, counts[2])]):
                    a, b, c = np.int64(triangles[order[n], 0]), np.int64(triangles[order[n], 1]), np.int64(triangles[order[n], 2])
                    if v in (a, b, c):
                        continue
                    far = reach[v] + max(reach[a], reach[b], reach[c]) + distance
                    o = order[n]
                    away = (x - middles[o, 0]) ** 2 + (y - middles[o, 1]) ** 2 + (z - middles[o, 2]) ** 2
                    if away > (far + sizes[o]) ** 2:
                        continue
                    squared, s, t = nearest_on(x, y, z, positions, a, b, c)
                    # What lies beside a triangle is free to come over it: its edges see to that.
                    if squared > far * far or s <= 0.0 or t <= 0.0 or s + t >= 1.0:
                        continue
                    at_rest, _, _ = nearest_on(rest[v, 0], rest[v, 1], rest[v, 2], rest, a, b, c)
                    wx = x - positions[a, 0] - s * (positions[b, 0] - positions[a, 0]) - t * (positions[c, 0] - positions[a, 0])
                    wy = y - positions[a, 1] - s * (positions[b, 1] - positions[a, 1]) - t * (positions[c, 1] - positions[a, 1])
                    wz = z - positions[a, 2] - s * (positions[b, 2] - positions[a, 2]) - t * (positions[c, 2] - positions[a, 2])
                    shares = (1.0, s + t - 1.0, -s, -t)
                    kept = min(distance, np.sqrt(at_rest))
                    count = tell(count, items, weights, normals, gaps, (v, a, b, c), shares, wx, wy, wz, kept)
    halves = np.empty(len(edges))
    for e in range(len(edges)):
        squared = 0.0
        for k in range(3):
            middles[e, k] = 0.5 * (positions[edges[e, 0], k] + positions[edges[e, 1], k])
            squared += (positions[edges[e, 0], k] - positions[edges[e, 1], k]) ** 2
        halves[e] = 0.5 * np.sqrt(squared)
    sort_into_cells(middles[: len(edges)], low, size, counts, starts, order)
    for e in range(len(edges)):
        a, b = np.int64(edges[e, 0]), np.int64(edges[e, 1])
        i0, j0, k0 = int((middles[e, 0] - low[0]) / size), int((middles[e, 1] - low[1]) / size), int((middles[e, 2] - low[2]) / size)
        for i in range(max(i0 - 1, 0), min(i0 + 2, counts[0])):
            for j in range(max(j0 - 1, 0), min(j0 + 2, counts[1])):
                first = (i * counts[1] + j) * counts[2]
                for n in range(starts[first + max(k0 - 1, 0)], starts[first + min(k0 + 2, counts[2])]):
                    f = order[n]
                    c, d = np.int64(edges[f, 0]), np.int64(edges[f, 1])
                    if f <= e or a in (c, d) or b in (c, d):
                        continue
                    far = max(reach[a], reach[b]) + max(reach[c], reach[d]) + distance
                    around = far + halves[e] + halves[f]
                    wx, wy, wz = middles[e, 0] - middles[f, 0], middles[e, 1] - middles[f, 1], middles[e, 2] - middles[f, 2]
                    if wx * wx + wy * wy + wz * wz > around * around:
                        continue
                    s, t, wx, wy, wz = between_edges(positions, a, b, c, d)
                    # At its ends it is a matter of vertices and triangles.
                    if wx * wx + wy * wy + wz * wz > far * far or s <= 0.0 or s >= 1.0 or t <= 0.0 or t >= 1.0:
                        continue
                    _, _, rx, ry, rz = between_edges(rest, a, b, c, d)
                    kept = min(distance, np.sqrt(rx * rx + ry * ry + rz * rz))
                    count = tell(count, items, weights, normals, gaps, (a, b, c, d), (1.0 - s, s, t - 1.0, -t), wx, wy, wz, kept)
    return count


def _push_folds(points, old, items, weights, normals, gaps, friction):
    """Keep folds apart, one after another; ``points`` and ``old`` (P, 4) as soft.py says, other arrays as `find_folds`, made when the
    frame began."""
    for _ in range(ROUNDS):
        for q in range(len(items)):
            gap, began, gives = gaps[q, 0], gaps[q, 0], 0.0
            nx, ny, nz = normals[q, 0], normals[q, 1], normals[q, 2]
            for c in range(4):
                i, share = items[q, c], weights[q, c]
                gap += share * (points[i, 0] * nx + points[i, 1] * ny + points[i, 2] * nz)
                began += share * (old[i, 0] * nx + old[i, 1] * ny + old[i, 2] * nz)
                gives += share * share * points[i, 3]
            gap, began = gap - gaps[q, 1], began - gaps[q, 1]
            if gap >= 0.0 or gives <= 0.0:
                continue
            push = -gap if began >= -SLACK else min(-gap, max((1.0 - EASE) * began - gap, 0.0))
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


push_folds = kernel(_push_folds)
