"""Laying a sheet out for kernels/sheets.py: its matrices, in the order in which one of them is factored; and one frame's advance."""

import itertools
from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

from quiver.cache import Cache
from quiver.kernels import sheets as kernel
from quiver.kernels.lanes import LANES, aligned, copied
from quiver.sim.packing import row_count
from quiver.sim.solid import NO_TOUCHES as NOTHING
from quiver.threads import thread_count_for, together

LEAF = 24
"""Particles that are not cut any further."""
ITERATIONS, STIFF_ITERATIONS, STIFF_GIVE = 4, 8, 2e-3
"""Iterations of a substep, and of one of a sheet that gives less than a share."""
WORTH_TWO_THREADS = 1000
"""Particles from which on two threads are quicker than one."""
NO_FOLDS = np.zeros((0, 4), np.int32), np.zeros((0, 4)), np.zeros((0, 3)), np.zeros((0, 2)), 0.0
NO_TOUCHES = (*NOTHING[:3], NO_FOLDS)
KEPT_MODELS = 8
"""As many as a character wears, and a few of before."""
_models = Cache(KEPT_MODELS)
CURVED = 1e-6
"""Hinges that are bent at rest by more than this, twice the sine of half the angle, draw back to their bends."""


@dataclass(frozen=True)
class SheetModel:
    """N particles; SI units. ``arrays`` are the sheet as kernels/sheets.py takes it; inverse_masses float32 (N,); dt [s] a substep

    damping_factor, drag_factor a substep; gravity (3,) [m/s2]; speed_limit [m/s]
    """

    arrays: tuple
    inverse_masses: np.ndarray
    damping_factor: float
    drag_factor: float
    gravity: np.ndarray
    dt: float
    speed_limit: float

    @property
    def is_cut(self):
        """Whether two threads take a half each."""
        return len(self.inverse_masses) >= WORTH_TWO_THREADS


def sheet_model(body, dt, give=1.0, damping_factor=1.0, drag_factor=1.0, gravity=(0.0, 0.0, 0.0), speed_limit=1e3):
    """The SheetModel of a SheetBody (bodies/sheet.py) for substeps of ``dt`` [s]; its constant matrix is factored, and kept.

    ``give`` the share that it lengthens under its own weight; damping_factor, drag_factor the shares of the velocity, against the keyed
    motion and against the world, that survive a substep; gravity (3,) [m/s2]; speed_limit [m/s] against the keyed motion
    """
    arrays = _models.get(body, (dt, give < STIFF_GIVE), lambda: _arrays_of(body, dt, STIFF_ITERATIONS if give < STIFF_GIVE else ITERATIONS))
    inverse_masses = np.where(body.is_free, 1.0 / body.masses, 0.0).astype(np.float32)
    return SheetModel(arrays, inverse_masses, damping_factor, drag_factor, np.asarray(gravity, float), dt, speed_limit)


