"""A skinned surface that is asked what is near, pose after pose: only what a question reaches is skinned, boxed and given normals.

The tree is that of nearest.py, its triangles and vertices renumbered so that what is near lies together. The nodes of one level are
*clusters*. In a new pose a cluster has a box around all places that its vertices could have: the union, over the joints that move any of
them, of the joint's matrix times the box of those vertices in the bind pose (a blend lies inside of it, weights being shares). Only when a
question gets into that box is the cluster *woken*: its vertices are skinned and its boxes fitted, once in a pose. Normals are made vertex
by vertex, once in a pose, the triangles around in the mesh's own order. So the bits do not depend on who asks, or what was asked before.

Sixteen points that lie near to each other go down the tree together, in float32; which of two places equally near is the nearer is
then settled in float64. A Pose belongs to one thread; a Layout is shared.
"""

from typing import NamedTuple

import numpy as np
from numba import njit
from numba.extending import register_jitable

from quiver.kernels.lanes import LANES, any_less, fused, larger, load, smaller, store, where_less
from quiver.kernels.nearest import DEEPEST, TINY, box_distance, join, nearest_on
from quiver.kernels.skinning import blended

LOOSE = np.float32(1e-5)
"""Boxes that no vertex was looked at for are so much larger: weights are shares but for rounding [m]."""
WIDER = 1.00001
"""Squared distances in float32 may be wrong by less than this."""
CORNER = 1e-9
"""A spot with a smaller share of a triangle's corner lies on the edge opposite."""
TIE = 1.001
"""Squared distances that differ less are settled in float64."""


class Layout(NamedTuple):
    """What never changes of a surface of V vertices and F triangles; C clusters."""

    triangles: np.ndarray
    """uint32 (F, 3), in the tree's order"""
    starts: np.ndarray
    """(leaves + 1,) where a leaf's triangles begin"""
    skinned_starts: np.ndarray
    """(C + 1,) where a cluster's part of ``skinned`` begins"""
    skinned: np.ndarray
    """vertices that a cluster needs, those around its own included"""
    bound_starts: np.ndarray
    """(C + 1,) where a cluster's part of the two next begins"""
    bound_slots: np.ndarray
    """joints that move a cluster"""
    bounds: np.ndarray
    """float64 (n, 6) centre and half size of what such a joint moves, in the bind pose"""
    ring_starts: np.ndarray
    """(V + 1,) where a vertex's part of ``ring`` begins"""
    ring: np.ndarray
    """triangles around each vertex"""
    positions: np.ndarray
    """float32 (V, 3) in the bind pose [file units]"""
    slots: np.ndarray
    """int32 (V, I) the joints that move a vertex"""
    weights: np.ndarray
    """float32 (V, I)"""
    is_rim: np.ndarray
    """bool (V,)"""
    cluster_of: np.ndarray
    """int32 (F,)"""
    scale: np.float32
    """metres in a file unit"""


class Pose(NamedTuple):
    """What is known of a surface in one pose."""

    positions: np.ndarray
    """float32 (V, 3) [m]"""
    boxes: np.ndarray
    """float32 (nodes, 6)"""
    normals: np.ndarray
    """float64 (V, 3)"""
    skinned_in: np.ndarray
    """int32 (V,) the pose in which the position was made"""
    normal_in: np.ndarray
    """int32 (V,) the normal"""
    woken_in: np.ndarray
    """int32 (C,) the cluster"""
    number: np.ndarray
    """int32 (1,) the pose's number"""


_options = {"nogil": True, "cache": True, "error_model": "numpy"}


@njit(**_options, fastmath={"contract"})
def skin_some(vertices, first, end, positions, slots, weights, scale, matrices, out, skinned_in, number):
    """Skin vertices[first:end] that are not yet in this pose: float32 (V, 3), linear blending as skinning.py, then times ``scale``."""
    room = np.empty((1, LANES), np.float32)
    for i in range(first, end):
        v = vertices[i]
        if skinned_in[v] == number:
            continue
        skinned_in[v] = number
        x, y, z = blended(v, positions, slots, weights, matrices, room)
        out[v, 0], out[v, 1], out[v, 2] = scale * x, scale * y, scale * z


