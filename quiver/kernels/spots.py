"""Which spots of a posed surface (posed.py) are nearest to points, and who is inside.

Sixteen points that lie near to each other go down the tree together, in float32; which of two places equally near is the nearer is
then settled in float64. Points count from where the pose's matrices do.
"""

from typing import NamedTuple

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import LANES, aligned, fused, gather, larger, least, less_bits, load, lowest, smaller, store, where_less
from quiver.kernels.nearest import DEEPEST, TINY, box_distance, nearest_on
from quiver.kernels.posed import HIDDEN, LID, OPEN, across, make_corner, make_normal, take_pose, wake

WIDER = 1.00001
"""Squared distances in float32 may be wrong by less than this."""
CORNER = 1e-9
"""A spot with a smaller share of a triangle's corner lies on the edge opposite."""
TIE, TIE_AT_ZERO = 1.001, 1e-12
"""Squared distances that differ less are settled in float64, as share and [m2]."""
NOT_FELT = 1 << 62
"""Besides the bits of parts: what is not felt."""
BEYOND, BEYOND_ZERO = 1.002, 1e-11
"""More than a tie, likewise."""


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
                is_out = (without >> np.int64(layout.parts[at])) & 1 or (without & NOT_FELT and layout.lids[at] > 0)
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
        if squared <= packet.limits[lane] * packet.limits[lane] and inner > rim and layout.lids[t] != OPEN:
            packet.found[lane], packet.shares[lane, 0], packet.shares[lane, 1], packet.squares[lane] = t, v, w, squared
            for c in range(3):
                spots[lane, c] = u * positions[i, c] + v * positions[j, c] + w * positions[k, c]


@kernel
def look_out(count, layout, pose, packet, at):
    """Where the spots found of ``count`` points look, by the smooth normals: three columns ``at`` of the packet's spots."""
    found, shares, spots, normals, made_in, number = packet.found, packet.shares, packet.spots, pose.normals, pose.normal_in, pose.number[0]
    triangles, ring_starts, ring, positions = layout.triangles, layout.ring_starts, layout.ring, pose.positions
    for lane in range(count):
        t = found[lane]
        if t < 0:
            continue
        for corner in range(3):
            vertex = triangles[t, corner]
            if made_in[vertex] != number:
                made_in[vertex] = number
                make_normal(vertex, ring_starts, ring, positions, normals)
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        v, w = shares[lane, 0], shares[lane, 1]
        u, squared = 1.0 - v - w, 0.0
        for c in range(3):
            spots[lane, at + c] = u * normals[i, c] + v * normals[j, c] + w * normals[k, c]
            squared += spots[lane, at + c] ** 2
        inverse = 1.0 / max(np.sqrt(squared), 1e-30)
        for c in range(3):
            spots[lane, at + c] *= inverse


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


@register_jitable
def is_behind(lane, layout, pose, packet):
    """Whether a point is inside, its spot being the nearest one.

    By the normals of what that lies on: a triangle's, those at a side, or at a corner by their angles (Bærentzen, Aanæs 2005).
    """
    shares, spots, number = packet.shares, packet.spots, pose.number[0]
    triangles, beside, ring_starts, ring = layout.triangles, layout.beside, layout.ring_starts, layout.ring
    positions, corners, corner_in, points = pose.positions, pose.corners, pose.corner_in, packet.points
    t = packet.found[lane]
    x, y, z = points[lane, 0] - spots[lane, 0], points[lane, 1] - spots[lane, 1], points[lane, 2] - spots[lane, 2]
    v, w = shares[lane, 0], shares[lane, 1]
    u = 1.0 - v - w
    touched = (u > CORNER) + (v > CORNER) + (w > CORNER)
    if touched == 1:
        vertex = triangles[t, 0 if u > CORNER else (1 if v > CORNER else 2)]
        if corner_in[vertex] != number:
            corner_in[vertex] = number
            make_corner(vertex, ring_starts, ring, positions, corners)
        return x * corners[vertex, 0] + y * corners[vertex, 1] + z * corners[vertex, 2] < 0.0
    nx, ny, nz = across(t, triangles, positions)
    front, other = x * nx + y * ny + z * nz, -1
    if touched == 2:
        other = beside[t, 0 if u <= CORNER else (1 if v <= CORNER else 2)]
    if other >= 0:
        mx, my, mz = across(other, triangles, positions)
        front = front / max(np.sqrt(nx * nx + ny * ny + nz * nz), TINY)
        front += (x * mx + y * my + z * mz) / max(np.sqrt(mx * mx + my * my + mz * mz), TINY)
    return front < 0.0


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


