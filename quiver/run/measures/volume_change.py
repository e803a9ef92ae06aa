"""What a take did to a solid: how its volume changed and how far it was stretched."""

import numpy as np

from quiver.kernels.measures import greatest_stretch, sixfold_volume, volumes_of_pieces
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


class PiecesMeasure(SolidMeasure):
    """The same of a solid of several pieces, node by node (N,), each of which counts alone: the change of volume that is the largest.

    Tetrahedra count by how much of them is ``filled`` (T,).
    """

    def __init__(self, nodes, tets, pieces, filled):
        super().__init__(nodes, tets)
        self.pieces, self.filled = pieces[tets[:, 0]], filled
        self.rest = self._volumes(nodes)

    def _volumes(self, positions):
        out = np.empty(int(self.pieces.max()) + 1)
        volumes_of_pieces(np.ascontiguousarray(positions, float), self.tets, self.pieces, self.filled, out)
        return out

    def __call__(self, positions):
        """As `SolidMeasure`."""
        positions = np.ascontiguousarray(positions, float)
        changes = self._volumes(positions) / self.rest - 1.0
        largest = greatest_stretch(positions, self.edges, self.lengths)
        return 100.0 * changes[np.abs(changes).argmax()], 100.0 * (largest - 1.0)
