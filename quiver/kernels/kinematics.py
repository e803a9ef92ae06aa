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


@kernel
def turn_chains(keyed, points, grows_on, turns):
    """How the segments of chains are turned, quaternions (C, n, 4), between points (C, n + 1, 3) as keyed and as they are.

    Each after the one before it, the first of a branch after what carries it, which carries its root too: that is moved in ``points``.
    grows_on (B, 2) is that of the Tree of each B chains.
    """
    branches = len(grows_on)
    for c in range(len(points)):
        trunk, segment = grows_on[c % branches, 0], grows_on[c % branches, 1]
        x, y, z, w = 0.0, 0.0, 0.0, 1.0
        if trunk >= 0:
            t = c - c % branches + trunk
            x, y, z, w = turns[t, segment, 0], turns[t, segment, 1], turns[t, segment, 2], turns[t, segment, 3]
            a, b = keyed[c, 0], keyed[t, segment]
            ax, ay, az = turned(x, y, z, w, a[0] - b[0], a[1] - b[1], a[2] - b[2])
            points[c, 0, 0], points[c, 0, 1], points[c, 0, 2] = (
                points[t, segment, 0] + ax,
                points[t, segment, 1] + ay,
                points[t, segment, 2] + az,
            )
        for i in range(points.shape[1] - 1):
            x, y, z, w = turned_onto(x, y, z, w, way(keyed, c, i), way(points, c, i))
            turns[c, i, 0], turns[c, i, 1], turns[c, i, 2], turns[c, i, 3] = x, y, z, w


@kernel
def way(points, c, i):
    """From one point of a chain, of (C, n + 1, 3), to the next."""
    return points[c, i + 1, 0] - points[c, i, 0], points[c, i + 1, 1] - points[c, i, 1], points[c, i + 1, 2] - points[c, i, 2]


def _segment_rotations(keyed, moved, frames, grows_on):
    """What turns the segments of chains from where they are keyed to where they moved, points (S, C, n + 1, 3), from root to tip.

    frames (S, C, n, 3, 3) are the orthonormal spaces of the joints' parents, which may be mirrored. Returns the local rotations
    (S, C, n, 4: x y z w) of the joints and the lengths (S, C, n) against the keyed ones; as `turn_chains`, the roots of branches are moved.
    """
    samples, chains, n = frames.shape[:3]
    branches = len(grows_on)
    rotations, lengths, turns = np.empty((samples, chains, n, 4)), np.empty((samples, chains, n)), np.empty((chains, n, 4))
    for s in range(samples):
        turn_chains(keyed[s], moved[s], grows_on, turns)
        for c in range(chains):
            trunk = grows_on[c % branches, 0]
            x, y, z, w = 0.0, 0.0, 0.0, 1.0
            if trunk >= 0:
                q = turns[c - c % branches + trunk, grows_on[c % branches, 1]]
                x, y, z, w = q[0], q[1], q[2], q[3]
            for i in range(n):
                q = turns[c, i]
                lx, ly, lz, lw = after(-x, -y, -z, w, q[0], q[1], q[2], q[3])
                f = frames[s, c, i]
                side = handedness(f)
                for k in range(3):
                    rotations[s, c, i, k] = (f[0, k] * lx + f[1, k] * ly + f[2, k] * lz) * side
                rotations[s, c, i, 3] = lw
                x, y, z, w = q[0], q[1], q[2], q[3]
                a, b = way(keyed[s], c, i), way(moved[s], c, i)
                square, now = a[0] * a[0] + a[1] * a[1] + a[2] * a[2], b[0] * b[0] + b[1] * b[1] + b[2] * b[2]
                lengths[s, c, i] = np.sqrt(now) / max(np.sqrt(square), 1e-12)
    return rotations, lengths


segment_rotations = making_arrays(_segment_rotations)
