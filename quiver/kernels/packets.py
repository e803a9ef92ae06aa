"""Which spots of a posed surface (posed.py) are nearest to points, in packets.

Sixteen points that lie near to each other go down the tree together, in float32; which of two places equally near is the nearer is
then settled in float64. Points count from where the pose's matrices do.
"""

from typing import NamedTuple

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import LANES, aligned, fused, gather, larger, least, less_bits, load, lowest, smaller, store, where_less
from quiver.kernels.nearest import DEEPEST, box_distance, nearest_on
from quiver.kernels.posed import OPEN, wake

WIDER = 1.00001
"""Squared distances in float32 may be wrong by less than this."""
TIE, TIE_AT_ZERO = 1.001, 1e-12
"""Squared distances that differ less are settled in float64, as share and [m2]."""
BEYOND, BEYOND_ZERO = 1.002, 1e-11
"""More than a tie, likewise."""
NOT_FELT = 1 << 62
"""Besides the bits of parts: what is not felt."""


class Packet(NamedTuple):
    """Sixteen points, and what is found for them. A Packet belongs to one thread."""

    points: np.ndarray
    """float64 (16, 3) [m], counted from where the pose is"""
    limits: np.ndarray
    """float64 (16,) how far to look for each [m]; negative for one that does not ask"""
    guesses: np.ndarray
    """(16,) a triangle that may be near each, or -1: what was the nearest a pose ago. It is quicker with it, the answer is the same"""
    guessed: np.ndarray
    """int32 (3, 16) the corners of these"""
    queries: np.ndarray
    """float32 (3, 16) x y z"""
    best: np.ndarray
    """float32 (2, 16) squared distances of the nearest and the second triangle so far; negative for one that does not ask"""
    which: np.ndarray
    """(2, 16) these two, -1 for none"""
    room: np.ndarray
    """float32 (2, 16) scratch"""
    stack: np.ndarray
    """nodes still to be looked at"""
    found: np.ndarray
    """(16,) the nearest triangle, -1 for none within the limit, or where only a rim is near"""
    shares: np.ndarray
    """float64 (16, 2) those of its second and third corner in the spot"""
    squares: np.ndarray
    """float64 (16,) of the distance"""
    behind: np.ndarray
    """bool (16,) whether the point is inside"""
    spots: np.ndarray
    """float64 (16, 12) where the spot is when the way begins and ends, and where it looks: `near_spots` fills it"""


def new_packet():
    """Room for a Packet."""
    points, shares, spots = (np.zeros((LANES, wide)) for wide in (3, 2, 12))
    limits, squares, behind = np.zeros(LANES), np.zeros(LANES), np.zeros(LANES, np.bool_)
    which, stack, found, guesses = (np.zeros(shape, np.int64) for shape in ((2, LANES), 2 * DEEPEST, LANES, LANES))
    lanes = aligned((3, LANES)), aligned((2, LANES)), which, aligned((2, LANES))
    return Packet(points, limits, guesses, np.zeros((3, LANES), np.int32), *lanes, stack, found, shares, squares, behind, spots)


@register_jitable
def box_gap(boxes, node, x, y, z):
    """Squared distances of sixteen points from a box."""
    dx = larger(larger(boxes[node, 0] - x, x - boxes[node, 3]), 0.0)
    dy = larger(larger(boxes[node, 1] - y, y - boxes[node, 4]), 0.0)
    dz = larger(larger(boxes[node, 2] - z, z - boxes[node, 5]), 0.0)
    return fused(dx, dx, fused(dy, dy, dz * dz))


@register_jitable
def triangle_gaps(corners, x, y, z):
    """Squared distances of a point, or of sixteen, from sixteen triangles: from the plane where it is over it, else the nearest edge.

    corners  what `sixteen` says of them
    """
    ax, ay, az, e1x, e1y, e1z, e2x, e2y, e2z, e11, e12, e22, e33, r11, r22, r33, r = corners
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


