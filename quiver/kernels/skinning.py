"""Skinning kernels: linear blend and dual quaternions.

V vertices, I influences, B bind joints; float32. What is blended for a joint fills one row of sixteen numbers, so
that a vertex costs one vector operation for each influence. Vertices first..end-1 are written; any split over threads
gives the same bits.
"""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.lanes import LANES, load, store


@register_jitable(fastmath={"contract"})
def blended(v, positions, slots, weights, matrices, room):
    """Where a vertex is under matrices (B, 16): x y z; ``room`` (1, 16) is written to."""
    total = load(matrices, slots[v, 0]) * weights[v, 0]
    for i in range(1, slots.shape[1]):
        total = total + load(matrices, slots[v, i]) * weights[v, i]
    store(room, 0, total)
    m, x, y, z = room[0], positions[v, 0], positions[v, 1], positions[v, 2]
    return (
        m[0] * x + m[1] * y + m[2] * z + m[3],
        m[4] * x + m[5] * y + m[6] * z + m[7],
        m[8] * x + m[9] * y + m[10] * z + m[11],
    )


def _skin_linear(first, end, positions, slots, weights, matrices, out):
    """World positions into ``out`` (V, 3) from positions (V, 3), slots int32 (V, I), weights (V, I).

    matrices (B, 16) hold the three rows of four of each joint's matrix, then zeros.
    """
    room = on_stack(np.float32, 1, LANES)
    for v in range(first, end):
        out[v, 0], out[v, 1], out[v, 2] = blended(v, positions, slots, weights, matrices, room)


def _skin_dual_quaternion(first, end, positions, slots, weights, duals, stretches, out):
    """The same with unit dual quaternions; scale and mirror are blended linearly and applied first.

    duals (B, 16) hold real x y z w, dual x y z w, then zeros; stretches (B, 16) a matrix of three by three, then zeros.
    """
    mixed = on_stack(np.float32, 2, LANES)
    for v in range(first, end):
        lead = slots[v, 0]
        turn = load(duals, lead) * weights[v, 0]
        stretch = load(stretches, lead) * weights[v, 0]
        for i in range(1, slots.shape[1]):
            slot, weight = slots[v, i], weights[v, i]
            stretch = stretch + load(stretches, slot) * weight
            # The two signs of a quaternion are the same rotation: blend on the first one's side.
            side = duals[lead, 0] * duals[slot, 0] + duals[lead, 1] * duals[slot, 1]
            side += duals[lead, 2] * duals[slot, 2] + duals[lead, 3] * duals[slot, 3]
            turn = turn + load(duals, slot) * (-weight if side < 0.0 else weight)
        store(mixed, 0, turn)
        store(mixed, 1, stretch)
        q, s = mixed[0], mixed[1]
        x, y, z = positions[v, 0], positions[v, 1], positions[v, 2]
        px = s[0] * x + s[1] * y + s[2] * z
        py = s[3] * x + s[4] * y + s[5] * z
        pz = s[6] * x + s[7] * y + s[8] * z
        length = np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3])
        scale = np.float32(1.0) / max(length, np.float32(1e-12))
        rx, ry, rz, rw = q[0] * scale, q[1] * scale, q[2] * scale, q[3] * scale
        dx, dy, dz, dw = q[4] * scale, q[5] * scale, q[6] * scale, q[7] * scale
        tx = ry * pz - rz * py + rw * px
        ty = rz * px - rx * pz + rw * py
        tz = rx * py - ry * px + rw * pz
        two = np.float32(2.0)
        out[v, 0] = px + two * (ry * tz - rz * ty) + two * (rw * dx - dw * rx + ry * dz - rz * dy)
        out[v, 1] = py + two * (rz * tx - rx * tz) + two * (rw * dy - dw * ry + rz * dx - rx * dz)
        out[v, 2] = pz + two * (rx * ty - ry * tx) + two * (rw * dz - dw * rz + rx * dy - ry * dx)


def _skin_frames(positions, slots, weights, matrices, origins, out):
    """World positions into ``out`` float64 (F, V, 3), under matrices (F, B, 16) that count from ``origins`` (F, 3)."""
    room = on_stack(np.float32, 1, LANES)
    for f in range(len(matrices)):
        placed, origin = out[f], origins[f]
        for v in range(len(positions)):
            x, y, z = blended(v, positions, slots, weights, matrices[f], room)
            placed[v, 0], placed[v, 1], placed[v, 2] = origin[0] + np.float64(x), origin[1] + np.float64(y), origin[2] + np.float64(z)


def _joint_rows(world, nodes, binds, origins, rows):
    """Rows of joints' matrices (F, B, 16), world (F, J, 3, 4) of nodes (B,) times binds (B, 3, 4), counted from ``origins`` (F, 3)."""
    for f in range(len(world)):
        for b in range(len(nodes)):
            n = nodes[b]
            for i in range(3):
                x, y, z = world[f, n, i, 0], world[f, n, i, 1], world[f, n, i, 2]
                for k in range(4):
                    rows[f, b, 4 * i + k] = x * binds[b, 0, k] + y * binds[b, 1, k] + z * binds[b, 2, k]
                shift = x * binds[b, 0, 3] + y * binds[b, 1, 3] + z * binds[b, 2, 3] + world[f, n, i, 3]
                rows[f, b, 4 * i + 3] = shift - origins[f, i]


skin_linear = kernel(_skin_linear, fastmath={"contract"})
skin_dual_quaternion = kernel(_skin_dual_quaternion, fastmath={"contract"})
skin_frames = kernel(_skin_frames, fastmath={"contract"})
joint_rows = kernel(_joint_rows)
