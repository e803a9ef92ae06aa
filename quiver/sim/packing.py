"""Laying a soft body's tetrahedra and length limits out for the kernels, domain by domain, then what spans two: the interface.

A domain is a span of rows of four particles; ``rows`` (D + 1,) say where each begins and all end.
"""

import numpy as np

from quiver.kernels import length_limits as length_limit
from quiver.kernels import surface_contacts as surface_contact
from quiver.kernels import tets as tet
from quiver.kernels.lanes import LANES, aligned
from quiver.kernels.packing import LONGEST_FAN, pack_blocks, walk_fans

NO_TETRAHEDRON = 1e9
"""Softness of a lane that holds no tetrahedron."""
NO_LENGTH_LIMIT = 1e9
"""Length of a lane that holds no length limit [m]."""
SNAPPED_BITS = 26
"""Matrices are rounded to so many bits of their largest number, finer than float32 holds, so that what should be the same is."""
MANY = 25
"""Fans with the same matrices from which on they are packed together."""
_HASH = np.random.default_rng(0).integers(1, 2**62, (LONGEST_FAN, tet.MATRICES), dtype=np.uint64)


def row_count(particles):
    """Rows of four for so many particles and the one that is nobody's."""
    return particles // 4 + 1


def pack_items(items, values, empty, rows, count):
    """Pack items (T, k), which name their particles, with values (T, params).

    ``empty`` (params,) are the values of a lane without an item. Returns indices, params, starts (D + 2,), and int32 (T, 2) block and lane.
    """
    domains = _domains(items.min(1), items.max(1), rows)
    starts, locations = [0], np.zeros((len(items), 2), np.int64)
    for domain in range(len(rows)):
        own = np.flatnonzero(domains == domain)
        blocks, locations[own] = _blocks(items[own], count, starts[-1])
        starts.append(starts[-1] + blocks)
    indices = np.full((starts[-1], items.shape[1], LANES), nobody(count), np.int32)
    indices[locations[:, 0], :, locations[:, 1]] = items
    params = aligned((starts[-1], len(empty), LANES))
    params[:] = empty[:, None]
    params[locations[:, 0], :, locations[:, 1]] = values
    return indices.reshape(-1, LANES), params.reshape(-1, LANES), np.array(starts, np.int32), locations.astype(np.int32)


def pack_length_limits(edges, lengths, compliance, pulls_only, rows, count):
    """Pack limits of edges (E, 2), lengths [m] and compliance (E,), for kernels/length_limits.py: arrays, int32 (E, 2) block and lane."""
    values = np.zeros((len(edges), length_limit.PARAMS))
    values[:, length_limit.LENGTH], values[:, length_limit.COMPLIANCE], values[:, length_limit.PULLS_ONLY] = (
        lengths,
        compliance,
        float(pulls_only),
    )
    empty = np.zeros(length_limit.PARAMS)
    empty[[length_limit.LENGTH, length_limit.PULLS_ONLY]] = NO_LENGTH_LIMIT, 1.0
    *packed, locations = pack_items(edges, values, empty, rows, count)
    return tuple(packed), locations


def pack_fans(tets, goals, matrices, rows, count, is_apart=False):
    """Pack tetrahedra (T, 4) with their goals (T,) and matrices (T, MATRICES), as kernels/tets.py says; each slot with its own where they
    are to be kept ``is_apart``.

    Returns fans, indices, params, kinds, matrices, starts (D + 2,), and locations int32 (T, 3): a goal's row of params, its slot, its lane.
    """
    if not len(tets):
        nothing = np.zeros((0, LANES), np.int32), aligned((0, LANES)), np.zeros(0, np.int32), aligned((0, LANES))
        return np.zeros((0, 4), np.int32), *nothing, np.zeros(len(rows) + 1, np.int32), np.zeros((0, 3), np.int32)
    order = np.lexsort(tets[:, 2::-1].T)
    walk, begins = walk_fans(np.ascontiguousarray(tets[order]))
    order = order[walk]
    parts = np.split(matrices, [tet.VOLUME, tet.CENTRE, tet.COMPLIANCE], 1)
    matrices, own = np.concatenate([_snapped(part) for part in parts], 1)[order], tets[order]
    lengths = np.diff(begins)
    fan_of = np.repeat(np.arange(len(lengths)), lengths)
    within = np.arange(len(own)) - begins[fan_of]
    domains = _domains(np.minimum.reduceat(own.min(1), begins[:-1]), np.maximum.reduceat(own.max(1), begins[:-1]), rows)
    sequence = _alike_first(matrices, within, begins[:-1])
    made, starts, goals = _Blocks(count), [0], goals[order]
    for domain in range(len(rows)):
        for length in range(LONGEST_FAN, 0, -1):
            chosen = sequence[(domains[sequence] == domain) & (lengths[sequence] == length)]
            if len(chosen):
                made.add(own, begins[chosen][:, None] + np.arange(length), goals, matrices)
        starts.append(made.blocks)
    fans, indices, params, slots = made.arrays()
    kinds, table = _kinds(slots, is_apart)
    locations = np.empty((len(tets), 3), np.int32)
    locations[order[np.concatenate(made.members)]] = np.concatenate(made.locations)
    return fans, indices, params, kinds, table, np.array(starts, np.int32), locations


