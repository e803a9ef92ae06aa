"""A sheet in a run: the soft surface of one layer, such as a garment, a fin or a flap."""

import numpy as np

from quiver.bodies import chain as swing
from quiver.measure.sheets import SheetMeasure
from quiver.parts import sheet_part_of
from quiver.sim import solid
from quiver.sim.bounds import MOST_PER_STEP
from quiver.softs import Soft

BODY_DIALS = ("loose", "hold_gain", "hold_offset", "give", "bending_length", "hold_rate")
FINE = 0.1
"""A cord softer than this share of its ends' own give is hardly stiffened any more by what the dial says."""
CLOTH_RATE = 288.0
"""Substeps a second: 12 a frame at 24. With fewer, one pass over a fine sheet leaves it longer than it should be."""


class Sheet(Soft):
    """One sheet layer in a run."""

    rate = CLOTH_RATE

    def __init__(self, character, layer, setup, notes):
        super().__init__(character, layer, setup)
        self.part = sheet_part_of(character, setup.region(layer.region), self.scale)
        self.body, loose = self.part.body(*(layer.value(name) for name in BODY_DIALS))
        self.seam = np.ones(len(self.part.lattice.vertices))
        if loose:
            notes.append(f"{layer.name}: nothing holds {'a piece' if loose == 1 else f'{loose} pieces'} of it; it lies where it falls")

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame."""
        value, rate = self.layer.value, substeps * self.setup.frame_rate
        dt = 1.0 / rate
        _, keep = swing.matched(0.0, self.settle_seconds, dt)
        air = (1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * self.setup.frame_rate)
        ends = self.body.edges[self.body.is_free[self.body.edges].all(1)]
        weights = 1.0 / self.body.masses
        if len(ends) and np.median(1.0 / self.body.stiffness) < FINE * dt**2 * np.median(weights[ends].sum(1)):
            notes.append(f"{self.layer.name}: its mesh is so fine that it gives more than asked; a coarser one would hold better")
        self.measure = SheetMeasure(self.part.lattice.nodes, self.part.triangles, self.body.edges)
        self.model = solid.sheet_model(self.body, dt, keep=keep, air=air, speed_limit=MOST_PER_STEP * self.size() / dt)

    def _pull(self, turned):
        down = np.array([0.0, -self.layer.value("gravity") / 100.0 * swing.GRAVITY, 0.0])
        pressure = self.layer.value("pressure") / 100.0 * swing.GRAVITY
        return down + pressure * self._normals() if pressure else down

    def _normals(self):
        """Where its outside looks, at each particle (N, 3), as it stands."""
        places, faces = self.state.positions, self.part.triangles
        across = np.cross(places[faces[:, 1]] - places[faces[:, 0]], places[faces[:, 2]] - places[faces[:, 0]])
        out = np.zeros_like(places)
        for corner in range(3):
            np.add.at(out, faces[:, corner], across)
        return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-30)

    def _surface(self):
        nodes = self.part.lattice.nodes
        free = np.flatnonzero(self.body.is_free)
        corners, shares = np.repeat(free[:, None], 4, 1), np.tile([1.0, 0.0, 0.0, 0.0], (len(free), 1))
        return nodes[free], corners, shares, 0.5 * self.layer.value("thickness") / 1000.0
