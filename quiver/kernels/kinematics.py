"""Forward kinematics over many times at once, and joints that turn so that segments come to lie where they were simulated."""

import numpy as np

from quiver.kernels.compiling import kernel, making_arrays


def _forward_kinematics(order, parents, translations, rotations, scales):
    """World matrices (T, J, 3, 4) of local placements (T, J, 3), (T, J, 4: x y z w), (T, J, 3); parents come first in ``order``."""
    times, joints = translations.shape[:2]
    world = np.empty((times, joints, 3, 4))
    local = np.empty((3, 4))
    for t in range(times):
        for k in range(joints):
            j = order[k]
            x, y, z, w = rotations[t, j, 0], rotations[t, j, 1], rotations[t, j, 2], rotations[t, j, 3]
            sx, sy, sz = scales[t, j, 0], scales[t, j, 1], scales[t, j, 2]
            local[0, 0] = (1 - 2 * (y * y + z * z)) * sx
            local[0, 1] = 2 * (x * y - z * w) * sy
            local[0, 2] = 2 * (x * z + y * w) * sz
            local[1, 0] = 2 * (x * y + z * w) * sx
            local[1, 1] = (1 - 2 * (x * x + z * z)) * sy
            local[1, 2] = 2 * (y * z - x * w) * sz
            local[2, 0] = 2 * (x * z - y * w) * sx
            local[2, 1] = 2 * (y * z + x * w) * sy
            local[2, 2] = (1 - 2 * (x * x + y * y)) * sz
            for r in range(3):
                local[r, 3] = translations[t, j, r]
            p = parents[j]
            for r in range(3):
                for c in range(4):
                    if p < 0:
                        world[t, j, r, c] = local[r, c]
                    else:
                        value = world[t, p, r, 0] * local[0, c] + world[t, p, r, 1] * local[1, c] + world[t, p, r, 2] * local[2, c]
                        world[t, j, r, c] = value + world[t, p, r, 3] if c == 3 else value
    return world


forward_kinematics = making_arrays(_forward_kinematics)


@kernel
def turned(x, y, z, w, vx, vy, vz):
    """A vector turned by a unit quaternion."""
    tx, ty, tz = 2.0 * (y * vz - z * vy), 2.0 * (z * vx - x * vz), 2.0 * (x * vy - y * vx)
    return vx + w * tx + (y * tz - z * ty), vy + w * ty + (z * tx - x * tz), vz + w * tz + (x * ty - y * tx)


@kernel
def after(ax, ay, az, aw, bx, by, bz, bw):
    """The rotation b followed by a."""
    return (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


@kernel
def shortest(ax, ay, az, bx, by, bz):
    """The shortest turn from one direction to another; none where a direction has no length."""
    lengths = np.sqrt((ax * ax + ay * ay + az * az) * (bx * bx + by * by + bz * bz))
    w = max(lengths + (ax * bx + ay * by + az * bz), lengths * 1e-4)
    x, y, z = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    length = np.sqrt(x * x + y * y + z * z + w * w)
    if not length > 1e-12:
        return 0.0, 0.0, 0.0, 1.0
    return x / length, y / length, z / length, w / length


@kernel
def turned_onto(x, y, z, w, keyed, moved):
    """The rotation of a segment that is keyed along a way x y z and has moved to one, that of the one before it being x y z w."""
    carried = turned(x, y, z, w, keyed[0], keyed[1], keyed[2])
    turn = shortest(carried[0], carried[1], carried[2], moved[0], moved[1], moved[2])
    return after(turn[0], turn[1], turn[2], turn[3], x, y, z, w)


@kernel
def handedness(m):
    """The sign of the determinant of a matrix (3, 3): -1 where it mirrors."""
    volume = m[0, 0] * (m[1, 1] * m[2, 2] - m[1, 2] * m[2, 1])
    volume += m[0, 1] * (m[1, 2] * m[2, 0] - m[1, 0] * m[2, 2]) + m[0, 2] * (m[1, 0] * m[2, 1] - m[1, 1] * m[2, 0])
    return np.sign(volume)


def _segment_rotations(keyed, moved, frames):
    """Local rotations (S, C, n, 4: x y z w) of joints that turn segments from ``keyed`` to ``moved`` (S, C, n, 3), from root to tip.

    frames (S, C, n, 3, 3) are the orthonormal spaces of the joints' parents, which may be mirrored.
    """
    samples, chains, n = keyed.shape[:3]
    rotations = np.empty((samples, chains, n, 4))
    for s in range(samples):
        for c in range(chains):
            x, y, z, w = 0.0, 0.0, 0.0, 1.0
            for i in range(n):
                here = turned_onto(x, y, z, w, keyed[s, c, i], moved[s, c, i])
                lx, ly, lz, lw = after(-x, -y, -z, w, *here)
                f = frames[s, c, i]
                side = handedness(f)
                for k in range(3):
                    rotations[s, c, i, k] = (f[0, k] * lx + f[1, k] * ly + f[2, k] * lz) * side
                rotations[s, c, i, 3] = lw
                x, y, z, w = here
    return rotations


segment_rotations = making_arrays(_segment_rotations)
