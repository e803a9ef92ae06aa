"""What a take did to a sheet: how its area changed and how far it was stretched."""

import numpy as np


class SheetMeasure:
    """Measures positions (N, 3) of a sheet against its rest: nodes (N, 3), triangles (F, 3), edges (E, 2)."""

    def __init__(self, nodes, triangles, edges):
        self.triangles, self.edges = triangles, edges
        self.area, self.lengths = self._area(nodes), np.maximum(self._lengths(nodes), 1e-12)

    def __call__(self, positions):
        """(change of area [%], stretch of the most stretched edge [%])."""
        largest = float((self._lengths(positions) / self.lengths).max(initial=1.0))
        return 100.0 * (self._area(positions) / self.area - 1.0), 100.0 * (largest - 1.0)

    def _area(self, positions):
        a, b, c = np.take(positions, self.triangles.T, axis=0)
        (x, y, z), (u, v, w) = (b - a).T, (c - a).T
        return 0.5 * float(np.sqrt((y * w - z * v) ** 2 + (z * u - x * w) ** 2 + (x * v - y * u) ** 2).sum())

    def _lengths(self, positions):
        ends = np.take(positions, self.edges.T, axis=0)
        return np.sqrt(np.sum((ends[1] - ends[0]) ** 2, axis=1))
