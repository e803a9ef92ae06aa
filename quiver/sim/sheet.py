"""Laying a sheet out for kernels/sheets.py: its matrices, in the order in which one of them is factored; and one frame's advance."""

from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

from quiver.kernels import sheets as kernel
from quiver.sim.solid import NO_TOUCHES
from quiver.threads import thread_count_for, together

LEAF = 24
"""Particles that are not cut any further."""
ITERATIONS, STIFF_ITERATIONS, STIFF_GIVE = 3, 8, 2e-3
"""Iterations of a substep, and of one of a sheet that gives less than a share."""
WORTH_TWO_THREADS = 1500
"""Particles from which on two threads are quicker than one."""
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
    """The SheetModel of a SheetBody (bodies/sheet.py) for substeps of ``dt`` [s]; its constant matrix is factored.

    ``give`` the share that it lengthens under its own weight; damping_factor, drag_factor the shares of the velocity, against the keyed
    motion and against the world, that survive a substep; gravity (3,) [m/s2]; speed_limit [m/s] against the keyed motion
    """
    count, is_free = len(body.masses), body.is_free
    i, j = body.edges.T
    ends = np.concatenate([i, j]), np.concatenate([j, i])
    net = sparse.csr_matrix((np.tile(body.stiffness, 2), ends), (count, count))
    springs = sparse.diags(np.asarray(net.sum(axis=1)).ravel()) - net
    spread = sparse.csr_matrix(
        (body.weights.ravel(), (np.repeat(np.arange(len(body.hinges)), 4), body.hinges.ravel())), (len(body.hinges), count)
    )
    bending = (spread.T @ sparse.diags(body.bending) @ spread).tocsr()
    free = sparse.diags(is_free.astype(float))
    inertia = sparse.diags(body.masses * (1.0 + dt**2 * body.springs))
    whole = free @ (inertia + dt**2 * (springs + bending)) @ free + sparse.diags((~is_free).astype(float))
    order, halves = _order_of((abs(whole) + abs(net) + abs(bending)).tocsr(), body.nodes)
    new = np.argsort(order)
    parts = np.array([0, halves[0], sum(halves), count], np.int64)
    lengths = sparse.csr_matrix((np.tile(body.lengths, 2), ends), (count, count))
    stiff, long = (_ordered(each, order) for each in (net, lengths))
    rows = _ordered(bending, order)
    curves = _curves(body, new, parts)
    arrays = (
        order.astype(np.uint32),
        parts,
        body.masses[order],
        body.springs[order],
        is_free[order].astype(np.float32),
        (stiff.indptr.astype(np.int64), stiff.indices.astype(np.uint32), stiff.data, long.data),
        (rows.indptr.astype(np.int64), rows.indices.astype(np.uint32), rows.data),
        curves,
        _factored(_ordered(whole, order).tocsc(), parts),
        STIFF_ITERATIONS if give < STIFF_GIVE else ITERATIONS,
    )
    inverse_masses = np.where(is_free, 1.0 / body.masses, 0.0).astype(np.float32)
    return SheetModel(arrays, inverse_masses, damping_factor, drag_factor, np.asarray(gravity, float), dt, speed_limit)


def _curves(body, new, parts):
    """Hinges that are bent at rest, those inside of one half, then of the other, then the rest, as the kernel takes them."""
    bent = np.flatnonzero(np.abs(body.curves) > CURVED)
    hinges = new[body.hinges[bent]]
    sides = np.searchsorted(parts[1:3], hinges, side="right")
    groups = np.where((sides == 0).all(axis=1), 0, np.where((sides == 1).all(axis=1), 1, 2))
    order = np.argsort(groups, kind="stable")
    starts = np.searchsorted(groups[order], np.arange(4)).astype(np.int64)
    rows = bent[order]
    return hinges[order].astype(np.uint32), body.weights[rows], (body.bending * body.curves)[rows], starts


def _ordered(matrix, order):
    """A matrix with its rows and columns in another order, CSR."""
    found = matrix.tocsr()[order][:, order].tocsr()
    found.sort_indices()
    return found


def _factored(matrix, parts):
    """The Cholesky factor of a symmetric matrix as the kernel takes it."""
    factor = splu(matrix, permc_spec="NATURAL", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    scale = np.sqrt(factor.U.diagonal())
    below = sparse.tril(factor.L @ sparse.diags(scale), -1)
    lower, upper = below.tocsr(), below.tocsc()
    lower.sort_indices()
    upper.sort_indices()
    # Where in a row the second half, and the middle itself, begin.
    splits = lower.indptr[:-1, None] + np.column_stack([np.diff(lower[:, :end].indptr) for end in parts[1:3]])
    halves = ((each.indptr.astype(np.int64), each.indices.astype(np.uint32), each.data.astype(np.float32)) for each in (lower, upper))
    (lp, li, lv), (up, ui, uv) = halves
    return lp, li, lv, up, ui, uv, (1.0 / scale).astype(np.float32), splits.astype(np.int64)


def _order_of(graph, places):
    """Nested dissection: (order (N,), sizes of both halves). What lies between two halves is what of one touches the other."""
    side = np.zeros(len(places), np.int8)

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
    count, links = len(model.inverse_masses), len(model.arrays[5][1])
    doubles = [np.zeros((count, 3)) for _ in range(5)]
    singles = np.zeros((6, count, 4), np.float32), np.zeros((2, count, 4), np.float32)
    return (*doubles, np.zeros((links, 3)), np.zeros((links, 4), np.float32), *singles, np.zeros((3, 2)))


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
