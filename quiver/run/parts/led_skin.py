"""Tissue without flesh: the skin is pushed and pulled by the muscles under it, evened out. It costs next to nothing."""

from types import SimpleNamespace

import numpy as np

from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.run.parts.smoothing import Smoothing
from quiver.run.parts.soft_body import SoftBody
from quiver.run.parts.sources import fade_in, surface_of

FADE_EDGES = 2.0
"""It goes over into the skin around its region within so many edges."""


class LedSkin(SoftBody):
    """One layer of the kind tissue that is made of the skin alone. Its particles are the vertices themselves.

    under (UnderSurface) is what lies below, thickness (V,) [m] at each vertex of the mesh, after the units that move the muscles: what
    they add to their keyed motion leads the skin, in full down to the thickness, less from there on, nothing beyond the reach.
    """

    VARYING = ("before", "moved_before")
    INSIDE = ()
    is_cut, self_contact, own = False, None, 1

    def __init__(self, character, layer, setup, notes, under, after, thickness):
        super().__init__(character, layer, setup)
        self.under, self.after, self.index = under, after, character.mesh_index(self.region.mesh)
        mesh, levels = character.painted(self.region)
        surface, chosen = surface_of(character, mesh, self.scale), regions.is_in(levels)
        if not chosen.any():
            raise BadInput(f"“{self.region.name}”: expected at least one vertex in it, got none")
        rows = np.flatnonzero(chosen)
        deep, reach = thickness[rows], layer.value("reach") / 1000.0 or 3.0 * float(thickness.max())
        self.found, self.weights = np.full(len(rows), -1), np.zeros((len(rows), 3))
        if under.tree is not None:
            self.found, self.weights = under.tree.find(surface[rows], max(reach, float(deep.max())))
        self.near = np.flatnonzero(self.found >= 0)
        if not len(self.near):
            notes.append(f"{layer.name}: no muscle and no bone is near below it, so nothing moves it")
        self.corners = under.triangles[self.found[self.near]]
        spots = np.einsum("nc,nck->nk", self.weights[self.near], under.rest[self.corners])
        away = np.linalg.norm(surface[rows[self.near]] - spots, axis=1)
        beyond = np.clip((away - deep[self.near]) / np.maximum(reach - deep[self.near], 1e-9), 0.0, 1.0)
        self.leads = self.weights[self.near] * (1.0 - beyond)[:, None]
        corners, alone = np.repeat(np.arange(len(rows))[:, None], 4, axis=1), np.tile([1.0, 0.0, 0.0, 0.0], (len(rows), 1))
        lattice = SimpleNamespace(nodes=surface[rows], vertices=rows, corners=corners.astype(np.int32), corner_weights=alone)
        self.part = SimpleNamespace(lattice=lattice, mesh_index=self.index, surface=surface)
        top = topology(surface, mesh.triangles)
        edges = surface[mesh.triangles] - surface[np.roll(mesh.triangles, 1, axis=1)]
        self.blend = fade_in(top, chosen, rows, FADE_EDGES * float(np.median(np.linalg.norm(edges, axis=2))))
        self.smoothing = Smoothing(top, rows, int(layer.value("smoothing")))

    @property
    def follows(self):
        """As `Unit.follows`."""
        return self.under.nodes

    def digest_inputs(self):
        """As `Part.digest_inputs`."""
        return type(self).__name__, self.layer.values, self.region.mesh, self.region.values, self.leads.tobytes(), self.under.bones

    def substep_rate(self):
        """As `Unit.substep_rate`: it has no motion of its own."""
        return 0.0

    def meet(self, contacts, driven):
        """As `Unit.meet`: nothing; what it lies on keeps out of things."""
        self.contacts, self.met, self.skins_met, self.met_nodes = contacts, np.zeros(0, int), [], ()

    def compile(self, substeps, notes):
        """As `SoftBody.compile`: there is nothing to make."""

    def start(self, world):
        """As `SoftBody.start`."""
        self.moved_before = np.zeros((1, len(self.vertices), 3), np.float32)

    def jumps(self, frame_world):
        """As `Part.jumps`: it is where what is below is."""
        return np.zeros(len(frame_world), bool)

    def simulate(self, frames, jumped, every, threads=None):
        """As `Part.simulate`: "moves" as `SoftBody.simulate` has them."""
        world = frames.world[frames.ends]
        added = self.under.positions(world, frames.results) - self.under.positions(world, {})
        moves = np.zeros((len(world), len(self.vertices), 3), np.float32)
        moves[:, self.near] = np.einsum("nc,fnck->fnk", self.leads, added[:, self.corners])
        moves = np.concatenate([self.moved_before, moves])
        self.moved_before = moves[-1:]
        return {"moves": moves}

    def slowest(self):
        """As `SoftBody.slowest`: nothing. Raises BadInput."""
        raise BadInput(f"“{self.layer.name}” is made of the skin alone, so nothing of it swings by itself")

    def is_soft_at(self, mesh, vertex):
        """As `SoftBody.is_soft_at`: hands bend joints through it."""
        return False

    def _own_offsets(self, outputs, amounts):
        return self.smoothing.of(super()._own_offsets(outputs, amounts), self.blend)

    def measures(self, outputs):
        """As `Part.measures`: it has no volume to change."""
        return {}
