"""The ways between the particles of a constraint when a frame began, finer than float32 holds far from the origin."""

from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import gather, store


@kernel
def measure_ways(first, end, begun, rest, indices, params, others, stride):
    """Write the ways from each item's first particle to its ``others`` into the first rows of params, in blocks first..end-1.

    ``begun`` and ``rest`` (P, 4) are positions to float32 and what that leaves; a block has others + 1 rows of indices and
    ``stride`` of params.
    """
    for block in range(first, end):
        i, p = (others + 1) * block, stride * block
        ax, ay, az, _ = gather(begun, indices, i)
        ux, uy, uz, _ = gather(rest, indices, i)
        for other in range(others):
            bx, by, bz, _ = gather(begun, indices, i + 1 + other)
            vx, vy, vz, _ = gather(rest, indices, i + 1 + other)
            row = p + 3 * other
            store(params, row, (bx - ax) + (vx - ux))
            store(params, row + 1, (by - ay) + (vy - uy))
            store(params, row + 2, (bz - az) + (vz - uz))
