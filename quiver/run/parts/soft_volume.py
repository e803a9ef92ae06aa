"""Soft volumes in a run: tetrahedra under a painted region."""

import numpy as np

from quiver.bodies import chain as swing
from quiver.bodies import lattice as lattices
from quiver.bodies import volume
from quiver.contact.contacts import flesh_carriers
from quiver.run.measures.volume_change import SolidMeasure
from quiver.run.parts.soft_body import SoftBody
from quiver.run.parts.softening import softening_of
from quiver.run.parts.sources import part_of
from quiver.sim import solid
from quiver.sim.bounds import MOST_PER_STEP

MOST_STRETCH = 300.0
"""A stretch limit of so much is none."""
BODY_DIALS = ("loose", "hold_gain", "hold_offset", "volume_keep", "firmness", "weight")


def units(context, layers):
    """A SoftVolume for each of some layers. Raises BadInput where one cannot be built."""
    return [SoftVolume(context.character, layer, context.setup, context.notes) for layer in layers]


class SoftVolume(SoftBody):
    """One layer of the kind volume in a run."""

    def __init__(self, character, layer, setup, notes):
        super().__init__(character, layer, setup)
        value = layer.value
        how = value("cell_size") / 1000.0, value("pieces") == "apart", layer.built
        self.part = part_of(character, self.region, self.scale, *how)
        self.body, loose, self.blend = self.part.body(*(value(name) for name in BODY_DIALS))
        if loose:
            notes.append(
                f"{layer.name}: nothing holds {'one piece' if loose == 1 else f'{loose} pieces'} of it, so a weak hold is added everywhere"
            )

    @property
    def softening(self):
        """As `softening_of`: what a panel shows of it does not need that."""
        return softening_of(self.body, self.part.lattice, self.part.edge)

    @property
    def rate(self):
        """Substeps a second that it needs to swing as its dial says."""
        return volume.rate_needed(self.body, self.part.edge, self.layer.value("wobble_rate"), self.softening)

    def substep_rate(self):
        """As `Unit.substep_rate`."""
        damped = swing.substep_rate(self.layer.value("wobble_rate"), self.settle_seconds)[0]
        return max(min(self.rate, swing.HIGHEST_RATE), damped)

    def _inner_carriers(self):
        return flesh_carriers(self.character, self.setup, self.layer)

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame."""
        value, rate = self.layer.value, substeps * self.setup.frame_rate
        dt = 1.0 / rate
        wobble, remarks = volume.reached(self.layer.name, value("wobble_rate"), rate, self.rate)
        notes += remarks + swing.settle_note(self.layer.name, wobble, self.settle_seconds, dt, self.setup.frame_rate)
        stiffness, damping_factor = swing.matched(wobble, self.settle_seconds, dt)
        young = volume.young_for(self.body, self.part.edge, stiffness, dt, self.softening)
        drag_factor = (1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * self.setup.frame_rate)
        self.weight = value("gravity") / 100.0 * swing.GRAVITY
        options = {
            "damping_factor": damping_factor,
            "drag_factor": drag_factor,
            "pressure": value("pressure") / 100.0,
            "settles": value("shape") == "pose",
            "surfaces": volume.pieces_of(self.part.lattice),
        }
        limit = MOST_PER_STEP * self.size() / dt
        self.self_contact = self._own_contacts(0.0)
        self.measure = SolidMeasure(self.part.lattice.nodes, self.part.lattice.tets)
        stretch = value("stretch_limit")
        options["longest"] = 1.0 + stretch / 100.0 if stretch < MOST_STRETCH else None
        self.model = solid.solid_model(self.body, self.part.lattice.tets, young, dt, speed_limit=limit, **options)

    @property
    def _keeps(self):
        return self.layer.value("volume_goal")

    def _pull(self, turned):
        down = np.array([0.0, -self.weight, 0.0])
        # Already sagging at rest: what the rest pose's own weight does is part of its shape.
        return down - turned @ down if self.layer.value("balance") == "rest" else down

    def measures(self, outputs):
        """As `Part.measures`: change of volume and greatest stretch [%], and both as keyed."""
        return self._measured(outputs, "volume")

    def ride_of(self, place):
        """Where a point [file units] of the rest pose is in it: corners (4,) of a tetrahedron and barycentric weights (4,)."""
        return lattices.corner_weights_at(self.part.lattice, np.asarray(place, float) * self.scale)
