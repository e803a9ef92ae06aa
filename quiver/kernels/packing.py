"""Packing tetrahedra, or length limits, into blocks in which no particle is named twice; cutting tetrahedra into fans."""

import numpy as np

from quiver.kernels.compiling import kernel, making_arrays
from quiver.kernels.lanes import LANES

WINDOW = 48
"""Blocks that are open at once; each is one bit of a particle's mask."""
LONGEST_FAN = 4
"""Tetrahedra around an edge, as a lattice has them; where there are more they make several fans, so that few kinds of blocks do."""


def _pack_blocks(items, particles):
    """The block and lane of each item: int32 (T, 2), taking them in the order given. items int32 (T, k) name their particles."""
    slots = np.empty((len(items), 2), np.int32)
    masks = np.zeros(particles, np.int64)
    numbers, filled = np.arange(WINDOW), np.zeros(WINDOW, np.int64)
    members = np.empty((WINDOW, LANES), np.int64)
    blocks = WINDOW
    for t in range(len(items)):
        taken = np.int64(0)
        for k in range(items.shape[1]):
            taken |= masks[items[t, k]]
        slot = -1
        for candidate in range(WINDOW):
            if not (taken >> candidate) & 1:
                slot = candidate
                break
        if slot < 0:
            # Every open block has one of its particles: close the fullest, it has the least to lose.
            slot = int(np.argmax(filled))
            _clear(slot, filled[slot], members, items, masks)
            numbers[slot], filled[slot] = blocks, 0
            blocks += 1
        slots[t, 0], slots[t, 1] = numbers[slot], filled[slot]
        members[slot, filled[slot]] = t
        filled[slot] += 1
        for k in range(items.shape[1]):
            masks[items[t, k]] |= np.int64(1) << slot
        if filled[slot] == LANES:
            _clear(slot, LANES, members, items, masks)
            numbers[slot], filled[slot] = blocks, 0
            blocks += 1
    return slots


@kernel
def _clear(slot, count, members, items, masks):
    for lane in range(count):
        for k in range(items.shape[1]):
            masks[items[members[slot, lane], k]] &= ~(np.int64(1) << slot)


pack_blocks = making_arrays(_pack_blocks)


def _walk_fans(tets):
    """Tetrahedra int32 (T, 4), sorted by their first two corners, that follow each other around the edge between those.

    Returns them in that order, (T,), and where each fan begins, and all end, (F + 1,).
    """
    order, starts = np.empty(len(tets), np.int64), np.empty(len(tets) + 1, np.int64)
    is_free = np.ones(len(tets), np.bool_)
    at, fans, begin = 0, 0, 0
    while begin < len(tets):
        end = begin
        while end < len(tets) and tets[end, 0] == tets[begin, 0] and tets[end, 1] == tets[begin, 1]:
            end += 1
        while at < end:
            t, length = _head(begin, end, tets, is_free), 0
            starts[fans] = at
            fans += 1
            while t >= 0 and length < LONGEST_FAN:
                order[at], is_free[t] = t, False
                at, length = at + 1, length + 1
                t = _follower(begin, end, tets, is_free, tets[t, 3])
        begin = end
    starts[fans] = at
    return order, starts[: fans + 1]


@kernel
def _follower(begin, end, tets, is_free, corner):
    for t in range(begin, end):
        if is_free[t] and tets[t, 2] == corner:
            return t
    return -1


@kernel
def _head(begin, end, tets, is_free):
    """The first free one that follows none; in a closed ring, the first free one."""
    first = -1
    for t in range(begin, end):
        if is_free[t]:
            first = t if first < 0 else first
            is_led = False
            for other in range(begin, end):
                is_led |= is_free[other] and tets[other, 3] == tets[t, 2]
            if not is_led:
                return t
    return first


walk_fans = making_arrays(_walk_fans)
