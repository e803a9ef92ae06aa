"""A solid in a run: the soft volume of one layer."""

import numpy as np

from quiver.bodies import chain as swing
from quiver.bodies import lattice as lattices
from quiver.bodies import volume
from quiver.dials import MOST_STRETCH
from quiver.measure.solids import SolidMeasure
from quiver.run.parts import part_of
from quiver.run.softs import Soft
from quiver.sim import solid
from quiver.sim.bounds import MOST_PER_STEP

BODY_DIALS = ("loose", "hold_gain", "hold_offset", "volume_keep", "firmness", "weight")


class Solid(Soft):
    """One volume layer in a run."""

    def __init__(self, character, layer, setup, notes):
        super().__init__(character, layer, setup)
        value = layer.value
        how = value("cell_size") / 1000.0, value("pieces") == "apart", layer.built
        self.part = part_of(character, setup.region(layer.region), self.scale, *how)
        self.body, loose, self.seam = self.part.body(*(value(name) for name in BODY_DIALS))
        if loose:
            notes.append(
                f"{layer.name}: nothing holds {'a piece' if loose == 1 else f'{loose} pieces'} of it; it is held a little everywhere"
            )
        self.rate = volume.rate_needed(self.body, self.part.edge, value("wobble_rate"))

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame."""
        value, rate = self.layer.value, substeps * self.setup.frame_rate
        if self.rate > rate * 1.001:
            notes.append(f"{self.layer.name}: so quick a wobble in so small cells needs finer steps than the budget; it is softened")
        dt = 1.0 / rate
        wobble = value("wobble_rate") * min(1.0, rate / self.rate)
        stiffness, keep = swing.matched(wobble, self.settle_seconds, dt)
        young = volume.young_for(self.body, self.part.edge, stiffness, dt)
        air = (1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * self.setup.frame_rate)
        self.weight = value("gravity") / 100.0 * swing.GRAVITY
        options = {"keep": keep, "air": air, "pressure": value("pressure") / 100.0, "settles": value("shape") == "pose"}
        limit = MOST_PER_STEP * self.size() / dt
        self.apart = self._own_contacts(0.0)
        self.measure = SolidMeasure(self.part.lattice.nodes, self.part.lattice.tets)
        stretch = value("stretch_limit")
        options["longest"] = 1.0 + stretch / 100.0 if stretch < MOST_STRETCH else None
        self.model = solid.solid_model(self.body, self.part.lattice.tets, young, dt, speed_limit=limit, **options)

    def _settle(self, targets):
        if self.layer.value("shape") == "pose":
            solid.settle(self.model, targets)

    def _pull(self, turned):
        down = np.array([0.0, -self.weight, 0.0])
        # Already sagging at rest: what the rest pose's own weight does is part of its shape.
        return down - turned @ down if self.layer.value("balance") == "rest" else down

    def ride_of(self, place):
        """How a place [file units] in the rest pose rides on the solid: the corners of a tetrahedron (4,) and its shares of them (4,)."""
        return lattices.shares_at(self.part.lattice, np.asarray(place, float) * self.scale)
