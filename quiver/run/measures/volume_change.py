"""What a take did to a solid: how its volume changed and how far it was stretched."""

import numpy as np

from quiver.kernels.measures import greatest_stretch, sixfold_volume
from quiver.mesh.topology import edges_of_tets


class SolidMeasure:
    """Measures positions (N, 3) of a solid against its rest: nodes (N, 3), tets (T, 4)."""

    def __init__(self, nodes, tets):
        self.tets = tets
        self.edges, self.lengths = edges_of_tets(nodes, tets)
        self.sixfold = sixfold_volume(nodes, tets)

    def __call__(self, positions):
        """(change of volume [%], stretch of the most stretched edge [%])."""
        positions = np.ascontiguousarray(positions, float)
        largest = greatest_stretch(positions, self.edges, self.lengths)
        return 100.0 * (sixfold_volume(positions, self.tets) / self.sixfold - 1.0), 100.0 * (largest - 1.0)
