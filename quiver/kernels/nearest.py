"""The place of a triangle mesh that is nearest to a point: a tree of boxes that is built once and refitted when the mesh moves.

The tree is complete: node k has the children 2 k + 1 and 2 k + 2, and the leaves stand last. ``starts`` (nodes + 1,) says where a leaf's
triangles begin in ``order`` (F,), the triangles sorted so that each leaf's lie together. ``boxes`` (nodes, 6) are low x y z, high x y z.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, making_arrays, on_stack

LEAF = 4
"""Triangles of a leaf, at the most about so many."""
DEEPEST = 64
TINY = 1e-300
"""Guards divisions where a triangle has no length."""


def levels_of(count, leaf=LEAF):
    """How many levels of inner nodes a tree over so many triangles has whose leaves hold about so many at the most."""
    return max(0, int(np.ceil(np.log2(max(count, 1) / leaf))))


def _build_tree(centres, levels):
    """``order`` and ``starts`` of a tree over triangles with centres (F, 3); halved along the longest side, level by level."""
    count, nodes = len(centres), 2 ** (levels + 1) - 1
    order = np.arange(count)
    begins, ends = np.zeros(nodes, np.int64), np.zeros(nodes, np.int64)
    ends[0] = count
    for node in range(2**levels - 1):
        begin, end = begins[node], ends[node]
        axis, longest = 0, -1.0
        for k in range(3):
            low, high = np.inf, -np.inf
            for i in range(begin, end):
                low, high = min(low, centres[order[i], k]), max(high, centres[order[i], k])
            if high - low > longest:
                axis, longest = k, high - low
        middle = (begin + end) // 2
        part_sort(order, centres, axis, begin, end, middle)
        begins[2 * node + 1], ends[2 * node + 1] = begin, middle
        begins[2 * node + 2], ends[2 * node + 2] = middle, end
    starts = np.empty(2**levels + 1, np.int64)
    starts[:-1], starts[-1] = begins[2**levels - 1 :], count
    return order, starts


@kernel
def part_sort(order, keys, axis, begin, end, middle):
    """Swap order[begin:end] until none before ``middle`` has a larger key than those from there on (Hoare's selection)."""
    low, high = begin, end - 1
    while low < high:
        pivot = keys[order[(low + high) // 2], axis]
        i, j = low, high
        while i <= j:
            while keys[order[i], axis] < pivot:
                i += 1
            while keys[order[j], axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i, j = i + 1, j - 1
        if middle <= j:
            high = j
        elif middle >= i:
            low = i
        else:
            return


build_tree = making_arrays(_build_tree)


@kernel
def join(boxes, node):
    """Fit a node's box around those of its children."""
    left, right = 2 * node + 1, 2 * node + 2
    for k in range(3):
        boxes[node, k] = boxes[left, k] if boxes[left, k] < boxes[right, k] else boxes[right, k]
        boxes[node, 3 + k] = boxes[left, 3 + k] if boxes[left, 3 + k] > boxes[right, 3 + k] else boxes[right, 3 + k]


def _refit(points, triangles, order, starts, boxes):
    """Fit the boxes to where the points (V, 3) of the triangles (F, 3) are now."""
    leaves = len(starts) - 1
    for leaf in range(leaves):
        low_x, low_y, low_z, high_x, high_y, high_z = np.inf, np.inf, np.inf, -np.inf, -np.inf, -np.inf
        for i in range(starts[leaf], starts[leaf + 1]):
            for corner in range(3):
                v = triangles[order[i], corner]
                x, y, z = points[v, 0], points[v, 1], points[v, 2]
                # Plain comparisons: min and max would look out for numbers that are none.
                low_x, high_x = x if x < low_x else low_x, x if x > high_x else high_x
                low_y, high_y = y if y < low_y else low_y, y if y > high_y else high_y
                low_z, high_z = z if z < low_z else low_z, z if z > high_z else high_z
        box = boxes[leaves - 1 + leaf]
        box[0], box[1], box[2], box[3], box[4], box[5] = low_x, low_y, low_z, high_x, high_y, high_z
    for node in range(leaves - 2, -1, -1):
        join(boxes, node)


refit = kernel(_refit)


@kernel
def box_distance(boxes, node, x, y, z):
    """Squared distance of a point from a box."""
    # Plain comparisons: max would look out for numbers that are none.
    below_x, below_y, below_z = boxes[node, 0] - x, boxes[node, 1] - y, boxes[node, 2] - z
    above_x, above_y, above_z = x - boxes[node, 3], y - boxes[node, 4], z - boxes[node, 5]
    dx, dy, dz = (
        below_x if below_x > above_x else above_x,
        below_y if below_y > above_y else above_y,
        below_z if below_z > above_z else above_z,
    )
    dx, dy, dz = dx if dx > 0.0 else 0.0, dy if dy > 0.0 else 0.0, dz if dz > 0.0 else 0.0
    return dx * dx + dy * dy + dz * dz


@kernel
def nearest_on(px, py, pz, points, a, b, c):
    """(squared distance, shares of b and c) of the place of a triangle nearest to a point (Ericson 2005, 5.1.5)."""
    # In float64, whatever the points are in.
    ax, ay, az = np.float64(points[a, 0]), np.float64(points[a, 1]), np.float64(points[a, 2])
    e1x, e1y, e1z = points[b, 0] - ax, points[b, 1] - ay, points[b, 2] - az
    e2x, e2y, e2z = points[c, 0] - ax, points[c, 1] - ay, points[c, 2] - az
    qx, qy, qz = px - ax, py - ay, pz - az
    d1, d2 = e1x * qx + e1y * qy + e1z * qz, e2x * qx + e2y * qy + e2z * qz
    e11, e12, e22 = e1x * e1x + e1y * e1y + e1z * e1z, e1x * e2x + e1y * e2y + e1z * e2z, e2x * e2x + e2y * e2y + e2z * e2z
    d3, d4, d5, d6 = d1 - e11, d2 - e12, d1 - e12, d2 - e22
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    v, w = 0.0, 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        pass
    elif d3 >= 0.0 and d4 <= d3:
        v = 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v = d1 / max(d1 - d3, TINY)
    elif d6 >= 0.0 and d5 <= d6:
        w = 1.0
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w = d2 / max(d2 - d6, TINY)
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / max((d4 - d3) + (d5 - d6), TINY)
        v = 1.0 - w
    elif va + vb + vc > 0.0:
        v, w = vb / (va + vb + vc), vc / (va + vb + vc)
    x, y, z = qx - v * e1x - w * e2x, qy - v * e1y - w * e2y, qz - v * e1z - w * e2z
    return x * x + y * y + z * z, v, w


@register_jitable
def descend(node, boxes, x, y, z, best, stack, ahead, top):
    """Push those of a node's two children that may hold something nearer than ``best`` (squared) to a point; returns the new top."""
    left, right = 2 * node + 1, 2 * node + 2
    to_left, to_right = box_distance(boxes, left, x, y, z), box_distance(boxes, right, x, y, z)
    # The nearer one comes off the stack first.
    if to_left < to_right:
        left, right, to_left, to_right = right, left, to_right, to_left
    for child, distance in ((left, to_left), (right, to_right)):
        if distance <= best:
            stack[top], ahead[top] = child, distance
            top += 1
    return top


def _find_nearest(first, end, queries, limits, points, triangles, order, starts, boxes, found, corner_weights):
    """For queries first..end-1 of (Q, 3): the nearest triangle (-1 where all are further than ``limits`` (Q,)) and its corners' shares.

    found int (Q,) holds a guess on entry, or -1; corner_weights (Q, 3)
    """
    leaves = len(starts) - 1
    stack, ahead = on_stack(np.int64, DEEPEST), on_stack(np.float64, DEEPEST)
    for q in range(first, end):
        x, y, z = queries[q, 0], queries[q, 1], queries[q, 2]
        best, which, bv, bw = limits[q] * limits[q], -1, 0.0, 0.0
        guess = found[q]
        if guess >= 0:
            squared, v, w = nearest_on(x, y, z, points, triangles[guess, 0], triangles[guess, 1], triangles[guess, 2])
            if squared <= best:
                best, which, bv, bw = squared, guess, v, w
        stack[0], ahead[0], top = 0, box_distance(boxes, 0, x, y, z), 1
        while top:
            top -= 1
            node = stack[top]
            if ahead[top] > best:
                continue
            if node >= leaves - 1:
                leaf = node - leaves + 1
                for i in range(starts[leaf], starts[leaf + 1]):
                    t = order[i]
                    squared, v, w = nearest_on(x, y, z, points, triangles[t, 0], triangles[t, 1], triangles[t, 2])
                    if squared < best or (squared == best and which < 0):
                        best, which, bv, bw = squared, t, v, w
                continue
            top = descend(node, boxes, x, y, z, best, stack, ahead, top)
        found[q] = which
        corner_weights[q, 0], corner_weights[q, 1], corner_weights[q, 2] = 1.0 - bv - bw, bv, bw


find_nearest = kernel(_find_nearest)


def _vertex_normals(points, triangles, out):
    """Unit normals (V, 3) of points (V, 3), by the areas of the triangles (F, 3) around them; zero where there are none."""
    out[:] = 0.0
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        e1x, e1y, e1z = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        e2x, e2y, e2z = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        x, y, z = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
        for corner in range(3):
            v = triangles[t, corner]
            out[v, 0] += x
            out[v, 1] += y
            out[v, 2] += z
    for v in range(len(points)):
        length = np.sqrt(out[v, 0] * out[v, 0] + out[v, 1] * out[v, 1] + out[v, 2] * out[v, 2])
        for k in range(3):
            out[v, k] /= max(length, TINY)


vertex_normals = kernel(_vertex_normals)


def _blend(positions, normals, triangles, found, corner_weights, surface_contacts, looks):
    """Positions and unit normals (R, 3) of spots of a mesh: triangles found (R,), -1 for none, and corner_weights (R, 3)."""
    for r in range(len(found)):
        if found[r] < 0:
            surface_contacts[r], looks[r] = 0.0, 0.0
            continue
        a, b, c = triangles[found[r], 0], triangles[found[r], 1], triangles[found[r], 2]
        u, v, w = corner_weights[r, 0], corner_weights[r, 1], corner_weights[r, 2]
        squared = 0.0
        for k in range(3):
            surface_contacts[r, k] = u * positions[a, k] + v * positions[b, k] + w * positions[c, k]
            looks[r, k] = u * normals[a, k] + v * normals[b, k] + w * normals[c, k]
            squared += looks[r, k] * looks[r, k]
        inverse = 1.0 / max(np.sqrt(squared), 1e-30)
        for k in range(3):
            looks[r, k] *= inverse


blend = kernel(_blend)
