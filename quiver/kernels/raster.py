"""A small z-buffer for still pictures."""

import numpy as np

from quiver.kernels.compiling import kernel


def _fill_triangles(corners, triangles, shades, depth, image):
    """Draw triangles with smooth colours into ``image`` (H, W, 3), nearest first by ``depth`` (H, W); float32, in place.

    corners (V, 3): pixel x, pixel y, depth; shades (V, 3) 0..255.
    """
    height, width = depth.shape
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        ax, ay, bx, by, cx, cy = corners[a, 0], corners[a, 1], corners[b, 0], corners[b, 1], corners[c, 0], corners[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if abs(area) < 1e-9:
            continue
        left, right = max(0, int(np.floor(min(ax, bx, cx)))), min(width - 1, int(np.ceil(max(ax, bx, cx))))
        top, bottom = max(0, int(np.floor(min(ay, by, cy)))), min(height - 1, int(np.ceil(max(ay, by, cy))))
        for y in range(top, bottom + 1):
            for x in range(left, right + 1):
                px, py = x + 0.5, y + 0.5
                wb = ((px - ax) * (cy - ay) - (py - ay) * (cx - ax)) / area
                wc = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / area
                wa = 1.0 - wb - wc
                if wa < 0.0 or wb < 0.0 or wc < 0.0:
                    continue
                z = wa * corners[a, 2] + wb * corners[b, 2] + wc * corners[c, 2]
                if z < depth[y, x]:
                    depth[y, x] = z
                    for k in range(3):
                        image[y, x, k] = wa * shades[a, k] + wb * shades[b, k] + wc * shades[c, k]


fill_triangles = kernel(_fill_triangles)