@register_jitable
def sixteen(positions, corners, leaf):
    """A leaf's triangles: their first corners, sides, the products of these, and one over those."""
    ax, ay, az, _ = gather(positions, corners, 3 * leaf)
    bx, by, bz, _ = gather(positions, corners, 3 * leaf + 1)
    cx, cy, cz, _ = gather(positions, corners, 3 * leaf + 2)
    e1x, e1y, e1z, e2x, e2y, e2z, small = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az, np.float32(1e-30)
    e11 = fused(e1x, e1x, fused(e1y, e1y, e1z * e1z))
    e12 = fused(e1x, e2x, fused(e1y, e2y, e1z * e2z))
    e22 = fused(e2x, e2x, fused(e2y, e2y, e2z * e2z))
    e33 = e11 - e12 - e12 + e22
    r11, r22, r33, r = (
        1.0 / larger(e11, small),
        1.0 / larger(e22, small),
        1.0 / larger(e33, small),
        1.0 / larger(e11 * e22 - e12 * e12, small),
    )
    return ax, ay, az, e1x, e1y, e1z, e2x, e2y, e2z, e11, e12, e22, e33, r11, r22, r33, r


@kernel
def search(packet, x0, y0, z0, layout, pose, top, without):
    """A packet goes down the tree, its middle being x0 y0 z0: (the sleeping cluster that it came to, or -1 when done; how many nodes are
    left on the stack, to be gone on with). Left out are triangles whose part's bit is set in ``without``, and of which it is NOT_FELT.

    In a leaf each point that may be near to one of its triangles is asked of all of them at once. The second one is kept too: which of two
    neighbours is nearer is for float64 to say.
    """
    queries, best, which, stack, room = packet.queries, packet.best, packet.which, packet.stack, packet.room
    corners, starts, positions, boxes, woken_in, number = (
        layout.corners,
        layout.starts,
        pose.positions,
        pose.boxes,
        pose.woken_in,
        pose.number[0],
    )
    leaves, clusters = len(starts) - 1, len(woken_in)
    x, y, z = load(queries, 0), load(queries, 1), load(queries, 2)
    while top:
        top -= 1
        node = stack[top]
        bits = less_bits(box_gap(boxes, node, x, y, z), load(best, 0))
        if bits == 0:
            continue
        if clusters - 1 <= node < 2 * clusters - 1 and woken_in[node - clusters + 1] != number:
            return node - clusters + 1, top + 1
        if node < leaves - 1:
            left, right = 2 * node + 1, 2 * node + 2
            if box_distance(boxes, left, x0, y0, z0) < box_distance(boxes, right, x0, y0, z0):
                left, right = right, left
            stack[top], stack[top + 1] = left, right
            top += 2
            continue
        leaf = node - leaves + 1
        triangles = sixteen(positions, corners, leaf)
        if without:
            room[1] = np.inf
            for at in range(starts[leaf], starts[leaf + 1]):
                is_out = (without >> np.int64(layout.parts[at])) & 1 or (without & NOT_FELT and layout.kinds[at] > 0)
                room[1, at - starts[leaf]] = np.inf if is_out else 0.0
        while bits:
            lane = lowest(bits)
            bits &= bits - 1
            gaps = triangle_gaps(triangles, queries[0, lane], queries[1, lane], queries[2, lane])
            if without:
                gaps = gaps + load(room, 1)
            near = least(gaps)
            if not near < best[1, lane]:
                continue
            at = lowest(~less_bits(near, gaps))
            store(room, 0, gaps)
            room[0, at] = np.inf
            second = load(room, 0)
            next_near = least(second)
            if near < best[0, lane]:
                best[1, lane], which[1, lane] = best[0, lane], which[0, lane]
                best[0, lane], which[0, lane] = near, starts[leaf] + at
            else:
                best[1, lane], which[1, lane] = near, starts[leaf] + at
            if next_near < best[1, lane]:
                best[1, lane], which[1, lane] = next_near, starts[leaf] + lowest(~less_bits(next_near, second))
    return -1, 0


