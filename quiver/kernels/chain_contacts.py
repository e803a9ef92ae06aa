"""What chains meet: simple colliders, with the middle and the end of each segment, and skins, with samples of their own skin."""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.chain_rows import (
    CARRIER,
    CARRIES,
    FOOT,
    FOOT_START,
    FORK,
    INVERSE_MASS,
    KEYED,
    PARAMS,
    RIDE,
    SCRATCH,
    START,
    TINY,
    load3,
    plus,
    store3,
)
from quiver.kernels.contacts import BOUND, EASE, kept_out
from quiver.kernels.lanes import any_less, larger, load, smaller, splat, sqrt, where_less
from quiver.kernels.surface_contacts import PARAMS as SURFACE_CONTACT
from quiver.kernels.surface_contacts import before_surface_contact, off_surface_contact

SAMPLES = 16
"""Samples of the visible skin of a segment that may touch at once."""
ALONG = SURFACE_CONTACT
"""Where a sample is along its segment, 0 to 1 between its ends; then how far it is beside its middle line and where the segment looked when
it was looked up, three rows each; what share of it the chain moves; where the rest of it is, and how far that moves in the frame, three
rows each."""
ARM, LOOKED, CARRIED, REST, REST_MOVES, SAMPLE = ALONG + 1, ALONG + 4, ALONG + 7, ALONG + 8, ALONG + 11, ALONG + 14
LEAST_LEVER, FARTHEST_TURN = 0.05, 0.2
"""What a turn moves by less than the root of this share of what it moves the end by, so near to the root, is not levered out by itself: the
rest of the chain would be flung. And nothing is by more than so much of a segment's length in a substep."""
PINCHED = 5e-4
"""Depth beyond its keys that a sample next to the root may have [m]."""


@register_jitable
def sampled(skins, sample, now, ax, ay, az, bx, by, bz):
    """(where a sample of a segment from a to b is, x y z; where it is beside its middle line, turned as that is since it was looked up)."""
    share = load(skins, sample + ALONG)
    rx, ry, rz = load3(skins, sample + ARM)
    lx, ly, lz = load3(skins, sample + LOOKED)
    dx, dy, dz = bx - ax, by - ay, bz - az
    inverse = 1.0 / larger(sqrt(dx * dx + dy * dy + dz * dz), 1e-9)
    ex, ey, ez = dx * inverse, dy * inverse, dz * inverse
    # The shortest turn from the one direction to the other.
    along = lx * rx + ly * ry + lz * rz
    back = ((lx + ex) * rx + (ly + ey) * ry + (lz + ez) * rz) / larger(1.0 + (lx * ex + ly * ey + lz * ez), 1e-3)
    rx = rx - back * (lx + ex) + 2.0 * along * ex
    ry = ry - back * (ly + ey) + 2.0 * along * ey
    rz = rz - back * (lz + ez) + 2.0 * along * ez
    x, y, z = ax + share * dx + rx, ay + share * dy + ry, az + share * dz + rz
    carried = load(skins, sample + CARRIED)
    sx, sy, sz = load3(skins, sample + REST)
    mx, my, mz = load3(skins, sample + REST_MOVES)
    return sx + mx * now + carried * x, sy + my * now + carried * y, sz + mz * now + carried * z, rx, ry, rz


