"""How much slower the solver leaves a solid's slowest mode than its elasticity says, measured by letting it swing once."""

import numpy as np

from quiver.bodies import volume
from quiver.cache import Cache
from quiver.sim import solid

KEPT = 2048
_known = Cache(KEPT)
SMALL, DT, MOST_STEPS, TURNS = 1e-4, 1.0 / 240.0, 2000, 2
"""The first swing, as a share of the cells; a substep [s], which could be any; as many as are looked at; and those of a frame, in which
each second one goes the other way round."""


def softening_of(body, lattice, edge, surfaces=None):
    """The share, times the square of `crossing`, by which a VolumeBody swings slower than its mode where substeps are as long as is steady.

    It depends on cells, holds and volume keep (measured: 0.01 to 0.80), so that no figure is right for all. ``lattice`` is the Lattice that
    it is made of, with cells of size ``edge`` [m]; ``surfaces`` keep its volume, those of its pieces if not said. Kept.
    """
    return _known.get(body, (), lambda: _softening_of(body, lattice, edge, surfaces or volume.pieces_of(lattice)))


def _softening_of(body, lattice, edge, surfaces):
    if body.lowest <= 0.0:
        return volume.SOFTENING
    young = (volume.STEADY / volume.crossing(1.0, body, edge, DT)) ** 2
    # With fibres it rests only where it is settled.
    options = {"surfaces": surfaces, "speed_limit": np.inf, "settles": body.fibres is not None}
    model = solid.solid_model(body, lattice.tets, young, DT, **options)
    state, rate = solid.SolidState(lattice.nodes), np.sqrt(young * body.lowest)
    state.velocities[:, :3] = body.mode * (SMALL * edge * rate)
    still, before = np.repeat(lattice.nodes[None], TURNS, 0), 0.0
    for step in range(1, MOST_STEPS // TURNS):
        solid.advance(model, state, still, lattice.nodes, threads=1)
        now = float(np.einsum("n,nk,nk->", body.masses, body.mode, state.positions - lattice.nodes))
        if step > 1 and now <= 0.0 < before:
            half = (step - 1 + before / (before - now)) * TURNS * DT
            return max(rate * half / np.pi - 1.0, 0.0) / volume.STEADY**2
        before = now
    return volume.SOFTENING
