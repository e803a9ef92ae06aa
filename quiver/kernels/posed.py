"""A skinned surface that is asked what is near, pose after pose: only what a question reaches is skinned, boxed and given normals.

The tree is one like that of nearest.py, with leaves of up to sixteen triangles; triangles and vertices are renumbered so that what is near
lies together. The nodes of one level are *clusters*. In a new pose a cluster has a box around all places that its vertices could have: the
union, over the joints that move any of them, of the joint's matrix times the box of those vertices in the bind pose (a blend lies inside of
it, weights being shares). Only when a question gets into that box is the cluster *woken*: its vertices are skinned and its boxes fitted,
once in a pose. Normals are made vertex by vertex, once in a pose, the triangles around in the mesh's own order. So the bits do not depend
on who asks, or what was asked before.
A Pose belongs to one thread; a Layout is shared. The questions are in packets.py and spots.py.
"""

from typing import NamedTuple

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.lanes import LANES, gather, larger, least, smaller, where_less
from quiver.kernels.nearest import TINY, join
from quiver.kernels.skinning import blended

LOOSE = np.float32(1e-5)
"""Boxes that no vertex was looked at for are so much larger: weights are shares but for rounding [m]."""
LID, OPEN, HIDDEN = 1, 2, 3
"""Triangles that are not felt. A lid closes what was cut and says who is inside; an open one says nothing of what it is the nearest to.
Hidden skin is inside of other parts, which may have their own word of who is inside.
"""
MOST_PARTS = 62
"""So many parts that hang together are told apart."""
NOWHERE = 1e15
"""Where nobody's vertex is along each axis [m]: its square is still a number."""


class Layout(NamedTuple):
    """What never changes of a surface of V vertices and F triangles; C clusters."""

    triangles: np.ndarray
    """uint32 (F, 3), in the tree's order"""
    starts: np.ndarray
    """(leaves + 1,) where a leaf's triangles begin"""
    corners: np.ndarray
    """int32 (3 leaves, 16) the first, second and third corners of a leaf's triangles; nobody's for lanes without one"""
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
    """int32 (n, 2) the two other corners of the triangles around each vertex, the one after it first"""
    beside: np.ndarray
    """int32 (F, 3) the triangle across the side opposite to each corner; -1 at a rim"""
    positions: np.ndarray
    """float32 (V, 3) in the bind pose [file units]"""
    slots: np.ndarray
    """int32 (V, I) the joints that move a vertex"""
    weights: np.ndarray
    """float32 (V, I)"""
    is_rim: np.ndarray
    """bool (V,)"""
    kinds: np.ndarray
    """uint8 (F,) 0, LID, OPEN or HIDDEN"""
    parts: np.ndarray
    """uint8 (F,) the part that it hangs together with, less than MOST_PARTS"""
    cluster_of: np.ndarray
    """int32 (F,)"""
    scale: np.float32
    """metres in a file unit"""


class Pose(NamedTuple):
    """What is known of a surface in one pose."""

    positions: np.ndarray
    """float32 (V + 1, 4) [m]; the last is nobody's, far away"""
    boxes: np.ndarray
    """float32 (nodes, 6)"""
    normals: np.ndarray
    """float32 (V, 3), by the areas of the triangles around: smooth"""
    corners: np.ndarray
    """float32 (V, 3), by their angles: they say who is inside"""
    skinned_in: np.ndarray
    """int32 (V,) the pose in which the position was made"""
    normal_in: np.ndarray
    """int32 (V,) the normal"""
    corner_in: np.ndarray
    """int32 (V,) the corner"""
    woken_in: np.ndarray
    """int32 (C,) the cluster"""
    number: np.ndarray
    """int32 (1,) the pose's number"""


@kernel(fastmath={"contract"})
def skin_some(vertices, first, end, positions, slots, weights, scale, matrices, out, skinned_in, number):
    """Skin vertices[first:end] that are not yet in this pose: float32 (V, 3), linear blending as skinning.py, then times ``scale``."""
    room = on_stack(np.float32, 1, LANES)
    for i in range(first, end):
        v = vertices[i]
        if skinned_in[v] == number:
            continue
        skinned_in[v] = number
        x, y, z = blended(v, positions, slots, weights, matrices, room)
        out[v, 0], out[v, 1], out[v, 2] = scale * x, scale * y, scale * z