@register_jitable
def levered(skins, sample, wx, wy, wz, ax, ay, az, bx, by, bz, rx, ry, rz, free_before, free):
    """How both ends a and b of a segment move so that a sample, r beside its middle line, does by w: x y z of one, then the other."""
    share, carried = load(skins, sample + ALONG), load(skins, sample + CARRIED)
    dx, dy, dz = bx - ax, by - ay, bz - az
    inverse = 1.0 / larger(dx * dx + dy * dy + dz * dz, 1e-12)
    # An end that moves carries the sample along, and turns the segment, so that what is beside it moves too.
    turn = (wx * dx + wy * dy + wz * dz) * inverse
    px, py, pz = (1.0 - share) * wx + turn * rx, (1.0 - share) * wy + turn * ry, (1.0 - share) * wz + turn * rz
    ex, ey, ez = share * wx - turn * rx, share * wy - turn * ry, share * wz - turn * rz
    squared = wx * wx + wy * wy + wz * wz
    gives = free_before * (px * px + py * py + pz * pz) + free * (ex * ex + ey * ey + ez * ez)
    amount = squared / larger(carried * gives, LEAST_LEVER * squared + TINY)
    # However short the lever, a segment turns no farther in a substep.
    most = larger(px * px + py * py + pz * pz, ex * ex + ey * ey + ez * ez) * amount * amount * inverse
    amount = amount * smaller(FARTHEST_TURN / sqrt(larger(most, TINY)), 1.0)
    one, other = amount * free_before, amount * free
    return one * px, one * py, one * pz, other * ex, other * ey, other * ez


@register_jitable
def unpinched(skins, first, now, then, root, keyed, moved, was, root_was):
    """What share of its way off its keyed place the end of a chain's first segment may keep.

    Where a chain stands out of skin, samples before and behind its root are pushed against each other, and none of them may get much
    deeper than as keyed, or than it was. The SAMPLES of the segment begin at a row; its root, where its end is keyed, how far that moved,
    and where both were a substep ago.
    """
    (px, py, pz), (rx, ry, rz), (ux, uy, uz), most = root, keyed, moved, splat(1.0)
    for slot in range(SAMPLES):
        sample = first + slot * SAMPLE
        x, y, z, _, _, _ = sampled(skins, sample, now, px, py, pz, rx + ux, ry + uy, rz + uz)
        gap = before_surface_contact(skins, sample, now, x, y, z)[0]
        if not any_less(gap, -PINCHED):
            continue
        x, y, z, _, _, _ = sampled(skins, sample, now, px, py, pz, rx, ry, rz)
        as_keyed = before_surface_contact(skins, sample, now, x, y, z)[0]
        x, y, z, _, _, _ = sampled(skins, sample, then, *root_was, *was)
        began = before_surface_contact(skins, sample, then, x, y, z)[0]
        allowed = smaller(smaller(as_keyed, 0.0) - PINCHED, (1.0 - EASE) * began)
        share = (as_keyed - allowed) / larger(as_keyed - gap, TINY)
        most = where_less(gap, allowed, smaller(most, larger(share, 0.0)), most)
    return most


