"""Keeping two sides of a skin apart: what crosses is pushed, and the push is spread out over the surface around it.

``moves`` (P, 3) are how far each place is moved [m], ``takes`` (P,) how readily, 0 for not at all. Place k has the neighbours
``others[starts[k] : starts[k + 1]]``. Contact c keeps the place points[c] in front of the spot that lies between corners[c] by
corner_weights[c], along normals[c]; gaps[c] [m] is how far it is from where it should be, negative where it is not far enough.
"""

import numpy as np

from quiver.kernels.compiling import kernel, making_arrays

TINY = 1e-12


def _spread(moves, takes, starts, others, damping_factor, out):
    """What the positions around each would have it do: ``damping_factor`` of the mean of their moves."""
    for k in range(len(moves)):
        begin, end = starts[k], starts[k + 1]
        if takes[k] <= 0.0 or begin == end:
            out[k] = 0.0
            continue
        x = y = z = 0.0
        for at in range(begin, end):
            other = others[at]
            x, y, z = x + moves[other, 0], y + moves[other, 1], z + moves[other, 2]
        share = damping_factor / (end - begin)
        out[k, 0], out[k, 1], out[k, 2] = share * x, share * y, share * z


def _push(moves, takes, points, corners, corner_weights, normals, gaps):
    """Push apart each contact that is too close, one after another, both sides sharing; returns the most that one was too close [m]."""
    worst = 0.0
    for c in range(len(points)):
        point, n = points[c], normals[c]
        weight, gap = takes[point], gaps[c]
        for axis in range(3):
            gap += n[axis] * moves[point, axis]
        for k in range(3):
            corner, share = corners[c, k], corner_weights[c, k]
            weight += share * share * takes[corner]
            for axis in range(3):
                gap -= share * n[axis] * moves[corner, axis]
        if gap >= 0.0 or weight < TINY:
            continue
        worst = max(worst, -gap)
        push = -gap / weight
        for axis in range(3):
            moves[point, axis] += push * takes[point] * n[axis]
        for k in range(3):
            corner = corners[c, k]
            for axis in range(3):
                moves[corner, axis] -= push * corner_weights[c, k] * takes[corner] * n[axis]
    return worst


spread = kernel(_spread)
push = kernel(_push)


def _separate(moves, takes, starts, others, damping_factor, rounds, last_rounds, near, points, corners, corner_weights, normals, gaps):
    """Alternate both, so many rounds, then push alone until nothing is more than ``near`` [m] too close; ``moves`` are changed in place."""
    around = np.empty_like(moves)
    for _ in range(rounds):
        spread(moves, takes, starts, others, damping_factor, around)
        moves[:] = around
        push(moves, takes, points, corners, corner_weights, normals, gaps)
    for _ in range(last_rounds):
        if push(moves, takes, points, corners, corner_weights, normals, gaps) <= near:
            break


separate = making_arrays(_separate)
