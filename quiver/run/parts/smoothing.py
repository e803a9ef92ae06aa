"""Evening out how a skin is moved, so that no cell of what carries it shows as a wrinkle."""

import numpy as np
from scipy import sparse


class Smoothing:
    """So many rounds over the vertices (R,) of a mesh's Topology: each takes the mean of those around it, and itself."""

    def __init__(self, top, vertices, rounds):
        self.rounds = rounds
        places, self._place = np.unique(top.place_of[vertices], return_inverse=True)
        links = top.links[places][:, places].sign()
        counts = np.asarray(links.sum(1)).ravel()
        mixed = sparse.diags(0.5 / np.maximum(counts, 1.0)) @ links + sparse.diags(np.where(counts > 0, 0.5, 1.0))
        self._mixed = mixed.tocsr()
        self._first = np.zeros(len(places), int)
        self._first[self._place[::-1]] = np.arange(len(vertices))[::-1]

    def of(self, moves, blend):
        """Moves (F, R, 3), evened out; what takes little of them by ``blend`` (R,) keeps as little."""
        if not self.rounds or not len(moves):
            return moves
        count = len(self._first)
        flat = np.moveaxis(moves[:, self._first], 0, 1).reshape(count, -1)
        for _ in range(self.rounds):
            flat = self._mixed @ flat
        out = np.moveaxis(flat.reshape(count, len(moves), 3), 1, 0)[:, self._place]
        share = np.minimum(2.0 * blend, 1.0)[:, None]
        return moves + share * (out - moves)
