"""Advancing a simulation: the one place that calls the chain kernel."""

import numpy as np

from quiver.kernels.chain_rows import FORK, SCRATCH
from quiver.kernels.chains import advance_chains
from quiver.kernels.contacts import FRAME, SHAPE
from quiver.kernels.lanes import LANES, aligned
from quiver.threads import split

BLOCKS_WORTH_A_THREAD = 8
NO_COLLIDERS = (np.zeros((0, FRAME), np.float32), np.zeros((0, SHAPE), np.float32), np.zeros((0, LANES), np.float32))
NO_AXES = np.zeros((0, LANES), np.float32)
NO_SURFACE_CONTACTS = aligned((0, LANES))


def motion_rows(model, points, points_before, axes=None):
    """Pack the keyed motion for the kernel.

    points (S, C, n + 1, 3) [m] after each of S substeps, points_before (C, n + 1, 3) before the first; float64.
    axes (S, C, n, 2, 3) as kernels/chains.py says, or None. Returns the kernel's rows for motion and axes.
    """
    steps, tree, n = len(points), model.tree, model.segments
    moves = np.diff(np.concatenate([points_before[None], points]), axis=0)
    trees, riders = points.shape[1] // tree.branches, tree.branches - 1
    rows = np.zeros((steps, model.blocks * LANES, 6 * n + 6 + 3 * riders), np.float32)
    body = rows[:, :trees, : 6 * n].reshape(steps, trees, n, 6)
    body[..., :3], body[..., 3:] = tree.merged(np.diff(points, axis=2)), tree.merged(moves[:, :, 1:])
    rows[:, :trees, : 6 * n] = body.reshape(steps, trees, 6 * n)
    rows[:, :trees, 6 * n : 6 * n + 3], rows[:, :trees, 6 * n + 3 : 6 * n + 6] = (
        points[:, :: tree.branches, 0],
        moves[:, :: tree.branches, 0],
    )
    if riders:
        rows[:, :trees, 6 * n + 6 :] = tree.riders_from(points).reshape(steps, trees, 3 * riders)
    return _in_lanes(rows, model), NO_AXES if axes is None else _axis_rows(axes, model)


def _axis_rows(axes, model):
    axes = model.tree.merged(axes.reshape(*axes.shape[:3], 6))
    steps, trees = axes.shape[:2]
    rows = np.zeros((steps, model.blocks * LANES, 6 * model.segments), np.float32)
    rows[:, :trees] = axes.reshape(steps, trees, -1)
    return _in_lanes(rows, model)


def _in_lanes(rows, model):
    steps, _, width = rows.shape
    return np.ascontiguousarray(rows.reshape(steps, model.blocks, LANES, width).transpose(0, 1, 3, 2)).reshape(-1, LANES)


def advance(model, state, motion, axes=NO_AXES, colliders=NO_COLLIDERS, record_every=1, threads=None, surface_contacts=NO_SURFACE_CONTACTS):
    """Advance ``state`` through all substeps of ``motion``; returns displacements (S / record_every, C, n, 3) float32 [m].

    ``colliders`` and ``surface_contacts`` as in kernels/chains.py, see `contact_distance_rows`. The result does not depend on ``threads``.
    """
    n, blocks, tree = model.segments, model.blocks, model.tree
    riders = tree.branches - 1
    substeps = len(motion) // (blocks * (6 * n + 6 + 3 * riders))
    record = np.empty((substeps // record_every * blocks * 3 * n, LANES), np.float32)
    dt, room = np.float32(model.dt), (SCRATCH + (FORK if riders else 0)) * n

    def part(first, end):
        arrays = (state.rows, model.params, motion, axes, tree.forks, colliders, surface_contacts)
        advance_chains(first, end, substeps, n, dt, *arrays, model.has_limits, record_every, aligned((room, LANES)), record)

    split(part, blocks, BLOCKS_WORTH_A_THREAD, threads)
    lanes = record.reshape(-1, blocks, n, 3, LANES).transpose(0, 1, 4, 2, 3)
    return tree.apart(lanes.reshape(-1, blocks * LANES, n, 3))[:, : len(model.counts)]


def contact_distance_rows(model, contact_distances):
    """Pack for the kernel how far each segment's middle and end keep from each of K colliders: (C, K, n, 2) [m] as rows."""
    tree, (chains, many, longest) = model.tree, contact_distances.shape[:3]
    merged = tree.merged(np.moveaxis(contact_distances, 1, 2).reshape(chains, longest, 2 * many))
    trees = chains // tree.branches
    rows = np.zeros((model.blocks * LANES, 2 * many * model.segments), np.float32)
    rows[:trees] = np.moveaxis(merged.reshape(trees, model.segments, many, 2), 2, 1).reshape(trees, 2 * many * model.segments)
    return np.ascontiguousarray(rows.reshape(model.blocks, LANES, 2 * many * model.segments).transpose(0, 2, 1)).reshape(-1, LANES)
