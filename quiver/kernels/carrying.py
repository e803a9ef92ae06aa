"""Points that a body carries: where they are, and how far each may move."""

import numpy as np

from quiver.kernels.compiling import kernel
from quiver.kernels.kinematics import turned


@kernel
def carry(corners, corner_weights, positions, velocities, keyed_moves, seconds, places, travel):
    """Points at corners int32 (R, 4) among particles, by corner_weights (R, 4): places (R, 3), and travel (R,), how far each may move.

    positions (N, 3), velocities (N, 4) and keyed_moves (N, 3) of the particles, the last in so many seconds; the lengths of both ways count
    """
    for r in range(len(corners)):
        moved, keyed = 0.0, 0.0
        for k in range(3):
            place, speed, move = 0.0, 0.0, 0.0
            for corner in range(4):
                particle, share = corners[r, corner], corner_weights[r, corner]
                place += share * positions[particle, k]
                speed += share * velocities[particle, k]
                move += share * keyed_moves[particle, k]
            places[r, k] = place
            moved, keyed = moved + speed * speed, keyed + move * move
        travel[r] = np.sqrt(keyed) + np.sqrt(moved) * seconds


@kernel
def carry_rigidly(points, state, keyed, seconds, places, travel):
    """The same of a rigid body's points (R, 3) along its principal axes: state (13,) as rigid.py says, keyed (7,) at the time's end."""
    for r in range(len(points)):
        x, y, z = points[r, 0], points[r, 1], points[r, 2]
        ax, ay, az = turned(state[3], state[4], state[5], state[6], x, y, z)
        bx, by, bz = turned(keyed[3], keyed[4], keyed[5], keyed[6], x, y, z)
        places[r, 0], places[r, 1], places[r, 2] = state[0] + ax, state[1] + ay, state[2] + az
        mx, my, mz = keyed[0] + bx - places[r, 0], keyed[1] + by - places[r, 1], keyed[2] + bz - places[r, 2]
        vx = state[7] + state[11] * az - state[12] * ay
        vy = state[8] + state[12] * ax - state[10] * az
        vz = state[9] + state[10] * ay - state[11] * ax
        travel[r] = np.sqrt(mx * mx + my * my + mz * mz) + np.sqrt(vx * vx + vy * vy + vz * vz) * seconds


@kernel
def carry_moves(corners, corner_weights, moves, shares, out):
    """How points at corners (R, 4), by corner_weights (R, 4), move with particles that move by float32 (F, N, 3), in ``shares`` (F, R)."""
    for f in range(len(moves)):
        for r in range(len(corners)):
            x, y, z = 0.0, 0.0, 0.0
            for corner in range(4):
                particle, weight = corners[r, corner], corner_weights[r, corner]
                x, y, z = x + weight * moves[f, particle, 0], y + weight * moves[f, particle, 1], z + weight * moves[f, particle, 2]
            out[f, r, 0], out[f, r, 1], out[f, r, 2] = shares[f, r] * x, shares[f, r] * y, shares[f, r] * z
