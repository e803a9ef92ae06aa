"""Nearest positions on a mesh that moves."""

import numpy as np

from quiver.kernels import nearest as kernel
from quiver.threads import split

WORTH_A_THREAD = 512


class NearestOn:
    """Triangles int (F, 3), F > 0, of points (V, 3), asked again and again while they move.

    ``layout`` is another's of the same triangles, which need not be found twice.
    """

    def __init__(self, points, triangles, layout=None):
        self.triangles = np.ascontiguousarray(triangles, np.int32)
        points = np.ascontiguousarray(points, float)
        if layout is None:
            centres = points[self.triangles].mean(1)
            layout = kernel.build_tree(centres, kernel.levels_of(len(centres)))
        self.layout = self.order, self.starts = layout
        self.boxes = np.empty((2 * len(self.starts) - 3, 6))
        self.move(points)

    def move(self, points):
        """The points (V, 3) are here now."""
        self.points = np.ascontiguousarray(points, float)
        kernel.refit(self.points, self.triangles, self.order, self.starts, self.boxes)

    def find(self, queries, limits, guesses=None):
        """(triangle (Q,), corner_weights (Q, 3)) of the place nearest to each query (Q, 3); -1 where none is within limits (Q,).

        ``guesses`` (Q,), such as the last answer, make it quicker.
        """
        queries = np.ascontiguousarray(queries, float)
        found = np.full(len(queries), -1) if guesses is None else guesses.copy()
        corner_weights, limits = np.empty((len(queries), 3)), np.broadcast_to(np.asarray(limits, float), len(queries)).copy()
        tree = (self.points, self.triangles, self.order, self.starts, self.boxes)
        split(
            lambda first, end: kernel.find_nearest(first, end, queries, limits, *tree, found, corner_weights), len(queries), WORTH_A_THREAD
        )
        return found, corner_weights