@njit(**_options)
def wake(cluster, layout, pose, matrices):
    """Skin a cluster's vertices and fit its boxes."""
    skin_some(
        layout.skinned,
        layout.skinned_starts[cluster],
        layout.skinned_starts[cluster + 1],
        layout.positions,
        layout.slots,
        layout.weights,
        layout.scale,
        matrices,
        pose.positions,
        pose.skinned_in,
        pose.number[0],
    )
    pose.woken_in[cluster] = pose.number[0]
    triangles, starts, positions, boxes = layout.triangles, layout.starts, pose.positions, pose.boxes
    leaves, clusters = len(starts) - 1, len(pose.woken_in)
    each = leaves // clusters
    for leaf in range(cluster * each, (cluster + 1) * each):
        v = triangles[starts[leaf], 0]
        low_x, low_y, low_z = positions[v, 0], positions[v, 1], positions[v, 2]
        high_x, high_y, high_z = low_x, low_y, low_z
        for t in range(starts[leaf], starts[leaf + 1]):
            for corner in range(3):
                v = triangles[t, corner]
                x, y, z = positions[v, 0], positions[v, 1], positions[v, 2]
                low_x, high_x = x if x < low_x else low_x, x if x > high_x else high_x
                low_y, high_y = y if y < low_y else low_y, y if y > high_y else high_y
                low_z, high_z = z if z < low_z else low_z, z if z > high_z else high_z
        box = boxes[leaves - 1 + leaf]
        box[0], box[1], box[2], box[3], box[4], box[5] = low_x, low_y, low_z, high_x, high_y, high_z
    first, count = leaves - 1 + cluster * each, each
    while count > 1:
        first, count = (first - 1) // 2, count // 2
        for node in range(first, first + count):
            join(boxes, node)


@njit(**_options)
def take_pose(layout, pose, matrices):
    """Begin a pose: joint matrices float32 (B, LANES) as skinning.py takes them. All clusters sleep, in boxes that hold them for sure."""
    pose.number[0] += 1
    boxes, scale, clusters = pose.boxes, layout.scale, len(pose.woken_in)
    for c in range(clusters):
        low_x, low_y, low_z, high_x, high_y, high_z = np.inf, np.inf, np.inf, -np.inf, -np.inf, -np.inf
        for i in range(layout.bound_starts[c], layout.bound_starts[c + 1]):
            m, box = matrices[layout.bound_slots[i]], layout.bounds[i]
            x = m[0] * box[0] + m[1] * box[1] + m[2] * box[2] + m[3]
            y = m[4] * box[0] + m[5] * box[1] + m[6] * box[2] + m[7]
            z = m[8] * box[0] + m[9] * box[1] + m[10] * box[2] + m[11]
            u = abs(m[0]) * box[3] + abs(m[1]) * box[4] + abs(m[2]) * box[5]
            v = abs(m[4]) * box[3] + abs(m[5]) * box[4] + abs(m[6]) * box[5]
            w = abs(m[8]) * box[3] + abs(m[9]) * box[4] + abs(m[10]) * box[5]
            low_x, high_x = x - u if x - u < low_x else low_x, x + u if x + u > high_x else high_x
            low_y, high_y = y - v if y - v < low_y else low_y, y + v if y + v > high_y else high_y
            low_z, high_z = z - w if z - w < low_z else low_z, z + w if z + w > high_z else high_z
        box = boxes[clusters - 1 + c]
        box[0], box[1], box[2] = scale * low_x - LOOSE, scale * low_y - LOOSE, scale * low_z - LOOSE
        box[3], box[4], box[5] = scale * high_x + LOOSE, scale * high_y + LOOSE, scale * high_z + LOOSE
    for node in range(clusters - 2, -1, -1):
        join(boxes, node)


@register_jitable
def box_gap(boxes, node, x, y, z):
    """Squared distances of sixteen points from a box."""
    dx = larger(larger(boxes[node, 0] - x, x - boxes[node, 3]), 0.0)
    dy = larger(larger(boxes[node, 1] - y, y - boxes[node, 4]), 0.0)
    dz = larger(larger(boxes[node, 2] - z, z - boxes[node, 5]), 0.0)
    return fused(dx, dx, fused(dy, dy, dz * dz))


