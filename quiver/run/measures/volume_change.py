"""What a take did to a solid: how its volume changed and how far it was stretched."""

import numpy as np

from quiver.kernels.tets import measure
from quiver.mesh.topology import edges_of_tets


class SolidMeasure:
    """Measures positions (N, 3) of a solid against its rest: nodes (N, 3), tets (T, 4)."""

    def __init__(self, nodes, tets):
        self.tets = tets
        self.edges, self.lengths = edges_of_tets(nodes, tets)
        self.sixfold = measure(nodes, tets, self.edges, self.lengths)[0]

    def __call__(self, positions):
        """(change of volume [%], stretch of the most stretched edge [%])."""
        sixfold, largest = measure(np.ascontiguousarray(positions, float), self.tets, self.edges, self.lengths)
        return 100.0 * (sixfold / self.sixfold - 1.0), 100.0 * (largest - 1.0)
