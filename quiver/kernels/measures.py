"""What is measured of soft bodies at positions float64 (N, 3), each against its rest."""

import numpy as np
from numba.extending import register_jitable

from quiver.kernels.compiling import kernel


@register_jitable
def spanned(ax, ay, az, bx, by, bz, cx, cy, cz):
    """Six times the volume between three ways from one place."""
    return ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)


@kernel
def sixfold_volume(positions, tets):
    """Six times the volume of tetrahedra int (T, 4)."""
    total = 0.0
    for t in range(len(tets)):
        p, q, r, s = tets[t, 0], tets[t, 1], tets[t, 2], tets[t, 3]
        x, y, z = positions[p, 0], positions[p, 1], positions[p, 2]
        ax, ay, az = positions[q, 0] - x, positions[q, 1] - y, positions[q, 2] - z
        bx, by, bz = positions[r, 0] - x, positions[r, 1] - y, positions[r, 2] - z
        cx, cy, cz = positions[s, 0] - x, positions[s, 1] - y, positions[s, 2] - z
        total += spanned(ax, ay, az, bx, by, bz, cx, cy, cz)
    return total


@kernel
def volumes_of_pieces(positions, tets, pieces, shares, out):
    """Write six times the volumes (Q,) of tetrahedra int (T, 4), those of each piece (T,) together, by shares (T,)."""
    out[:] = 0.0
    for t in range(len(tets)):
        p, q, r, s = tets[t, 0], tets[t, 1], tets[t, 2], tets[t, 3]
        x, y, z = positions[p, 0], positions[p, 1], positions[p, 2]
        ax, ay, az = positions[q, 0] - x, positions[q, 1] - y, positions[q, 2] - z
        bx, by, bz = positions[r, 0] - x, positions[r, 1] - y, positions[r, 2] - z
        cx, cy, cz = positions[s, 0] - x, positions[s, 1] - y, positions[s, 2] - z
        out[pieces[t]] += shares[t] * spanned(ax, ay, az, bx, by, bz, cx, cy, cz)


@kernel
def area(positions, triangles):
    """The area of triangles int (F, 3)."""
    total = 0.0
    for t in range(len(triangles)):
        p, q, r = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x, y, z = positions[p, 0], positions[p, 1], positions[p, 2]
        ax, ay, az = positions[q, 0] - x, positions[q, 1] - y, positions[q, 2] - z
        bx, by, bz = positions[r, 0] - x, positions[r, 1] - y, positions[r, 2] - z
        u, v, w = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        total += 0.5 * np.sqrt(u * u + v * v + w * w)
    return total


@kernel
def greatest_stretch(positions, edges, lengths):
    """The largest length of an edge int (E, 2) against ``lengths`` (E,)."""
    largest = 0.0
    for e in range(len(edges)):
        p, q = edges[e, 0], edges[e, 1]
        x, y, z = positions[q, 0] - positions[p, 0], positions[q, 1] - positions[p, 1], positions[q, 2] - positions[p, 2]
        largest = max(largest, np.sqrt(x * x + y * y + z * z) / lengths[e])
    return largest
