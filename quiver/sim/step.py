"""Advancing a simulation: the one place that calls the chain kernel."""

import numpy as np

from quiver.kernels.chains import SCRATCH, advance_chains
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
    axes (S, C, n, 2, 3) blocked turning axes, or None. Returns the kernel's rows for motion and axes.
    """
    steps, chains = points.shape[:2]
    n = model.segments
    rows = np.zeros((steps, model.blocks * LANES, 6 * n + 6), np.float32)
    moves = np.diff(np.concatenate([points_before[None], points]), axis=0)
    body = rows[:, :chains, : 6 * n].reshape(steps, chains, n, 6)
    body[..., :3] = np.diff(points, axis=2)
    body[..., 3:] = moves[:, :, 1:]
    rows[:, :chains, : 6 * n] = body.reshape(steps, chains, 6 * n)
    rows[:, :chains, 6 * n : 6 * n + 3], rows[:, :chains, 6 * n + 3 :] = points[:, :, 0], moves[:, :, 0]
    return _in_lanes(rows, model), NO_AXES if axes is None else _axis_rows(axes, model)


def _axis_rows(axes, model):
    steps, chains = axes.shape[:2]
    rows = np.zeros((steps, model.blocks * LANES, 6 * model.segments), np.float32)
    rows[:, :chains] = axes.reshape(steps, chains, -1)
    return _in_lanes(rows, model)


def _in_lanes(rows, model):
    steps, _, width = rows.shape
    return np.ascontiguousarray(rows.reshape(steps, model.blocks, LANES, width).transpose(0, 1, 3, 2)).reshape(-1, LANES)


def advance(model, state, motion, axes=NO_AXES, colliders=NO_COLLIDERS, record_every=1, threads=None, surface_contacts=NO_SURFACE_CONTACTS):
    """Advance ``state`` through all substeps of ``motion``; returns displacements (S / record_every, C, n, 3) float32 [m].

    ``colliders`` and ``surface_contacts`` as in kernels/chains.py, see `contact_distance_rows`. The result does not depend on ``threads``.
    """
    n, blocks = model.segments, model.blocks
    substeps = len(motion) // (blocks * (6 * n + 6))
    record = np.empty((substeps // record_every * blocks * 3 * n, LANES), np.float32)
    dt = np.float32(model.dt)

    def part(first, end):
        arrays = (state.rows, model.params, motion, axes, colliders, surface_contacts)
        advance_chains(first, end, substeps, n, dt, *arrays, model.has_limits, record_every, aligned((SCRATCH * n, LANES)), record)

    split(part, blocks, BLOCKS_WORTH_A_THREAD, threads)
    lanes = record.reshape(-1, blocks, n, 3, LANES).transpose(0, 1, 4, 2, 3)
    return lanes.reshape(-1, blocks * LANES, n, 3)[:, : len(model.counts)]


def contact_distance_rows(model, contact_distances):
    """Pack for the kernel how far each segment's middle and end keep from each of K colliders: (C, K, n, 2) [m] as rows."""
    chains, many, n = contact_distances.shape[:3]
    rows = np.zeros((model.blocks * LANES, many * n * 2), np.float32)
    rows[:chains] = contact_distances.reshape(chains, -1)
    return np.ascontiguousarray(rows.reshape(model.blocks, LANES, -1).transpose(0, 2, 1)).reshape(-1, LANES)
