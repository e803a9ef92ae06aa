"""The varying side of a simulation."""

import numpy as np

from quiver.kernels.lanes import LANES
from quiver.sim.varying import Varying


class ChainState(Varying):
    """Displacements [m] from the keyed positions and velocities [m/s] of a ChainModel's particles.

    rows    float32 (B * 6 n, LANES), as kernels/chains.py says: what the kernel reads and writes
    """

    VARYING = ("rows",)

    def __init__(self, model):
        self._shape, self._tree = (model.blocks, model.segments, 2, 3, LANES), model.tree
        self.rows = np.zeros((model.blocks * 6 * model.segments, LANES), np.float32)

    def chain(self, index):
        """A view (n, 2, 3) of one chain: displacement and velocity of each particle."""
        (lane, branch), tree = divmod(index, self._tree.branches), self._tree
        rows = slice(tree.firsts[branch], tree.firsts[branch] + tree.counts[branch])
        return self.rows.reshape(self._shape)[lane // LANES, rows, :, :, lane % LANES]

    def all(self, count):
        """(count, n, 3) of the first so many chains: displacements, and velocities."""
        whole = np.moveaxis(self.rows.reshape(self._shape), -1, 1)
        return self._tree.apart(whole.reshape(-1, self._tree.segments, 6))[:count].reshape(count, -1, 2, 3).transpose(2, 0, 1, 3)

    def turned(self, index, matrix):
        """Turn one chain's displacements and velocities by ``matrix`` (3, 3): its root jumped, its swing goes along."""
        chain = self.chain(index)
        chain[...] = chain @ matrix.T.astype(np.float32)

    @property
    def greatest_speed(self):
        """The greatest velocity component [m/s]; not finite where the state is not."""
        return float(np.abs(self.rows.reshape(self._shape)[:, :, 1]).max(initial=0.0))
