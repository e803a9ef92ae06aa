"""Points of one piece of a solid against the surfaces of its others: which is nearest, and keeping them apart in a substep.

The tree is that of kernels/nearest.py. ``owners`` int (F,) say which piece each triangle is of, node_owners (nodes,) the same of all
triangles below a node, -1 where they are of several: what is a point's own is passed over.
"""

import numpy as np

from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.nearest import DEEPEST, box_distance, descend, nearest_on

TINY = 1e-12


@kernel
def own_nodes(owners, order, starts, node_owners):
    """Find whose all triangles below each node are."""
    leaves = len(starts) - 1
    for leaf in range(leaves):
        own = -1
        for i in range(starts[leaf], starts[leaf + 1]):
            if i == starts[leaf]:
                own = owners[order[i]]
            elif owners[order[i]] != own:
                own = -1
        node_owners[leaves - 1 + leaf] = own
    for node in range(leaves - 2, -1, -1):
        left, right = node_owners[2 * node + 1], node_owners[2 * node + 2]
        node_owners[node] = left if left == right else -1


@kernel
def find_other(first, end, queries, mine, limits, points, triangles, order, starts, boxes, owners, node_owners, found, corner_weights):
    """For queries first..end-1 of (Q, 3), which are of pieces ``mine`` (Q,): the nearest triangle of another piece within limits (Q,), -1
    for none, and its corners' shares (Q, 3)."""
    leaves = len(starts) - 1
    stack, ahead = on_stack(np.int64, DEEPEST), on_stack(np.float64, DEEPEST)
    for q in range(first, end):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        best, which, bv, bw, own = limits[q] * limits[q], -1, 0.0, 0.0, mine[q]
        stack[0], ahead[0], top = 0, box_distance(boxes, 0, x, y, z), 1
        while top:
            top -= 1
            node = stack[top]
            if ahead[top] > best or node_owners[node] == own:
                continue
            if node >= leaves - 1:
                leaf = node - leaves + 1
                for i in range(starts[leaf], starts[leaf + 1]):
                    t = order[i]
                    if owners[t] == own:
                        continue
                    squared, v, w = nearest_on(x, y, z, points, triangles[t, 0], triangles[t, 1], triangles[t, 2])
                    if squared < best:
                        best, which, bv, bw = squared, t, v, w
                continue
            top = descend(node, boxes, x, y, z, best, stack, ahead, top)
        found[q] = which
        corner_weights[q, 0], corner_weights[q, 1], corner_weights[q, 2] = 1.0 - bv - bw, bv, bw


def _push_apart(points, gaps, corners, corner_weights, normals):
    """Push points of one piece and what they are near to of another apart, by their masses, without friction; ``points`` as in soft.py.

    gaps (M,) how far apart they were when the frame began beyond what they keep [m]; corners int32 (M, K) and corner_weights (M, K) of the
    point, and, with a minus, of its place on the other; normals (M, 3) of the other there
    """
    for m in range(len(gaps)):
        nx, ny, nz = normals[m, 0], normals[m, 1], normals[m, 2]
        gap, inverse_mass = gaps[m], 0.0
        for k in range(corners.shape[1]):
            share = corner_weights[m, k]
            if share != 0.0:
                i = corners[m, k]
                gap += share * (nx * points[i, 0] + ny * points[i, 1] + nz * points[i, 2])
                inverse_mass += share * share * points[i, 3]
        if gap >= 0.0 or inverse_mass <= TINY:
            continue
        push = -gap / inverse_mass
        for k in range(corners.shape[1]):
            share = corner_weights[m, k]
            if share != 0.0:
                i = corners[m, k]
                moved = push * share * points[i, 3]
                points[i, 0] += moved * nx
                points[i, 1] += moved * ny
                points[i, 2] += moved * nz


push_apart = kernel(_push_apart)