@register_jitable
def triangle_gap(points, a, b, c, x, y, z):
    """Squared distances of sixteen points from a triangle: from its plane where they are over it, else from the nearest edge."""
    ax, ay, az = points[a, 0], points[a, 1], points[a, 2]
    e1x, e1y, e1z = points[b, 0] - ax, points[b, 1] - ay, points[b, 2] - az
    e2x, e2y, e2z = points[c, 0] - ax, points[c, 1] - ay, points[c, 2] - az
    e11, e12, e22 = e1x * e1x + e1y * e1y + e1z * e1z, e1x * e2x + e1y * e2y + e1z * e2z, e2x * e2x + e2y * e2y + e2z * e2z
    e33 = e11 - e12 - e12 + e22
    one, small = np.float32(1.0), np.float32(1e-30)
    r11, r22, r33, r = one / max(e11, small), one / max(e22, small), one / max(e33, small), one / max(e11 * e22 - e12 * e12, small)
    qx, qy, qz = x - ax, y - ay, z - az
    d1 = fused(qx, e1x, fused(qy, e1y, qz * e1z))
    d2 = fused(qx, e2x, fused(qy, e2y, qz * e2z))
    d3 = d2 - d1 + (e11 - e12)
    qq = fused(qx, qx, fused(qy, qy, qz * qz))
    s1, s2, s3 = smaller(larger(d1 * r11, 0.0), 1.0), smaller(larger(d2 * r22, 0.0), 1.0), smaller(larger(d3 * r33, 0.0), 1.0)
    g1 = qq - s1 * (d1 + d1 - s1 * e11)
    g2 = qq - s2 * (d2 + d2 - s2 * e22)
    g3 = qq - d1 - d1 + e11 - s3 * (d3 + d3 - s3 * e33)
    edge = smaller(smaller(g1, g2), g3)
    v, w = (d1 * e22 - d2 * e12) * r, (d2 * e11 - d1 * e12) * r
    plane = qq - fused(v, d1, w * d2)
    return where_less(smaller(smaller(v, w), 1.0 - v - w), 0.0, edge, larger(plane, 0.0))


@njit(**_options)
def search_packet(queries, best, which, x0, y0, z0, triangles, starts, positions, boxes, woken_in, number, stack, top):
    """Sixteen queries go down the tree together: (the sleeping cluster that they came to, or -1 when done; how many nodes are left on
    the stack, to be gone on with).

    queries (3, 16) x y z; best (2, 16) squared distances of the nearest and second triangle so far, which (2, 16) these, -1 for none;
    x0 y0 z0 the queries' middle. The second one is kept too: which of two neighbours is nearer is for float64 to say.
    """
    leaves, clusters = len(starts) - 1, len(woken_in)
    x, y, z = load(queries, 0), load(queries, 1), load(queries, 2)
    near, found, next_near, other = load(best, 0), load(which, 0), load(best, 1), load(which, 1)
    sleeping = -1
    while top:
        top -= 1
        node = stack[top]
        if not any_less(box_gap(boxes, node, x, y, z), near):
            continue
        if node >= clusters - 1:
            if node < 2 * clusters - 1 and woken_in[node - clusters + 1] != number:
                sleeping, top = node - clusters + 1, top + 1
                break
            if node >= leaves - 1:
                leaf = node - leaves + 1
                for t in range(starts[leaf], starts[leaf + 1]):
                    gap = triangle_gap(positions, triangles[t, 0], triangles[t, 1], triangles[t, 2], x, y, z)
                    other = where_less(gap, near, found, where_less(gap, next_near, np.float32(t), other))
                    next_near = smaller(next_near, larger(gap, near))
                    found = where_less(gap, near, np.float32(t), found)
                    near = smaller(gap, near)
                continue
        left, right = 2 * node + 1, 2 * node + 2
        if box_distance(boxes, left, x0, y0, z0) < box_distance(boxes, right, x0, y0, z0):
            left, right = right, left
        stack[top], stack[top + 1] = left, right
        top += 2
    store(best, 0, near)
    store(which, 0, found)
    store(best, 1, next_near)
    store(which, 1, other)
    return sleeping, top


