"""Pressure: what is inside of a closed surface keeps its volume as a whole, whatever its tetrahedra do one by one.

One step a substep for each surface (extended position-based dynamics; one pressure for a whole body: Diziol, Bender, Bayer 2011), along the
way in which the volume grows the most for what it moves, so that momentum stays.
"""

import math

from numba import njit

TINY = 1e-30
FARTHEST = 0.02
"""A particle is pushed no farther in a substep than this share of how large a piece is: what was pressed flat comes back gradually."""


def _keep_volumes(step, points, positions, faces, face_starts, rims, rim_starts, goals, compliances, pushes):
    """Bring the volumes inside of Q surfaces to their goals; ``points`` (P, 4) as soft.py says, since the frame began at positions (N, 3).

    faces int32 (F, 3) looking outwards and the particles at their corners, rims int32 (R,): those of surface q from face_starts[q] and
    rim_starts[q] on; goals (S, Q) six times the volumes after each substep [m3]; compliances (Q,) over dt squared, of these; pushes (P, 3)
    scratch
    """
    for q in range(len(compliances)):
        for r in range(rim_starts[q], rim_starts[q + 1]):
            pushes[rims[r], 0] = pushes[rims[r], 1] = pushes[rims[r], 2] = 0.0
        sixfold, o = 0.0, faces[face_starts[q], 0]
        ox, oy, oz = positions[o, 0], positions[o, 1], positions[o, 2]
        for f in range(face_starts[q], face_starts[q + 1]):
            a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
            ax, ay, az = positions[a, 0] - ox + points[a, 0], positions[a, 1] - oy + points[a, 1], positions[a, 2] - oz + points[a, 2]
            bx, by, bz = positions[b, 0] - ox + points[b, 0], positions[b, 1] - oy + points[b, 1], positions[b, 2] - oz + points[b, 2]
            cx, cy, cz = positions[c, 0] - ox + points[c, 0], positions[c, 1] - oy + points[c, 1], positions[c, 2] - oz + points[c, 2]
            ux, uy, uz = by * cz - bz * cy, bz * cx - bx * cz, bx * cy - by * cx
            sixfold += ax * ux + ay * uy + az * uz
            pushes[a, 0], pushes[a, 1], pushes[a, 2] = pushes[a, 0] + ux, pushes[a, 1] + uy, pushes[a, 2] + uz
            pushes[b, 0], pushes[b, 1], pushes[b, 2] = (
                pushes[b, 0] + cy * az - cz * ay,
                pushes[b, 1] + cz * ax - cx * az,
                pushes[b, 2] + cx * ay - cy * ax,
            )
            pushes[c, 0], pushes[c, 1], pushes[c, 2] = (
                pushes[c, 0] + ay * bz - az * by,
                pushes[c, 1] + az * bx - ax * bz,
                pushes[c, 2] + ax * by - ay * bx,
            )
        gives, most = compliances[q], 0.0
        for r in range(rim_starts[q], rim_starts[q + 1]):
            i = rims[r]
            square = pushes[i, 0] ** 2 + pushes[i, 1] ** 2 + pushes[i, 2] ** 2
            gives, most = gives + points[i, 3] * square, max(most, points[i, 3] * points[i, 3] * square)
        share = (goals[step, q] - sixfold) / max(gives, TINY)
        limit = FARTHEST * abs(goals[step, q] / 6.0) ** (1.0 / 3.0) / max(math.sqrt(most), TINY)
        share = min(max(share, -limit), limit)
        for r in range(rim_starts[q], rim_starts[q + 1]):
            i = rims[r]
            for k in range(3):
                points[i, k] += points[i, 3] * share * pushes[i, k]


keep_volumes = njit(nogil=True, cache=True, error_model="numpy")(_keep_volumes)


def _volumes_at(positions, faces, face_starts, out):
    """Write six times the volumes (Q,) inside of surfaces at positions float64 (N, 3); other arrays as `keep_volumes` takes them."""
    for q in range(len(out)):
        o = faces[face_starts[q], 0]
        ox, oy, oz = positions[o, 0], positions[o, 1], positions[o, 2]
        sixfold = 0.0
        for f in range(face_starts[q], face_starts[q + 1]):
            a, b, c = positions[faces[f, 0]], positions[faces[f, 1]], positions[faces[f, 2]]
            ax, ay, az = a[0] - ox, a[1] - oy, a[2] - oz
            bx, by, bz = b[0] - ox, b[1] - oy, b[2] - oz
            cx, cy, cz = c[0] - ox, c[1] - oy, c[2] - oz
            sixfold += ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
        out[q] = sixfold


volumes_at = njit(nogil=True, cache=True)(_volumes_at)