@kernel
def settle(count, rim, layout, pose, packet):
    """What `search` found for those that asked, looked at again in float64, and where the spots are."""
    triangles, positions, is_rim = layout.triangles, pose.positions, layout.is_rim
    best, which, spots, points = packet.best, packet.which, packet.spots, packet.points
    for lane in range(count):
        if best[0, lane] < 0.0:
            continue
        t = which[0, lane]
        packet.found[lane] = -1
        if t < 0:
            continue
        x, y, z = points[lane, 0], points[lane, 1], points[lane, 2]
        squared, v, w = nearest_on(x, y, z, positions, triangles[t, 0], triangles[t, 1], triangles[t, 2])
        second = which[1, lane]
        if second >= 0 and best[1, lane] < best[0, lane] * TIE + TIE_AT_ZERO:
            nearer, v2, w2 = nearest_on(x, y, z, positions, triangles[second, 0], triangles[second, 1], triangles[second, 2])
            if nearer < squared:
                t, squared, v, w = second, nearer, v2, w2
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u = 1.0 - v - w
        inner = (0.0 if is_rim[i] else u) + (0.0 if is_rim[j] else v) + (0.0 if is_rim[k] else w)
        if squared <= packet.limits[lane] * packet.limits[lane] and inner > rim and layout.kinds[t] != OPEN:
            packet.found[lane], packet.shares[lane, 0], packet.shares[lane, 1], packet.squares[lane] = t, v, w, squared
            for c in range(3):
                spots[lane, c] = u * positions[i, c] + v * positions[j, c] + w * positions[k, c]


@kernel
def bound(count, layout, pose, matrices, packet):
    """Look no further than a little beyond the triangles that were guessed: all that could be as near is still looked at, in its turn."""
    guesses, guessed, queries, best, triangles = packet.guesses, packet.guessed, packet.queries, packet.best, layout.triangles
    nobody, many = len(layout.positions), 0
    for lane in range(LANES):
        t = guesses[lane] if lane < count else -1
        for corner in range(3):
            guessed[corner, lane] = triangles[t, corner] if t >= 0 else nobody
        if t >= 0:
            many += 1
            if pose.woken_in[layout.cluster_of[t]] != pose.number[0]:
                wake(layout.cluster_of[t], layout, pose, matrices)
    if many:
        gaps = triangle_gaps(sixteen(pose.positions, guessed, 0), load(queries, 0), load(queries, 1), load(queries, 2))
        most = fused(gaps, np.float32(BEYOND), np.float32(BEYOND_ZERO))
        store(best, 0, smaller(load(best, 0), most))
        store(best, 1, smaller(load(best, 1), most))


@kernel
def go_down(x0, y0, z0, layout, pose, matrices, packet, without):
    """`search` until all is found, waking clusters on the way."""
    sleeping, top = 0, 1
    packet.stack[0] = 0
    while sleeping >= 0:
        sleeping, top = search(packet, x0, y0, z0, layout, pose, top, without)
        if sleeping >= 0:
            wake(sleeping, layout, pose, matrices)


@kernel
def find(count, rim, layout, pose, matrices, packet):
    """The spots nearest to the first ``count`` points of a packet, each within its limit, go into it."""
    points, limits, queries, best, which = packet.points, packet.limits, packet.queries, packet.best, packet.which
    asked, x0, y0, z0 = 0, 0.0, 0.0, 0.0
    for lane in range(LANES):
        q = min(lane, count - 1)
        x, y, z = points[q, 0], points[q, 1], points[q, 2]
        queries[0, lane], queries[1, lane], queries[2, lane] = x, y, z
        best[0, lane], which[0, lane], best[1, lane], which[1, lane] = -1.0, -1, -1.0, -1
        if lane < count and limits[lane] >= 0.0:
            most = limits[lane] * limits[lane] * WIDER
            best[0, lane], best[1, lane] = most, most
            asked, x0, y0, z0 = asked + 1, x0 + x, y0 + y, z0 + z
    packet.found[:] = -1
    if asked == 0:
        return
    bound(count, layout, pose, matrices, packet)
    go_down(x0 / asked, y0 / asked, z0 / asked, layout, pose, matrices, packet, 0)
    settle(count, rim, layout, pose, packet)


@kernel
def find_again(lane, layout, pose, matrices, packet, without):
    """What is nearest to one point without some triangles, as `search` takes it, be it at a rim."""
    best, which, queries = packet.best, packet.which, packet.queries
    most = packet.limits[lane] * packet.limits[lane] * WIDER
    for other in range(LANES):
        best[0, other], best[1, other] = -1.0, -1.0
    best[0, lane], which[0, lane], best[1, lane], which[1, lane] = most, -1, most, -1
    go_down(queries[0, lane], queries[1, lane], queries[2, lane], layout, pose, matrices, packet, without)
    settle(lane + 1, -1.0, layout, pose, packet)
