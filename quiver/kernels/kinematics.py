"""Forward kinematics over many times at once."""

import numpy as np
from numba import njit


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


forward_kinematics = njit(nogil=True, cache=True)(_forward_kinematics)