@register_jitable
def push_out(
    n, state, s0, params, p0, motion, m0, forks, scratch, colliders, first_row, first_contact_distance, surface_contacts, block, now, then
):
    """Push the middles and the ends of all segments out of the colliders, from root to tip (arrays as in kernels/contacts.py).

    Then samples of their skin off the spots of others' (arrays as `advance` says), between the shares ``then`` and ``now`` of the frame.
    """
    frames, shapes, contact_distances = colliders
    skins, blocks = surface_contacts
    rx, ry, rz = load3(motion, m0 + 6 * n)
    zero = splat(0.0)
    # Of where the segment begins: where it is, where it was a substep ago, whether it is free.
    px, py, pz = rx, ry, rz
    kx, ky, kz = load3(motion, m0 + 6 * n + 3)
    kx, ky, kz = rx - kx, ry - ky, rz - kz
    free_before = zero
    for i in range(n):
        free = where_less(0.0, load(params, p0 + PARAMS * i + INVERSE_MASS), 1.0, 0.0)
        sx, sy, sz = load3(motion, m0 + 6 * i)
        f, is_rider = SCRATCH * n + FORK * i, forks[i, CARRIER] >= 0
        if is_rider:
            # What carries it is not moved by what it meets.
            ax, ay, az = load3(scratch, SCRATCH * n + FORK * forks[i, CARRIER] + KEYED)
            bx, by, bz = load3(motion, m0 + 6 * n + 6 + 3 * forks[i, RIDE])
            rx, ry, rz, free_before = ax + bx, ay + by, az + bz, zero
            px, py, pz = plus((rx, ry, rz), load3(scratch, f + FOOT))
            kx, ky, kz = plus((rx, ry, rz), load3(scratch, f + FOOT_START))
        if forks[i, CARRIES]:
            store3(scratch, f + KEYED, rx, ry, rz)
        rx, ry, rz = rx + sx, ry + sy, rz + sz
        ux, uy, uz = load3(state, s0 + 6 * i)
        ox, oy, oz = load3(scratch, SCRATCH * i + START)
        ox, oy, oz = rx + ox, ry + oy, rz + oz
        vx, vy, vz = zero, zero, zero
        for k in range(len(shapes)):
            row, at = first_row + k, first_contact_distance + 2 * n * k + 2 * i
            middle, end = load(contact_distances, at), load(contact_distances, at + 1)
            x, y, z = rx + ux, ry + uy, rz + uz
            fx, fy, fz = x - frames[row, 0], y - frames[row, 1], z - frames[row, 2]
            mx, my, mz = x - ox, y - oy, z - oz
            cx, cy, cz = frames[row, 0] - frames[row, 12], frames[row, 1] - frames[row, 13], frames[row, 2] - frames[row, 14]
            around = sqrt(sx * sx + sy * sy + sz * sz) + sqrt(mx * mx + my * my + mz * mz) + np.sqrt(cx * cx + cy * cy + cz * cz)
            bound = larger(larger(middle, end) + shapes[k, BOUND] + around, 0.0)
            if not any_less(fx * fx + fy * fy + fz * fz, bound * bound):
                continue
            wx, wy, wz = 0.5 * (x + px + vx), 0.5 * (y + py + vy), 0.5 * (z + pz + vz)
            wx, wy, wz = kept_out(colliders, k, row, middle, 0.5 * (ox + kx), 0.5 * (oy + ky), 0.5 * (oz + kz), wx, wy, wz)
            both = 2.0 / larger(free + free_before, 1.0)
            vx, vy, vz = vx + both * free_before * wx, vy + both * free_before * wy, vz + both * free_before * wz
            ux, uy, uz = ux + both * free * wx, uy + both * free * wy, uz + both * free * wz
            wx, wy, wz = kept_out(colliders, k, row, end, ox, oy, oz, rx + ux, ry + uy, rz + uz)
            ux, uy, uz = ux + free * wx, uy + free * wy, uz + free * wz
        for k in range(len(skins) // (blocks * n * SAMPLES * SAMPLE)):
            for slot in range(SAMPLES):
                sample = (((k * blocks + block) * n + i) * SAMPLES + slot) * SAMPLE
                ends = px + vx, py + vy, pz + vz, rx + ux, ry + uy, rz + uz
                x, y, z, ax, ay, az = sampled(skins, sample, now, *ends)
                near = before_surface_contact(skins, sample, now, x, y, z)
                if not any_less(near[0], 0.0):
                    continue
                x, y, z, _, _, _ = sampled(skins, sample, then, kx, ky, kz, ox, oy, oz)
                wx, wy, wz = off_surface_contact(skins, sample, then, *near, x, y, z)
                ax, ay, az, bx, by, bz = levered(skins, sample, wx, wy, wz, *ends, ax, ay, az, free_before, free)
                vx, vy, vz = vx + ax, vy + ay, vz + az
                ux, uy, uz = ux + bx, uy + by, uz + bz
            if i == 0 or is_rider:
                first = ((k * blocks + block) * n + i) * SAMPLES * SAMPLE
                share = unpinched(skins, first, now, then, (px, py, pz), (rx, ry, rz), (ux, uy, uz), (ox, oy, oz), (kx, ky, kz))
                ux, uy, uz = share * ux, share * uy, share * uz
        store3(state, s0 + 6 * i, ux, uy, uz)
        if i > 0 and not is_rider:
            ax, ay, az = load3(state, s0 + 6 * i - 6)
            store3(state, s0 + 6 * i - 6, ax + vx, ay + vy, az + vz)
        px, py, pz = rx + ux, ry + uy, rz + uz
        kx, ky, kz = ox, oy, oz
        free_before = free
