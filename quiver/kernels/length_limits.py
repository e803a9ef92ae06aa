"""Length limits: edges of a soft body with a length, springs or only a limit, sixteen at a time.

One step of extended position-based dynamics (Macklin, Müller, Chentanez 2016). ``points`` are as in soft.py. ``indices`` int32 (2 B, 16):
the two ends of the length limits of B blocks, which differ within a block; lanes that hold none name a point that is nobody's.
``params`` (PARAMS B, 16): see the constants below.
"""

from quiver.kernels.compiling import kernel
from quiver.kernels.lanes import any_less, fused, gather, larger, load, scatter, sqrt, where_less

EDGE = 0
"""From the first end to the second when the frame began, three rows [m]."""
LENGTH = 3
"""How long it is at rest, or may be at the most [m]."""
COMPLIANCE = 4
"""Compliance over dt squared."""
PULLS_ONLY = 5
"""1 where it only keeps from growing longer, else 0."""
PARAMS = 6
TINY = 1e-20


@kernel
def solve_length_limits(first, end, points, indices, params):
    """Bring the length limits of blocks first..end-1 nearer to their lengths; each end moves as light as it is."""
    for block in range(first, end):
        i, p = 2 * block, PARAMS * block
        ax, ay, az, aw = gather(points, indices, i)
        bx, by, bz, bw = gather(points, indices, i + 1)
        x, y, z = load(params, p) + (bx - ax), load(params, p + 1) + (by - ay), load(params, p + 2) + (bz - az)
        squared, wanted, only = fused(x, x, fused(y, y, z * z)), load(params, p + LENGTH), load(params, p + PULLS_ONLY)
        if any_less(only * wanted * wanted, squared):
            length = sqrt(squared)
            over = length - wanted
            over = where_less(0.5, only, larger(over, 0.0), over)
            # Over-relaxed, a stiff sheet would be nearer to its lengths, but one pass a substep then feeds its fluttering (measured).
            over = over / larger(length, TINY) / larger(aw + bw + load(params, p + COMPLIANCE), TINY)
            near, far = over * aw, -(over * bw)
            scatter(points, indices, i, fused(near, x, ax), fused(near, y, ay), fused(near, z, az), aw)
            scatter(points, indices, i + 1, fused(far, x, bx), fused(far, y, by), fused(far, z, bz), bw)
