"""Cords inside a soft solid: edges that may not grow longer than a limit, sixteen at a time.

``points`` are as in soft.py. ``indices`` int32 (2 B, 16): the two ends of the cords of B blocks, which differ within a block; lanes
that hold no cord name a point that is nobody's. ``params`` (PARAMS B, 16): see the constants below.
"""

from numba import njit

from quiver.kernels.lanes import any_less, fused, gather, larger, load, scatter, sqrt, store

EDGE = 0
"""From the first end to the second when the frame began, three rows [m]."""
LONGEST = 3
"""The longest that it may be [m]."""
PARAMS = 4
TINY = 1e-20


@njit(nogil=True, cache=True, error_model="numpy")
def limit_blocks(first, end, points, indices, params):
    """Shorten the cords of blocks first..end-1 that are too long; each end moves as light as it is."""
    for block in range(first, end):
        i, p = 2 * block, PARAMS * block
        ax, ay, az, aw = gather(points, indices, i)
        bx, by, bz, bw = gather(points, indices, i + 1)
        x, y, z = load(params, p) + (bx - ax), load(params, p + 1) + (by - ay), load(params, p + 2) + (bz - az)
        squared, longest = fused(x, x, fused(y, y, z * z)), load(params, p + LONGEST)
        if any_less(longest * longest, squared):
            length = sqrt(squared)
            over = larger(length - longest, 0.0) / larger(length, TINY) / larger(aw + bw, TINY)
            near, far = over * aw, -(over * bw)
            scatter(points, indices, i, fused(near, x, ax), fused(near, y, ay), fused(near, z, az), aw)
            scatter(points, indices, i + 1, fused(far, x, bx), fused(far, y, by), fused(far, z, bz), bw)


@njit(nogil=True, cache=True, error_model="numpy")
def measure_cords(first, end, begun, rest, indices, params):
    """Write the cords of blocks first..end-1 into their rows of params; ``begun`` and ``rest`` (P, 4) as tets.py's `measure_fans` says."""
    for block in range(first, end):
        i, p = 2 * block, PARAMS * block + EDGE
        ax, ay, az, _ = gather(begun, indices, i)
        ux, uy, uz, _ = gather(rest, indices, i)
        bx, by, bz, _ = gather(begun, indices, i + 1)
        vx, vy, vz, _ = gather(rest, indices, i + 1)
        store(params, p, (bx - ax) + (vx - ux))
        store(params, p + 1, (by - ay) + (vy - uy))
        store(params, p + 2, (bz - az) + (vz - uz))
