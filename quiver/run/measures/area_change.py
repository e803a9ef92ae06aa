"""What a take did to a sheet: how its area changed and how far it was stretched."""

import numpy as np

from quiver.kernels.measures import area, greatest_stretch


class SheetMeasure:
    """Measures positions (N, 3) of a sheet against its rest: nodes (N, 3), triangles (F, 3), edges (E, 2)."""

    def __init__(self, nodes, triangles, edges):
        self.triangles, self.edges = np.ascontiguousarray(triangles, np.int32), np.ascontiguousarray(edges, np.int32)
        self.area = area(np.ascontiguousarray(nodes, float), self.triangles)
        self.lengths = np.maximum(np.linalg.norm(nodes[self.edges[:, 1]] - nodes[self.edges[:, 0]], axis=1), 1e-12)

    def __call__(self, positions):
        """(change of area [%], stretch of the most stretched edge [%])."""
        positions = np.ascontiguousarray(positions, float)
        largest = max(greatest_stretch(positions, self.edges, self.lengths), 1.0)
        return 100.0 * (area(positions, self.triangles) / self.area - 1.0), 100.0 * (largest - 1.0)
