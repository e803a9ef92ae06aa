"""What a take did to a solid: how its volume changed and how far it was stretched."""

import itertools

import numpy as np

PAIRS = np.array(list(itertools.combinations(range(4), 2)))


class SolidMeasure:
    """Measures positions (N, 3) of a solid against its rest: nodes (N, 3), tets (T, 4)."""

    def __init__(self, nodes, tets):
        self.tets = tets
        self.edges = np.unique(np.sort(tets[:, PAIRS].reshape(-1, 2), axis=1), axis=0)
        self.lengths = self._lengths(nodes)
        self.volume = self._volume(nodes)

    def _lengths(self, positions):
        return np.linalg.norm(positions[self.edges[:, 1]] - positions[self.edges[:, 0]], axis=1)

    def _volume(self, positions):
        a, b, c, d = (positions[self.tets[:, k]] for k in range(4))
        return float(np.einsum("ti,ti->", b - a, np.cross(c - a, d - a))) / 6.0

    def __call__(self, positions):
        """(change of volume [%], stretch of the most stretched edge [%])."""
        stretch = float((self._lengths(positions) / self.lengths).max()) - 1.0
        return 100.0 * (self._volume(positions) / self.volume - 1.0), 100.0 * stretch
