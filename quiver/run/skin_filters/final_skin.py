"""The final skin: how much of all that was simulated each vertex shows, over the clip's own skin."""

import numpy as np

from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.rig.skinning import skinned_through, subset

SMOOTHINGS = 2
"""Rounds in which the painted map is evened out, so that no edge of the brush shows as a crease."""


class FinalSkin:
    """The final skin of one mesh. ``shown`` (V,) 0..1 what each vertex shows; ``vertices`` those it holds back though chains move them."""

    def __init__(self, character, region, turned):
        self.mesh, self.region = character.mesh(region.mesh), region
        self.mesh_index = character.mesh_index(region.mesh)
        levels = regions.decode(region.values, len(self.mesh.positions))
        # Here what is out is in with nothing: the keyed skin.
        levels = np.where(regions.is_in(levels), levels, 0).astype(np.uint8)
        levels = regions.smooth(levels, topology(self.mesh.positions, self.mesh.triangles), SMOOTHINGS)
        self.shown = regions.influences(levels)
        held_back = self.shown < 1.0
        if self.mesh.skin < 0:
            is_carried = np.full(len(held_back), self.mesh.node in turned)
        else:
            is_carried = (np.isin(self.mesh.joints, list(turned)) & (self.mesh.weights > 0.0)).any(1)
        self.vertices = np.flatnonzero(held_back & is_carried)

    @property
    def moved(self):
        """{mesh index: vertices} that it moves."""
        return {self.mesh_index: self.vertices}

    def digest_inputs(self):
        """Values that, with the skin that it gets, decide what it shows."""
        return "final skin", self.region.values

    def apply(self, offsets, moved, keyed_world, final_world):
        """Take back from offsets (F, R, 3), of the ``moved`` vertices (R,), in place, what is not to be seen.

        keyed_world, final_world (F, J, 3, 4) node matrices without and with what chains do
        """
        offsets *= self.shown[moved][:, None].astype(np.float32)
        if len(self.vertices):
            apart = self._positions(final_world) - self._positions(keyed_world)
            kept = (self.shown[self.vertices] - 1.0)[:, None]
            offsets[:, np.searchsorted(moved, self.vertices)] += (kept * apart).astype(np.float32)

    def _positions(self, world):
        return skinned_through(subset(self.mesh, self.vertices), world)


def final_skins(character, setup, turned):
    """The FinalSkins of a setup; ``turned`` are the nodes that chains move. Raises BadInput where one does not fit the character."""
    return [FinalSkin(character, region, turned) for region in setup.regions if region.is_final]