class _Blocks:
    """Blocks of fans while they are laid out."""

    def __init__(self, count):
        self.count, self.blocks, self.at = count, 0, np.zeros(3, int)
        self.fans, self.indices, self.params, self.slots, self.members, self.locations = ([] for _ in range(6))

    def add(self, tets, fans, goals, matrices):
        """Pack fans of the same length, int (F, n) numbers of tetrahedra that follow each other."""
        length = fans.shape[1]
        items = np.concatenate([tets[fans[:, 0], :3], tets[fans, 3]], 1)
        blocks, locations = _blocks(items, self.count, 0)
        block, lane = locations.T
        indices = np.full((blocks, length + 3, LANES), nobody(self.count), np.int32)
        indices[block, :, lane] = items
        rows = [tet.goal_row(length, k) for k in range(length + 1)]
        params = np.zeros((blocks, rows[-1], LANES), np.float32)
        slots = np.zeros((blocks, length, tet.MATRICES, LANES), np.float32)
        slots[:, :, tet.COMPLIANCE] = NO_TETRAHEDRON
        slots[block, :, :, lane] = matrices[fans]
        steps = np.array([length + 3, rows[-1], length])
        for k, row in enumerate(rows[:-1]):
            params[block, row, lane] = goals[fans[:, k]]
            self.members.append(fans[:, k])
            self.locations.append(np.stack([self.at[1] + block * steps[1] + row, self.at[2] + block * length + k, lane], 1))
        begins = self.at + np.arange(blocks)[:, None] * steps
        self.fans.append(np.column_stack([np.full(blocks, length), begins]))
        self.indices.append(indices.reshape(-1, LANES))
        self.params.append(params.reshape(-1, LANES))
        self.slots.append(slots.reshape(-1, tet.MATRICES, LANES))
        self.blocks += blocks
        self.at = self.at + blocks * steps

    def arrays(self):
        """fans, indices, params as kernels/tets.py says, and the matrices of all slots, (slots, MATRICES, LANES)."""
        params = aligned((self.at[1], LANES))
        params[:] = np.concatenate(self.params)
        return np.concatenate(self.fans).astype(np.int32), np.concatenate(self.indices), params, np.concatenate(self.slots)


def nobody(count):
    """The particle that lanes without an item name."""
    return 4 * row_count(count) - 1


def _domains(lowest, highest, rows):
    """The domain of each item, from its lowest and highest particle; of those that span two, the interface's number."""
    first, last = (np.searchsorted(4 * rows[1:], ends, side="right") for ends in (lowest, highest))
    return np.where(first == last, first, len(rows) - 1)


def _blocks(items, count, first):
    """How many blocks items (T, k) take, and the block, counted from ``first``, and lane of each, (T, 2)."""
    packed = pack_blocks(np.ascontiguousarray(items), count)
    # Blocks that were opened and never used are left out.
    used, number = np.unique(packed[:, 0], return_inverse=True)
    return len(used), np.stack([first + number, packed[:, 1]], 1)


def _snapped(matrices):
    """Matrices (T, M) as float32, rounded just so that those that are the same but for the order of their sums are the same to the bit."""
    step = np.exp2(np.ceil(np.log2(np.maximum(np.abs(matrices).max(1, keepdims=True), 1e-300))) - SNAPPED_BITS)
    return (np.round(matrices / step) * step).astype(np.float32)


def _alike_first(matrices, within, begins):
    """An order (F,) in which fans with the same matrices come together where many have them, so that blocks are alike.

    matrices (T, MATRICES) fan by fan, the tetrahedra being ``within`` (T,) theirs, and the fans beginning at ``begins`` (F,)
    """
    hashes = np.einsum("tm,tm->t", matrices.view(np.uint32).astype(np.uint64), _HASH[within])
    _, kinds, counts = np.unique(np.add.reduceat(hashes, begins), return_inverse=True, return_counts=True)
    return np.argsort(np.where(counts[kinds] >= MANY, kinds, len(counts)), kind="stable")


def _kinds(slots, is_apart):
    """The different ones of all slots' matrices, or all where they are kept apart, (MATRICES K, LANES), and which each slot has, int32
    (slots,)."""
    number, kinds = {}, np.arange(len(slots), dtype=np.int32)
    for slot, own in enumerate(() if is_apart else slots):
        kinds[slot] = number.setdefault(own.tobytes(), len(number))
    table = aligned((len(slots) if is_apart else len(number), tet.MATRICES, LANES))
    table[kinds] = slots
    return kinds, table.reshape(-1, LANES)


def surface_contacts_in_lanes(surface_contacts, particles):
    """Spots as `push_surface_contacts` takes them, of points that are one particle each, packed for kernels/surface_contacts.py."""
    bases, corners, _, near, contact_distances, frictions = surface_contacts
    blocks = -(-len(contact_distances) // LANES)
    # An index of lanes is taken as an address: none may be negative.
    indices, params = np.full((blocks, LANES), nobody(particles), np.int32), aligned((surface_contact.PARAMS * blocks, LANES))
    surface_contact.lay_out(bases, corners, near, contact_distances, frictions, indices, params)
    return indices, params
