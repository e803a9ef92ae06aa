"""Colliders as the kernels take them (kernels/contacts.py)."""

import numpy as np

from quiver.kernels.contacts import FRAME, SHAPE


def frame_rows(placements):
    """Frames (S, K, FRAME) float64 from placements (S + 1, K, 3, 4) of K colliders, the first of them before the first substep."""
    flat = np.concatenate([placements[..., 3], placements[..., :3].reshape(*placements.shape[:2], 9)], axis=-1)
    rows = np.empty((len(flat) - 1, flat.shape[1], FRAME))
    rows[..., :12], rows[..., 12:] = flat[1:], flat[:-1]
    return rows


def shape_rows(cores, bounds, frictions):
    """Shapes (K, SHAPE) float64: cores (K, 4) as `Collider.core` says, bounds (K,) and coefficients of friction (K,)."""
    rows = np.empty((len(cores), SHAPE))
    rows[:, :4], rows[:, 4], rows[:, 5] = np.reshape(cores, (-1, 4)), bounds, frictions
    return rows


def standing(positions, rotations=None):
    """Placements (K, 3, 4) of colliders that are turned by matrices (K, 3, 3), or not at all."""
    positions = np.asarray(positions, float)
    turned = np.broadcast_to(np.eye(3), (len(positions), 3, 3)) if rotations is None else rotations
    return np.concatenate([turned, positions[:, :, None]], axis=2)
