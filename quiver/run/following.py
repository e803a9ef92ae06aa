"""What rides on simulated flesh or cloth: a place in a solid, or a frame over a few points of a surface."""

import numpy as np

from quiver.errors import BadInput
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through, subset

FEWEST_FOR_A_TURN = 3
"""Points that say how a frame is turned; fewer only say where it is."""
FLAT = 1e-3
"""Points in a row, to this share of their length, do not say how it is turned about that row."""


class FleshRide:
    """A place that goes where a solid's flesh goes; ``place`` [file units] in the rest pose."""

    def __init__(self, solid, place):
        self.solid, self.ride = solid, solid.ride_of(place)

    @property
    def is_free(self):
        """Whether the flesh there moves at all."""
        return bool(self.solid.body.is_free[self.ride[0]].any())

    def moved(self, places, world, amounts, per_frame):
        """Where places (S, 3) [file units] go, and how they are turned (S, 3, 3), None for not at all.

        world (S, J, 3, 4) as keyed so far, so many samples for each of the latest frames; amounts {layer id: (S,)}
        """
        return places + amounts[self.solid.layer.id][:, None] * self.solid.shifts(self.ride, per_frame), None


class FollowerRide:
    """A frame over picked points of a surface. Raises BadInput where the follower does not fit the character."""

    def __init__(self, character, follower, solids):
        mesh = character.mesh(follower.mesh)
        vertices = np.array(follower.vertices, int)
        if not len(vertices) or vertices.max() >= len(mesh.positions) or vertices.min() < 0:
            raise BadInput(f"follower “{follower.name}”: expected vertices of “{follower.mesh}”, from 0 to {len(mesh.positions) - 1}")
        self.mesh, self.carriers = subset(mesh, vertices), []
        index = character.mesh_index(follower.mesh)
        for solid in solids:
            own = np.flatnonzero(np.isin(vertices, solid.vertices)) if solid.mesh_index == index else []
            if len(own):
                rows = np.searchsorted(solid.vertices, vertices[own])
                self.carriers.append((solid, own, rows))
        rest = skinned_through(self.mesh, rest_matrices(character.skeleton)[None])[0].astype(float)
        spread = np.linalg.svd(rest - rest.mean(0), compute_uv=False)
        self.turns = len(vertices) >= FEWEST_FOR_A_TURN and spread[1] > FLAT * spread[0]

    @property
    def is_free(self):
        """Whether anything moves its points."""
        return bool(self.carriers)

    def moved(self, places, world, amounts, per_frame):
        """As `FleshRide.moved`."""
        keyed = skinned_through(self.mesh, world).astype(float)
        now = keyed.copy()
        for solid, own, rows in self.carriers:
            lattice, weight = solid.part.lattice, amounts[solid.layer.id]
            for point, row in zip(own, rows, strict=True):
                shift = solid.shifts((lattice.corners[row], lattice.shares[row]), per_frame)
                now[:, point] += (solid.seam[row] * weight)[:, None] * shift
        before, after = keyed.mean(1), now.mean(1)
        if not self.turns:
            return places + after - before, None
        turn = _best_turns(keyed - before[:, None], now - after[:, None])
        return after + np.einsum("sij,sj->si", turn, places - before), turn


def _best_turns(before, after):
    """The rotations (S, 3, 3) that take points (S, n, 3) nearest to others (Kabsch 1976)."""
    left, _, right = np.linalg.svd(np.einsum("sni,snj->sij", after, before))
    left[:, :, 2] *= np.linalg.det(left @ right)[:, None]
    return left @ right