@njit(**_options)
def settle_packet(first, end, points, limits, best, which, rim, layout, pose, found, shares, squares):
    """What `search_packet` found, looked at again in float64: found (16,) a triangle or -1, shares (16, 2) of its second and third corner,
    squares (16,) of the distance. -1 too where only a rim is near."""
    triangles, positions, is_rim = layout.triangles, pose.positions, layout.is_rim
    for q in range(first, end):
        lane = q - first
        t = int(which[0, lane]) if best[0, lane] >= 0.0 else -1
        found[lane] = -1
        if t < 0:
            continue
        x, y, z = points[q, 0], points[q, 1], points[q, 2]
        squared, v, w = nearest_on(x, y, z, positions, triangles[t, 0], triangles[t, 1], triangles[t, 2])
        second = int(which[1, lane])
        if second >= 0 and best[1, lane] < best[0, lane] * TIE + 1e-12:
            nearer, v2, w2 = nearest_on(x, y, z, positions, triangles[second, 0], triangles[second, 1], triangles[second, 2])
            if nearer < squared:
                t, squared, v, w = second, nearer, v2, w2
        inner = 0.0 if is_rim[triangles[t, 0]] else 1.0 - v - w
        inner += 0.0 if is_rim[triangles[t, 1]] else v
        inner += 0.0 if is_rim[triangles[t, 2]] else w
        if squared <= limits[q] * limits[q] and inner > rim:
            found[lane], shares[lane, 0], shares[lane, 1], squares[lane] = t, v, w, squared


@njit(**_options)
def across(t, triangles, positions):
    """The normal of a triangle, twice as long as its area."""
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    ax, ay, az = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
    e1x, e1y, e1z = positions[b, 0] - ax, positions[b, 1] - ay, positions[b, 2] - az
    e2x, e2y, e2z = positions[c, 0] - ax, positions[c, 1] - ay, positions[c, 2] - az
    return e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x


@njit(**_options)
def make_normal(v, triangles, ring_starts, ring, positions, normals):
    """The unit normal of a vertex, by the areas of the triangles around it."""
    nx, ny, nz = 0.0, 0.0, 0.0
    for i in range(ring_starts[v], ring_starts[v + 1]):
        x, y, z = across(ring[i], triangles, positions)
        nx, ny, nz = nx + x, ny + y, nz + z
    length = max(np.sqrt(nx * nx + ny * ny + nz * nz), TINY)
    normals[v, 0], normals[v, 1], normals[v, 2] = nx / length, ny / length, nz / length


@njit(**_options)
def place_spots(count, found, shares, layout, pose, out, at):
    """Where spots are and look: triangles found (n,), shares (n, 2); three columns ``at``, and three ``at`` + 6, of out (n, 12)."""
    triangles, positions, normals = layout.triangles, pose.positions, pose.normals
    for n in range(count):
        t = found[n]
        if t < 0:
            continue
        for corner in range(3):
            vertex = triangles[t, corner]
            if pose.normal_in[vertex] != pose.number[0]:
                pose.normal_in[vertex] = pose.number[0]
                make_normal(vertex, triangles, layout.ring_starts, layout.ring, positions, normals)
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        v, w = shares[n, 0], shares[n, 1]
        u, squared = 1.0 - v - w, 0.0
        for c in range(3):
            out[n, at + c] = u * positions[i, c] + v * positions[j, c] + w * positions[k, c]
            out[n, at + 6 + c] = u * normals[i, c] + v * normals[j, c] + w * normals[k, c]
            squared += out[n, at + 6 + c] ** 2
        inverse = 1.0 / max(np.sqrt(squared), 1e-30)
        for c in range(3):
            out[n, at + 6 + c] *= inverse


@njit(**_options)
def find_spots(first, end, points, limits, rim, layout, pose, matrices, queries, best, which, stack, found, shares, squares, spots):
    """The spots nearest to points[first:end], sixteen at the most, each within its limit (none if negative): how many were asked.

    found, shares, squares as `settle_packet`; the first half of spots (16, 12) as `place_spots`, for those found.
    """
    asked, x0, y0, z0 = 0, 0.0, 0.0, 0.0
    for lane in range(LANES):
        q = min(first + lane, end - 1)
        x, y, z = points[q, 0], points[q, 1], points[q, 2]
        queries[0, lane], queries[1, lane], queries[2, lane] = x, y, z
        best[0, lane], which[0, lane], best[1, lane], which[1, lane] = -1.0, -1.0, -1.0, -1.0
        if first + lane < end and limits[q] >= 0.0:
            most = limits[q] * limits[q] * WIDER
            best[0, lane], best[1, lane] = most, most
            asked, x0, y0, z0 = asked + 1, x0 + x, y0 + y, z0 + z
    if asked == 0:
        found[:] = -1
        return 0
    x0, y0, z0, sleeping = x0 / asked, y0 / asked, z0 / asked, 0
    stack[0], top = 0, 1
    while sleeping >= 0:
        sleeping, top = search_packet(
            queries,
            best,
            which,
            x0,
            y0,
            z0,
            layout.triangles,
            layout.starts,
            pose.positions,
            pose.boxes,
            pose.woken_in,
            pose.number[0],
            stack,
            top,
        )
        if sleeping >= 0:
            wake(sleeping, layout, pose, matrices)
    settle_packet(first, end, points, limits, best, which, rim, layout, pose, found, shares, squares)
    place_spots(end - first, found, shares, layout, pose, spots, 0)
    return asked