def _arrays_of(body, dt, iterations):
    """A SheetBody as kernels/sheets.py takes it, for substeps of ``dt`` [s] of so many iterations."""
    count, is_free = len(body.masses), body.is_free
    i, j = body.edges.T
    net = sparse.csr_matrix((np.tile(body.stiffness, 2), (np.concatenate([i, j]), np.concatenate([j, i]))), (count, count))
    springs = sparse.diags(np.asarray(net.sum(axis=1)).ravel()) - net
    spread = sparse.csr_matrix(
        (body.weights.ravel(), (np.repeat(np.arange(len(body.hinges)), 4), body.hinges.ravel())), (len(body.hinges), count)
    )
    bending = (spread.T @ sparse.diags(body.bending) @ spread).tocsr()
    free = sparse.diags(is_free.astype(float))
    inertia = sparse.diags(body.masses * (1.0 + dt**2 * body.springs))
    whole = free @ (inertia + dt**2 * (springs + bending)) @ free + sparse.diags((~is_free).astype(float))
    order, halves = _order_of((abs(whole) + abs(net) + abs(bending)).tocsr(), body.nodes)
    places, spans, ends = _in_panels(count, halves)
    own = _Filled(order, places, spans[-1])
    return (
        own.filled(np.arange(count), LANES // 4 * row_count(count) - 1).astype(np.int32).reshape(-1, LANES),
        spans,
        ends,
        own.filled(body.masses, 1.0).astype(np.float32),
        own.filled(body.springs, 0.0).astype(np.float32),
        own.filled(is_free, 0.0).astype(np.float32),
        _rows(own.matrix(bending)),
        _net(body, own.new, spans),
        _hinges(body, own.new, spans),
        _factored(own.matrix(whole) + sparse.diags(own.filled(np.zeros(count), 1.0)), spans),
        iterations,
    )


def _in_panels(count, halves):
    """(where each ordered particle goes (N,), where the spans begin and all ends (4,), where the nobodies of each begin (3,)): two
    halves of given sizes and what lies between them, each filled up to whole panels."""
    sizes = np.array([*halves, count - sum(halves)])
    spans = np.concatenate([[0], np.cumsum(-(-sizes // LANES) * LANES)]).astype(np.int64)
    places = np.concatenate([start + np.arange(size) for start, size in zip(spans, sizes, strict=False)])
    return places, spans, spans[:3] + sizes


class _Filled:
    """Particles in the kernel's order: ``order`` (N,) says which comes when, places (N,) where it goes, among ``size`` places."""

    def __init__(self, order, places, size):
        self.order, self.places, self.size = order, places, int(size)
        self.new = np.empty(len(order), int)
        self.new[order] = places

    def filled(self, values, nobody):
        """Values (N,) in the kernel's order, that of nobodies given."""
        out = np.full(self.size, nobody, float)
        out[self.places] = values[self.order]
        return out

    def matrix(self, matrix):
        """A matrix (N, N) with its rows and columns in the kernel's order, CSR."""
        rows = matrix.tocoo()
        return sparse.csr_matrix((rows.data, (self.new[rows.row], self.new[rows.col])), (self.size, self.size))


def _rows(matrix):
    """A matrix by rows, as `gathered` of the kernel takes it."""
    matrix.sort_indices()
    return matrix.indptr.astype(np.int64), matrix.indices.astype(np.uint32), matrix.data.astype(np.float32)


def _net(body, new, spans):
    """The springs of a SheetBody as the kernel takes them, ``new`` (N,) saying where each particle is."""
    numbers, starts = _grouped(new[body.edges], spans)
    (tails, heads), none = new[body.edges].T, numbers < 0
    values = [np.where(none, 0.0, each[numbers]) for each in (body.stiffness, body.lengths)]
    tails, heads = (np.where(none, 0, each[numbers]).astype(np.int32).reshape(-1, LANES) for each in (tails, heads))
    own = _incidence([tails, heads], [1.0, -1.0], none, spans[-1])
    return tails, heads, values[0].astype(np.float32).reshape(-1, LANES), values[1].reshape(-1, LANES), starts, *own


def _hinges(body, new, spans):
    """The hinges that are bent at rest, likewise."""
    bent = np.flatnonzero(np.abs(body.curves) > CURVED)
    corners = new[body.hinges[bent]]
    numbers, starts = _grouped(corners, spans)
    none = numbers < 0
    corners = np.where(none[:, None], 0, corners[numbers]) if len(bent) else np.zeros((0, 4), int)
    pull = np.where(none, 0.0, (body.bending * body.curves)[bent][numbers]) if len(bent) else np.zeros(0)
    weights = np.where(none[:, None], 0.0, body.weights[bent][numbers]) if len(bent) else np.zeros((0, 4))
    lanes = corners.reshape(-1, LANES, 4).transpose(0, 2, 1).reshape(-1, LANES)
    own = _incidence(list(corners.T), list(weights.T), none, spans[-1])
    return np.ascontiguousarray(lanes, np.int32), pull.astype(np.float32).reshape(-1, LANES), starts, *own


def _grouped(corners, spans):
    """(numbers, -1 for nobody's, in rows of sixteen; where the rows begin of those inside of one half, of the other, of the others (4,)) of
    what has corners (n, k)."""
    sides = np.searchsorted(spans[1:3], corners, side="right")
    groups = np.where((sides == 0).all(axis=1), 0, np.where((sides == 1).all(axis=1), 1, 2))
    numbers, starts = [], [0]
    for group in range(3):
        own = np.flatnonzero(groups == group)
        numbers.append(np.concatenate([own, np.full(-len(own) % LANES, -1)]))
        starts.append(starts[-1] + len(numbers[-1]) // LANES)
    return np.concatenate(numbers), np.array(starts, np.int64)


def _incidence(corners, amounts, none, size):
    """For each particle which of what has ``corners`` it is in, and with which amounts, as `gathered` takes it."""
    rows = np.concatenate([np.ravel(each)[~none] for each in corners])
    columns = np.tile(np.flatnonzero(~none), len(corners))
    values = np.concatenate([np.broadcast_to(each, none.shape)[~none] for each in amounts])
    return _rows(sparse.csr_matrix((values, (rows, columns)), (int(size), len(none))))


def _factored(matrix, spans):
    """The Cholesky factor of a symmetric matrix as the kernel takes it."""
    factor = splu(matrix.tocsc(), permc_spec="NATURAL", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    lower = (factor.L @ sparse.diags(np.sqrt(factor.U.diagonal()))).tocsr()
    ptr, ind, value, inverse = _panels(lower)
    splits = [np.searchsorted(ind[a:b], spans[1:3]) + a for a, b in itertools.pairwise(ptr)]
    return ptr, ind, value, inverse, np.array(splits, np.int64), *_panels(lower.T.tocsr())


def _panels(matrix):
    """A triangular matrix by panels of sixteen rows: ptr, ind, value and inverse as the kernel takes them."""
    entries, size = matrix.tocoo(), matrix.shape[0]
    panel, row = np.divmod(entries.row, LANES)
    is_own = entries.col // LANES == panel
    squares = np.zeros((size // LANES, LANES, LANES))
    squares[panel[is_own], row[is_own], entries.col[is_own] % LANES] = entries.data[is_own]
    columns, place = np.unique(panel[~is_own].astype(np.int64) * size + entries.col[~is_own], return_inverse=True)
    value = aligned((len(columns), LANES))
    value[place, row[~is_own]] = entries.data[~is_own]
    ptr = np.searchsorted(columns, size * np.arange(len(squares) + 1, dtype=np.int64))
    inverse = np.linalg.inv(squares).transpose(0, 2, 1).reshape(-1, LANES)
    return ptr.astype(np.int64), (columns % size).astype(np.uint32), value, copied(inverse)


def _order_of(graph, places):
    """Nested dissection: (order (N,), sizes of both halves). What lies between two halves is what of one touches the other."""
    # Rounded, so that it is the same wherever the sheet is.
    places, side = np.round((places - places.min(0)) / max(np.ptp(places), 1e-12), 6), np.zeros(len(places), np.int8)

    def cut(ids):
        axis = np.argmax(np.ptp(places[ids], axis=0))
        left = places[ids, axis] < np.median(places[ids, axis])
        left = left if left.any() else np.arange(len(ids)) < len(ids) // 2
        side[ids[left]] = 1
        right, rows = ids[~left], graph[ids[~left]]
        touch = np.add.reduceat(np.append(side[rows.indices] == 1, False).astype(int), rows.indptr[:-1]) * (np.diff(rows.indptr) > 0) > 0
        side[ids] = 0
        return ids[left], right[~touch], right[touch]

    def order(ids):
        if len(ids) <= LEAF:
            return [ids]
        one, other, between = cut(ids)
        return [*order(one), *order(other), between]

    one, other, between = cut(np.arange(len(places))) if len(places) > LEAF else (np.arange(len(places)), *[np.zeros(0, int)] * 2)
    return np.concatenate(order(one) + order(other) + [between]).astype(int), (len(one), len(other))


def room_for(model):
    """Scratch arrays for a SheetModel, ``own`` of kernels/sheets.py."""
    size, net, hinges = int(model.arrays[1][-1]), model.arrays[7], model.arrays[8]
    rows, bent = len(net[0]), len(hinges[1])
    quads = (aligned((size // 4, LANES)).reshape(-1, 4) for _ in range(4))
    lanes = (aligned((count, LANES)) for count in (5 * rows, 4 * rows, 9 * bent))
    pulls = (aligned((4 * max(count, 1), LANES)).reshape(-1, 4) for count in (rows, bent))
    vectors, more = aligned((6, size // 4, LANES)).reshape(6, size, 4), aligned((2, 3 * size // LANES, LANES))
    return (*quads, np.zeros((size, 3)), *lanes, *pulls, vectors, more, np.zeros((3, 2)))


def advance(model, state, targets, before, pull=None, threads=None, touches=NO_TOUCHES, keeps="keyed"):
    """Advance a SolidState by one frame of S substeps towards keyed places targets (S, N, 3), from before (N, 3) [m]; as `solid.advance`.

    What it ``keeps`` of its volume is nothing to a sheet.
    """
    pull = np.float32(model.dt) * np.asarray(model.gravity if pull is None else pull, np.float32)
    if state.room is None:
        state.room = room_for(model)
    keyed = np.ascontiguousarray(targets, float), np.ascontiguousarray(before, float)
    factors = model.damping_factor, model.drag_factor, model.speed_limit
    scene = (
        *(float(model.dt), state.positions, model.inverse_masses, state.pulls(pull), factors, model.arrays, touches),
        *(*keyed, state.rows, state.goals(len(targets)), state.scratch, state.room),
    )
    barrier, thread_count = np.zeros(1, np.int64), thread_count_for(2 if model.is_cut else 1, threads)
    together(lambda part: kernel.advance_sheet(part, thread_count, barrier, *scene), thread_count)