@kernel
def tell_behind(count, layout, pose, matrices, packet):
    """Which of the first ``count`` points are inside, their spots being the nearest ones; then those spots are of what is felt.

    What is nearest to hidden skin and outside of it may be inside of another part. What is inside by the word of what is not felt is as
    deep as it is far from what is.
    """
    found, behind = packet.found, packet.behind
    for lane in range(count):
        if found[lane] < 0:
            continue
        behind[lane] = is_behind(lane, layout, pose, packet)
        kind = layout.lids[found[lane]]
        if kind == HIDDEN:
            without = 0
            while not behind[lane] and found[lane] >= 0:
                without |= np.int64(1) << np.int64(layout.parts[found[lane]])
                find_again(lane, layout, pose, matrices, packet, without)
                behind[lane] = found[lane] >= 0 and is_behind(lane, layout, pose, packet)
        if kind == HIDDEN or (kind == LID and behind[lane]):
            find_again(lane, layout, pose, matrices, packet, NOT_FELT)


@register_jitable
def in_front(points, spots, lane):
    """How far a point is in front of its spot's plane."""
    return (
        (points[lane, 0] - spots[lane, 0]) * spots[lane, 6]
        + (points[lane, 1] - spots[lane, 1]) * spots[lane, 7]
        + (points[lane, 2] - spots[lane, 2]) * spots[lane, 8]
    )


@kernel
def keep_touching(first, count, travel, contact_distances, near, layout, packet, end, end_matrices):
    """Leave of what was found in front of or behind its spots only what may touch, and find where those spots are when the way ends."""
    found, shares, squares, spots, behind = packet.found, packet.shares, packet.squares, packet.spots, packet.behind
    triangles, cluster_of, positions, points = layout.triangles, layout.cluster_of, end.positions, packet.points
    for lane in range(count):
        t = found[lane]
        if t < 0:
            continue
        gap = in_front(points, spots, lane)
        if (gap < 0.0) != behind[lane]:
            # At a sharp corner the smooth normal looks elsewhere: the way to the spot says where it is out.
            gap = -np.sqrt(squares[lane]) if behind[lane] else np.sqrt(squares[lane])
            for c in range(3):
                spots[lane, 6 + c] = (points[lane, c] - spots[lane, c]) / (gap if gap != 0.0 else 1.0)
        if not gap < contact_distances[first + lane] + 1.5 * travel[first + lane] + near:
            found[lane] = -1
            continue
        if end.woken_in[cluster_of[t]] != end.number[0]:
            wake(cluster_of[t], layout, end, end_matrices)
        i, j, k, v, w = triangles[t, 0], triangles[t, 1], triangles[t, 2], shares[lane, 0], shares[lane, 1]
        for c in range(3):
            spots[lane, 3 + c] = (1.0 - v - w) * positions[i, c] + v * positions[j, c] + w * positions[k, c]


@kernel
def near_spots(
    places,
    travel,
    contact_distances,
    rim,
    near,
    deep,
    layout,
    origins,
    begin,
    begin_matrices,
    end,
    end_matrices,
    packet,
    guesses,
    rows,
    out,
):
    """What of points at places (R, 3) may touch between two poses: how many; rows (R,) which, out (R, 12) as `push_surface_contacts` takes
    them.

    travel (R,) how far each may move; contact_distances (R,); near, deep as contact/skins.py; origins (2, 3) what the poses count from.
    Points after each other should be near to each other. guesses int (R,) as a Packet's: what is found is the next guess.
    """
    count, spots = 0, packet.spots
    for first in range(0, len(places), LANES):
        many = min(len(places) - first, LANES)
        for lane in range(many):
            q = first + lane
            for c in range(3):
                packet.points[lane, c] = places[q, c] - origins[0, c]
            packet.limits[lane] = 1.5 * travel[q] + (max(contact_distances[q], 0.0) + near + deep)
            packet.guesses[lane] = guesses[q]
        find(many, rim, layout, begin, begin_matrices, packet)
        for lane in range(many):
            guesses[first + lane] = packet.which[0, lane]
        tell_behind(many, layout, begin, begin_matrices, packet)
        look_out(many, layout, begin, packet, 6)
        keep_touching(first, many, travel, contact_distances, near, layout, packet, end, end_matrices)
        look_out(many, layout, end, packet, 9)
        for lane in range(many):
            if packet.found[lane] >= 0:
                rows[count] = first + lane
                for c in range(3):
                    out[count, c], out[count, 3 + c] = spots[lane, c] + origins[0, c], spots[lane, 3 + c] + origins[1, c]
                    out[count, 6 + c], out[count, 9 + c] = spots[lane, 6 + c], spots[lane, 9 + c]
                count += 1
    return count


