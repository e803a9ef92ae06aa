"""Packing tetrahedra, or cords, into blocks in which no particle is named twice."""

import numpy as np
from numba import njit

from quiver.kernels.lanes import LANES

WINDOW = 48
"""Blocks that are open at once; each is one bit of a particle's mask."""


def _pack_blocks(items, particles):
    """The block and lane of each item: int32 (T, 2), taking them in the order given. items int32 (T, k) name their particles."""
    places = np.empty((len(items), 2), np.int32)
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
        places[t, 0], places[t, 1] = numbers[slot], filled[slot]
        members[slot, filled[slot]] = t
        filled[slot] += 1
        for k in range(items.shape[1]):
            masks[items[t, k]] |= np.int64(1) << slot
        if filled[slot] == LANES:
            _clear(slot, LANES, members, items, masks)
            numbers[slot], filled[slot] = blocks, 0
            blocks += 1
    return places


@njit(cache=True)
def _clear(slot, count, members, items, masks):
    for lane in range(count):
        for k in range(items.shape[1]):
            masks[items[members[slot, lane], k]] &= ~(np.int64(1) << slot)


pack_blocks = njit(nogil=True, cache=True)(_pack_blocks)
