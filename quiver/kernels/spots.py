"""What touches a posed surface (posed.py), how deep points are in it, and who is inside: asked in packets (packets.py)."""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import LANES
from quiver.kernels.nearest import TINY
from quiver.kernels.packets import NOT_FELT, find, find_again
from quiver.kernels.posed import HIDDEN, LID, across, make_corner, make_normal, take_pose, wake

CORNER = 1e-9
"""A spot with a smaller share of a triangle's corner lies on the edge opposite."""


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
        kind = layout.kinds[found[lane]]
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
                if found[lane] >= 0 and layout.kinds[found[lane]] == 0 and allowed[order[first + lane]] + np.sqrt(squares[lane]) < depth:
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