@register_jitable
def fit_leaf(positions, corners, leaf, boxes, node):
    """Fit a node's box around a leaf's triangles, corners (3 leaves, 16) of positions float32 (V + 1, 4)."""
    ax, ay, az, _ = gather(positions, corners, 3 * leaf)
    bx, by, bz, _ = gather(positions, corners, 3 * leaf + 1)
    cx, cy, cz, _ = gather(positions, corners, 3 * leaf + 2)
    # Lanes without a triangle lie far up along each axis, which is not to count.
    top_x, top_y, top_z = larger(larger(ax, bx), cx), larger(larger(ay, by), cy), larger(larger(az, bz), cz)
    most = np.float32(0.5 * NOWHERE)
    boxes[node, 0] = least(smaller(smaller(ax, bx), cx))
    boxes[node, 1] = least(smaller(smaller(ay, by), cy))
    boxes[node, 2] = least(smaller(smaller(az, bz), cz))
    boxes[node, 3] = -least(where_less(top_x, most, -top_x, most))
    boxes[node, 4] = -least(where_less(top_y, most, -top_y, most))
    boxes[node, 5] = -least(where_less(top_z, most, -top_z, most))


@kernel
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
    corners, positions, boxes = layout.corners, pose.positions, pose.boxes
    leaves, clusters = len(layout.starts) - 1, len(pose.woken_in)
    each = leaves // clusters
    for leaf in range(cluster * each, (cluster + 1) * each):
        fit_leaf(positions, corners, leaf, boxes, leaves - 1 + leaf)
    first, count = leaves - 1 + cluster * each, each
    while count > 1:
        first, count = (first - 1) // 2, count // 2
        for node in range(first, first + count):
            join(boxes, node)


@kernel
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


@kernel
def across(t, triangles, positions):
    """The normal of a triangle, twice as long as its area."""
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    ax, ay, az = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
    e1x, e1y, e1z = positions[b, 0] - ax, positions[b, 1] - ay, positions[b, 2] - az
    e2x, e2y, e2z = positions[c, 0] - ax, positions[c, 1] - ay, positions[c, 2] - az
    return e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x


@register_jitable
def around(v, i, ring, positions):
    """The ways from a vertex to the two others of a triangle around it, and the normal of that, twice as long as its area."""
    b, c = ring[i, 0], ring[i, 1]
    x, y, z = np.float64(positions[v, 0]), np.float64(positions[v, 1]), np.float64(positions[v, 2])
    ex, ey, ez = positions[b, 0] - x, positions[b, 1] - y, positions[b, 2] - z
    fx, fy, fz = positions[c, 0] - x, positions[c, 1] - y, positions[c, 2] - z
    return ex, ey, ez, fx, fy, fz, ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx


@kernel
def make_normal(v, ring_starts, ring, positions, normals):
    """The smooth unit normal of a vertex."""
    nx, ny, nz = 0.0, 0.0, 0.0
    for i in range(ring_starts[v], ring_starts[v + 1]):
        _, _, _, _, _, _, x, y, z = around(v, i, ring, positions)
        nx, ny, nz = nx + x, ny + y, nz + z
    length = max(np.sqrt(nx * nx + ny * ny + nz * nz), TINY)
    normals[v, 0], normals[v, 1], normals[v, 2] = nx / length, ny / length, nz / length


@kernel
def make_corner(v, ring_starts, ring, positions, corners):
    """The normal of a vertex by the angles of the triangles around (Bærentzen, Aanæs 2005)."""
    nx, ny, nz = 0.0, 0.0, 0.0
    for i in range(ring_starts[v], ring_starts[v + 1]):
        ex, ey, ez, fx, fy, fz, x, y, z = around(v, i, ring, positions)
        length = max(np.sqrt(x * x + y * y + z * z), TINY)
        share = np.arctan2(length, ex * fx + ey * fy + ez * fz) / length
        nx, ny, nz = nx + share * x, ny + share * y, nz + share * z
    corners[v, 0], corners[v, 1], corners[v, 2] = nx, ny, nz