@kernel
def signed_distances(points, limits, rim, layout, pose, matrices, packet, out):
    """How far points (R, 3) are outside: out (R, 2) [m] by the surface's smooth normal, and truly; NaN beyond limits (R,) or a rim."""
    for first in range(0, len(points), LANES):
        many = min(len(points) - first, LANES)
        for lane in range(many):
            for c in range(3):
                packet.points[lane, c] = points[first + lane, c]
            packet.limits[lane], packet.guesses[lane] = limits[first + lane], -1
        find(many, rim, layout, pose, matrices, packet)
        tell_behind(many, layout, pose, matrices, packet)
        look_out(many, layout, pose, packet, 6)
        for lane in range(many):
            q = first + lane
            out[q, 0], out[q, 1] = np.nan, np.nan
            if packet.found[lane] >= 0:
                distance, smooth = np.sqrt(packet.squares[lane]), in_front(packet.points, packet.spots, lane)
                if packet.behind[lane]:
                    distance = -distance
                out[q, 0], out[q, 1] = smooth if smooth * distance > 0.0 else distance, distance


@kernel
def deepest_of_frames(points, origins, order, allowed, deep, rim, layout, pose, matrices, packet, guesses, depths, where):
    """depths (F,) [m] and where (F,), a point or -1, of the deepest of points (F, R, 3) in each frame beyond ``allowed`` (R,) <= 0.

    Asked in an ``order`` (R,); matrices (F, B, LANES) count from origins (F, 3). A point is no deeper than it is far from any triangle:
    what cannot be deeper than the deepest so far is not looked for any further. guesses (R,) as in `near_spots`.
    """
    found, squares, packets, ahead = packet.found, packet.squares, (len(order) + LANES - 1) // LANES, -1
    for f in range(len(points)):
        take_pose(layout, pose, matrices[f])
        depth, at = 0.0, -1
        for turn in range(-1, packets):
            # What was the deepest a frame ago comes first.
            number = ahead if turn < 0 else turn
            if number < 0 or turn == ahead:
                continue
            first = number * LANES
            many = min(len(order) - first, LANES)
            for lane in range(many):
                q = order[first + lane]
                for c in range(3):
                    packet.points[lane, c] = points[f, q, c] - origins[f, c]
                asks = allowed[q] + deep > depth
                packet.limits[lane], packet.guesses[lane] = deep if asks else -1.0, guesses[q] if asks else -1
            find(many, rim, layout, pose, matrices[f], packet)
            for lane in range(many):
                if packet.limits[lane] >= 0.0:
                    guesses[order[first + lane]] = packet.which[0, lane]
                # What a lid is the nearest to may be deeper than that.
                if found[lane] >= 0 and layout.lids[found[lane]] == 0 and allowed[order[first + lane]] + np.sqrt(squares[lane]) < depth:
                    found[lane] = -1
            tell_behind(many, layout, pose, matrices[f], packet)
            for lane in range(many):
                if found[lane] < 0 or not packet.behind[lane]:
                    continue
                beyond = allowed[order[first + lane]] + np.sqrt(squares[lane])
                if beyond > depth or (beyond == depth and at >= 0 and first + lane < at):
                    depth, at = beyond, first + lane
        depths[f], where[f] = depth, -1 if at < 0 else order[at]
        ahead = at // LANES if at >= 0 else -1
