"""Skinning kernels: linear blend and dual quaternions. V vertices, I influences, B bind joints; float32."""

import numpy as np
from numba import njit


def _skin_linear(positions, slots, weights, matrices):
    """World positions (V, 3) from positions (V, 3), slots int32 (V, I), weights (V, I), matrices (B, 3, 4)."""
    out = np.empty_like(positions)
    for v in range(len(positions)):
        x, y, z = positions[v, 0], positions[v, 1], positions[v, 2]
        ox = oy = oz = np.float32(0.0)
        for i in range(slots.shape[1]):
            w = weights[v, i]
            m = matrices[slots[v, i]]
            ox += w * (m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3])
            oy += w * (m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3])
            oz += w * (m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3])
        out[v, 0], out[v, 1], out[v, 2] = ox, oy, oz
    return out


def _skin_dual_quaternion(positions, slots, weights, duals, stretches):
    """World positions (V, 3); duals (B, 8) as real x y z w, dual x y z w; stretches (B, 3, 3) are blended linearly first."""
    out = np.empty_like(positions)
    q = np.empty(8, np.float32)
    for v in range(len(positions)):
        x, y, z = positions[v, 0], positions[v, 1], positions[v, 2]
        px = py = pz = np.float32(0.0)
        q[:] = np.float32(0.0)
        first = duals[slots[v, 0]]
        for i in range(slots.shape[1]):
            w = weights[v, i]
            d = duals[slots[v, i]]
            s = stretches[slots[v, i]]
            px += w * (s[0, 0] * x + s[0, 1] * y + s[0, 2] * z)
            py += w * (s[1, 0] * x + s[1, 1] * y + s[1, 2] * z)
            pz += w * (s[2, 0] * x + s[2, 1] * y + s[2, 2] * z)
            # The two signs of a quaternion are the same rotation: blend on the first one's side.
            side = first[0] * d[0] + first[1] * d[1] + first[2] * d[2] + first[3] * d[3]
            signed = -w if side < 0.0 else w
            for k in range(8):
                q[k] += signed * d[k]
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
    return out


_options = {"nogil": True, "cache": True, "error_model": "numpy", "fastmath": {"contract"}}
skin_linear = njit(**_options)(_skin_linear)
skin_dual_quaternion = njit(**_options)(_skin_dual_quaternion)