@register_jitable
def scratch():
    """What `find_spots` writes to: queries, best, which, stack, found, shares, squares, spots."""
    return (
        np.empty((3, LANES), np.float32),
        np.empty((2, LANES), np.float32),
        np.empty((2, LANES), np.float32),
        np.empty(2 * DEEPEST, np.int64),
        np.empty(LANES, np.int64),
        np.empty((LANES, 2)),
        np.empty(LANES),
        np.empty((LANES, 12)),
    )


@njit(**_options)
def is_behind(points, q, t, v, w, spots, lane, layout, pose):
    """Whether a point is inside, its spot being the nearest one: by the normals of what that lies on, a triangle's, those at an edge, or at
    a corner by their angles (Bærentzen, Aanæs 2005)."""
    triangles, positions = layout.triangles, pose.positions
    x, y, z = points[q, 0] - spots[lane, 0], points[q, 1] - spots[lane, 1], points[q, 2] - spots[lane, 2]
    shares, touched, corner = (1.0 - v - w, v, w), 0, 0
    for k in range(3):
        if shares[k] > CORNER:
            touched += 1
            corner = k if touched == 1 else corner
    if touched == 3:
        nx, ny, nz = across(t, triangles, positions)
        return x * nx + y * ny + z * nz < 0.0
    vertex, total = triangles[t, corner], 0.0
    for i in range(layout.ring_starts[vertex], layout.ring_starts[vertex + 1]):
        other, on_edge, own = layout.ring[i], 0, 0
        for k in range(3):
            if triangles[other, k] == vertex:
                own = k
            for j in range(3):
                on_edge += shares[j] > CORNER and triangles[other, k] == triangles[t, j]
        if touched == 2 and on_edge < 2:
            continue
        nx, ny, nz = across(other, triangles, positions)
        length = max(np.sqrt(nx * nx + ny * ny + nz * nz), TINY)
        weight = 1.0
        if touched == 1:
            a, b = triangles[other, (own + 1) % 3], triangles[other, (own + 2) % 3]
            ex, ey, ez = (
                np.float64(positions[a, 0]) - positions[vertex, 0],
                np.float64(positions[a, 1]) - positions[vertex, 1],
                np.float64(positions[a, 2]) - positions[vertex, 2],
            )
            fx, fy, fz = (
                np.float64(positions[b, 0]) - positions[vertex, 0],
                np.float64(positions[b, 1]) - positions[vertex, 1],
                np.float64(positions[b, 2]) - positions[vertex, 2],
            )
            weight = np.arctan2(length, ex * fx + ey * fy + ez * fz)
        total += weight * (x * nx + y * ny + z * nz) / length
    return total < 0.0


@register_jitable
def in_front(points, q, spots, lane):
    """How far a point is in front of its spot's plane."""
    return (
        (points[q, 0] - spots[lane, 0]) * spots[lane, 6]
        + (points[q, 1] - spots[lane, 1]) * spots[lane, 7]
        + (points[q, 2] - spots[lane, 2]) * spots[lane, 8]
    )


