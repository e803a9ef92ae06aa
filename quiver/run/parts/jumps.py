"""Jumps of a root: teleports and flips, in which what hangs on it is carried along instead of whipped."""

import numpy as np

from quiver.rig import transforms

JUMP_TURN = np.radians(100.0)
JUMP_RATIO = 4.0
"""A move is a jump if it is this many times the moves of the frames around it, and longer than what hangs there."""


def jumps_of(roots, lengths):
    """Which roots jump on the way to each frame: bool (F, C) from placements (F, C, 3, 4) and lengths (C,) in the same unit."""
    linear = transforms.pure_rotations(roots[..., :3])
    moves = np.linalg.norm(np.diff(roots[..., 3], axis=0), axis=-1)
    steps = np.swapaxes(linear[:-1], -1, -2) @ linear[1:]
    traces = np.trace(np.abs(np.linalg.det(steps))[..., None, None] * steps, axis1=-2, axis2=-1)
    angles = np.arccos(np.clip((traces - 1.0) / 2.0, -1, 1))
    flips = np.diff(np.sign(np.linalg.det(linear)), axis=0) != 0.0
    alone = (moves > lengths) & (moves > JUMP_RATIO * _around(moves))
    turned = (angles > JUMP_TURN) & (angles > JUMP_RATIO * _around(angles))
    return np.concatenate([np.zeros((1, roots.shape[1]), bool), flips | alone | turned])


def _around(values):
    """The larger of the values one frame before and after; at the ends the one there is."""
    padded = np.concatenate([np.zeros((1, *values.shape[1:])), values, np.zeros((1, *values.shape[1:]))])
    return np.maximum(padded[:-2], padded[2:])
