"""Samples of the skin of chains: where they are as the segments that carry them turn, and which of them are told to chain_contacts.py.

R samples of C chains of n segments; the first R' of them are skin, carried by up to I segments of their chain: slots int (R', I) and
shares (R', I); the others lie on their segment's middle line, ``line`` (R - R',) along it.
"""

import numpy as np

from quiver.kernels.chain_contacts import ALONG, ARM, CARRIED, LOOKED, REST, REST_MOVES, SAMPLE, SAMPLES
from quiver.kernels.compiling import kernel
from quiver.kernels.contacts import NEVER
from quiver.kernels.kinematics import turn_chains, turned
from quiver.kernels.lanes import LANES
from quiver.kernels.surface_contacts import AWAY, CONTACT_DISTANCE, FRICTION, NORMAL, NORMAL_CHANGE, TRAVEL

FARTHEST_LEVER = 3.0
"""What is beside a segment's middle line by more than so many of its lengths is not expected to go any further."""


@kernel
def place_samples(keyed, keyed_points, points, grows_on, chain, segment, slots, shares, line, turns, places):
    """Where samples are (R, 3), as the skin will be: keyed (R', 3) at keyed_points (C, n + 1, 3), the chains now at ``points``.

    turns (C, n, 4) receives how segments are turned, ``points`` the roots of branches, as `turn_chains` says
    """
    turn_chains(keyed_points, points, grows_on, turns)
    for r in range(len(keyed)):
        c, rest, x, y, z = chain[r], 1.0, 0.0, 0.0, 0.0
        for k in range(slots.shape[1]):
            share, s = shares[r, k], slots[r, k]
            if share == 0.0:
                continue
            ax, ay, az = keyed[r, 0] - keyed_points[c, s, 0], keyed[r, 1] - keyed_points[c, s, 1], keyed[r, 2] - keyed_points[c, s, 2]
            ax, ay, az = turned(turns[c, s, 0], turns[c, s, 1], turns[c, s, 2], turns[c, s, 3], ax, ay, az)
            x, y, z = x + share * (points[c, s, 0] + ax), y + share * (points[c, s, 1] + ay), z + share * (points[c, s, 2] + az)
            rest -= share
        places[r, 0], places[r, 1], places[r, 2] = x + rest * keyed[r, 0], y + rest * keyed[r, 1], z + rest * keyed[r, 2]
    for r in range(len(keyed), len(places)):
        c, i, share = chain[r], segment[r], line[r - len(keyed)]
        for k in range(3):
            places[r, k] = points[c, i, k] + share * (points[c, i + 1, k] - points[c, i, k])


@kernel
def look_at_samples(places, points, travel, chain, segment, beside, reach):
    """Where samples lie along and beside their segments, and how far each may move: beside (R, 7) along, arm and direction; reach (R,)."""
    for r in range(len(places)):
        c, i, length, along = chain[r], segment[r], 0.0, 0.0
        for k in range(3):
            beside[r, 4 + k] = points[c, i + 1, k] - points[c, i, k]
            length += beside[r, 4 + k] ** 2
        length = max(np.sqrt(length), 1e-9)
        for k in range(3):
            beside[r, 4 + k] /= length
            along += (places[r, k] - points[c, i, k]) * beside[r, 4 + k]
        along, aside = min(max(along / length, -1.0), 2.0), 0.0
        beside[r, 0] = along
        for k in range(3):
            beside[r, 1 + k] = places[r, k] - points[c, i, k] - along * length * beside[r, 4 + k]
            aside += beside[r, 1 + k] ** 2
        # What is beside the middle line goes further as the segment turns.
        share, lever = min(max(along, 0.0), 1.0), min(np.sqrt(aside) / length, FARTHEST_LEVER)
        reach[r] = (1.0 - share) * travel[c, i] + share * travel[c, i + 1] + lever * (travel[c, i] + travel[c, i + 1])


@kernel
def tell_samples(n, own, rows, near, contact_distances, friction, places, origin, beside, chain, segment, carried, now, then, room, out):
    """Write for each of n segments those of rows (Q,) of samples ``own`` nearest to a skin into ``out``, as chain_contacts.py takes them.

    near (Q, 12) and contact_distances as `push_surface_contacts` says, those of all ``own``; places, beside as above; carried (R,) what
    share of each the chain moves; now, then (R', 3) where skin is keyed when the look begins and ends; all counts from origin (3,)

    room are float64 and int64 (chains in all lanes n, SAMPLES)
    """
    lanes = len(out) // (n * SAMPLES * SAMPLE) * LANES
    gaps, which = room
    gaps[:], which[:] = np.inf, -1
    for q in range(len(rows)):
        r = own[rows[q]]
        gap, at, slot = -contact_distances[rows[q]], chain[r] * n + segment[r], SAMPLES - 1
        for k in range(3):
            gap += (places[r, k] - near[q, k]) * near[q, 6 + k]
        if gap >= gaps[at, slot]:
            continue
        while slot > 0 and gaps[at, slot - 1] > gap:
            gaps[at, slot], which[at, slot] = gaps[at, slot - 1], which[at, slot - 1]
            slot -= 1
        gaps[at, slot], which[at, slot] = gap, q
    for at in range(lanes * n):
        block, lane, first = at // n // LANES, at // n % LANES, at % n
        for slot in range(SAMPLES):
            row, q = ((block * n + first) * SAMPLES + slot) * SAMPLE, which[at, slot]
            out[row + CONTACT_DISTANCE, lane] = NEVER
            if q < 0:
                continue
            r = own[rows[q]]
            out[row + CONTACT_DISTANCE, lane], out[row + FRICTION, lane] = contact_distances[rows[q]], friction
            out[row + ALONG, lane], out[row + CARRIED, lane] = beside[r, 0], carried[r]
            for k in range(3):
                out[row + AWAY + k, lane] = origin[k] - near[q, k]
                out[row + TRAVEL + k, lane] = near[q, 3 + k] - near[q, k]
                out[row + NORMAL + k, lane] = near[q, 6 + k]
                out[row + NORMAL_CHANGE + k, lane] = near[q, 9 + k] - near[q, 6 + k]
                out[row + ARM + k, lane], out[row + LOOKED + k, lane] = beside[r, 1 + k], beside[r, 4 + k]
                # What of it the chain does not move goes on as it is keyed.
                out[row + REST + k, lane] = (1.0 - carried[r]) * (places[r, k] - origin[k])
                out[row + REST_MOVES + k, lane] = (1.0 - carried[r]) * (then[r, k] - now[r, k]) if r < len(now) else 0.0
