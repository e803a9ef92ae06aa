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
    """A point that goes where a soft volume goes; ``place`` [file units] in the rest pose.

    ``carriers`` are the soft bodies that move it.
    """

    def __init__(self, volume, place):
        self.carriers, self.point = [volume], volume.ride_of(place)
        self.nodes = ()

    @property
    def is_free(self):
        """Whether the particles around it move at all."""
        return bool(self.carriers[0].body.is_free[self.point[0]].any())

    @property
    def digest_inputs(self):
        """What decides where it is carried, besides its carriers' results."""
        return "flesh", self.point

    def moved(self, positions, world, moves, amounts, per_frame):
        """Where positions (S, 3) [file units] go, and how they are turned (S, 3, 3), None for not at all.

        world    (S, J, 3, 4) as keyed so far, so many samples for each of the latest frames
        moves    {layer id: (F + 1, N, 3)} of the carriers, amounts {layer id: (S,)}
        """
        volume = self.carriers[0]
        shift = volume.shifts(moves[volume.layer.id], *self.point, per_frame)
        return positions + amounts[volume.layer.id][:, None] * shift, None


class FollowerRide:
    """A frame over picked points of a surface. Raises BadInput where the follower does not fit the character."""

    def __init__(self, character, follower, soft_bodies):
        mesh = character.mesh(follower.mesh)
        vertices = np.array(follower.vertices, int)
        if not len(vertices) or vertices.max() >= len(mesh.positions) or vertices.min() < 0:
            raise BadInput(f"follower “{follower.name}”: expected vertices of “{follower.mesh}”, from 0 to {len(mesh.positions) - 1}")
        self.mesh, self._carried, self.follower = subset(mesh, vertices), [], follower
        index = character.mesh_index(follower.mesh)
        for body in soft_bodies:
            own = np.flatnonzero(np.isin(vertices, body.vertices)) if body.mesh_index == index else []
            if len(own):
                rows = np.searchsorted(body.vertices, vertices[own])
                self._carried.append((body, own, rows))
        self.carriers = [body for body, _, _ in self._carried]
        self.nodes = tuple(self.mesh.carriers)
        rest = skinned_through(self.mesh, rest_matrices(character.skeleton)[None])[0]
        spread = np.linalg.svd(rest - rest.mean(0), compute_uv=False)
        self.rotations = len(vertices) >= FEWEST_FOR_A_TURN and spread[1] > FLAT * spread[0]

    @property
    def is_free(self):
        """Whether anything moves its points."""
        return bool(self.carriers)

    @property
    def digest_inputs(self):
        """As `FleshRide.digest_inputs`."""
        return "points", self.follower.mesh, self.follower.vertices

    def moved(self, positions, world, moves, amounts, per_frame):
        """As `FleshRide.moved`."""
        keyed = skinned_through(self.mesh, world)
        now = keyed.copy()
        for body, own, rows in self._carried:
            lattice, weight = body.part.lattice, amounts[body.layer.id]
            for point, row in zip(own, rows, strict=True):
                shift = body.shifts(moves[body.layer.id], lattice.corners[row], lattice.corner_weights[row], per_frame)
                now[:, point] += (body.blend[row] * weight)[:, None] * shift
        before, after = keyed.mean(1), now.mean(1)
        if not self.rotations:
            return positions + after - before, None
        turn = _best_rotations(keyed - before[:, None], now - after[:, None])
        return after + np.einsum("sij,sj->si", turn, positions - before), turn


def _best_rotations(before, after):
    """The rotations (S, 3, 3) that take points (S, n, 3) nearest to others (Kabsch 1976)."""
    left, _, right = np.linalg.svd(np.einsum("sni,snj->sij", after, before))
    left[:, :, 2] *= np.linalg.det(left @ right)[:, None]
    return left @ right