@njit(**_options)
def near_spots(points, travel, contact_distances, rim, near, deep, layout, begin, begin_matrices, end, end_matrices, rows, out):
    """What of points (R, 3) may touch between two poses: how many; rows (R,) which, out (R, 12) as `push_surface_contacts` takes them.

    travel (R,) how far each may move; contact_distances (R,); near, deep as contact/skins.py. Points after each other should be near.
    """
    queries, best, which, stack, found, shares, squares, spots = scratch()
    count, limits = 0, 1.5 * travel + (np.maximum(contact_distances, 0.0) + near + deep)
    for first in range(0, len(points), LANES):
        last = min(first + LANES, len(points))
        find_spots(
            first, last, points, limits, rim, layout, begin, begin_matrices, queries, best, which, stack, found, shares, squares, spots
        )
        for q in range(first, last):
            lane = q - first
            if found[lane] < 0:
                continue
            gap = in_front(points, q, spots, lane)
            behind = is_behind(points, q, found[lane], shares[lane, 0], shares[lane, 1], spots, lane, layout, begin)
            if (gap < 0.0) != behind:
                # At a sharp corner the smooth normal looks elsewhere: the way to the spot says where it is out.
                gap = -np.sqrt(squares[lane]) if behind else np.sqrt(squares[lane])
                for c in range(3):
                    spots[lane, 6 + c] = (points[q, c] - spots[lane, c]) / (gap if gap != 0.0 else 1.0)
            if not gap < contact_distances[q] + 1.5 * travel[q] + near:
                found[lane] = -1
                continue
            cluster = layout.cluster_of[found[lane]]
            if end.woken_in[cluster] != end.number[0]:
                wake(cluster, layout, end, end_matrices)
        place_spots(last - first, found, shares, layout, end, spots, 3)
        for q in range(first, last):
            if found[q - first] >= 0:
                rows[count] = q
                for c in range(12):
                    out[count, c] = spots[q - first, c]
                count += 1
    return count


@njit(**_options)
def signed_distances(points, limits, rim, layout, pose, matrices, out):
    """How far points (R, 3) are outside: out (R, 2) [m] by the surface's smooth normal, and truly; NaN beyond limits (R,) or a rim."""
    queries, best, which, stack, found, shares, squares, spots = scratch()
    for first in range(0, len(points), LANES):
        last = min(first + LANES, len(points))
        find_spots(first, last, points, limits, rim, layout, pose, matrices, queries, best, which, stack, found, shares, squares, spots)
        for q in range(first, last):
            lane = q - first
            out[q, 0], out[q, 1] = np.nan, np.nan
            if found[lane] >= 0:
                distance, smooth = np.sqrt(squares[lane]), in_front(points, q, spots, lane)
                if is_behind(points, q, found[lane], shares[lane, 0], shares[lane, 1], spots, lane, layout, pose):
                    distance = -distance
                out[q, 0], out[q, 1] = smooth if smooth * distance > 0.0 else distance, distance


@njit(**_options)
def deepest_of_frames(points, allowed, deep, rim, layout, pose, matrices, depths, where):
    """depths (F,) [m] and where (F,), a point or -1, of the deepest of points (F, R, 3) in each frame beyond ``allowed`` (R,) <= 0.

    matrices (F, B, LANES). A point is no deeper than it is far from any triangle: what cannot be deeper than the deepest so far is not
    looked for any further.
    """
    queries, best, which, stack, found, shares, squares, spots = scratch()
    many, ahead = points.shape[1], -1
    limits = np.empty(many)
    for f in range(len(points)):
        take_pose(layout, pose, matrices[f])
        depth, at = 0.0, -1
        for turn in range(-1, (many + LANES - 1) // LANES):
            # What was the deepest a frame ago comes first.
            packet = ahead if turn < 0 else turn
            if packet < 0 or turn == ahead:
                continue
            first, last = packet * LANES, min(packet * LANES + LANES, many)
            for q in range(first, last):
                limits[q] = deep if allowed[q] + deep > depth else -1.0
            find_spots(
                first, last, points[f], limits, rim, layout, pose, matrices[f], queries, best, which, stack, found, shares, squares, spots
            )
            for q in range(first, last):
                lane = q - first
                if found[lane] < 0 or allowed[q] + np.sqrt(squares[lane]) < depth:
                    continue
                if not is_behind(points[f], q, found[lane], shares[lane, 0], shares[lane, 1], spots, lane, layout, pose):
                    continue
                beyond = allowed[q] + np.sqrt(squares[lane])
                if beyond > depth or (beyond == depth and at >= 0 and q < at):
                    depth, at = beyond, q
        depths[f], where[f] = depth, at
        ahead = at // LANES if at >= 0 else -1
