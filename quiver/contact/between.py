"""What the muscles of one solid meet of each other: they keep apart and slide."""

import numpy as np

from quiver.contact.posed import corners_of_leaves, nearby
from quiver.kernels import between as kernel
from quiver.kernels.lanes import LANES, aligned
from quiver.kernels.nearest import build_tree, levels_of, vertex_normals
from quiver.kernels.posed import NOWHERE
from quiver.sim.packing import nobody
from quiver.sim.varying import Varying
from quiver.threads import split

NEAR, DEEP = 0.004, 0.03
"""What is so close is looked at besides how far it moves [m]; deeper inside of another than the second nothing is looked for."""
WORTH_A_THREAD = 32
"""Packets of points that are."""
LET_OUT = 0.12
"""By which share of its depth a point that began inside of another is let out in a frame."""
CROSSED = 0.002
"""Muscles that cross by so much at rest are listed [m]."""


class BetweenMuscles(Varying):
    """Surfaces of several muscles as one: V vertices, each of which particles carry by corners int (V, 4) and weights (V, 4).

    rest (N, 3) [m] the particles at rest, and their inverse masses (N,); triangles int (F, 3); owners (V,) which muscle a vertex is of;
    may (V,) which touch
    """

    VARYING = ("inside",)

    def __init__(self, rest, masses, triangles, corners, weights, owners, may):
        self.corners, self.weights = np.ascontiguousarray(corners, np.int32), np.ascontiguousarray(weights, float)
        self.masses, self._nobody = np.ascontiguousarray(masses, float), nobody(len(rest))
        points = np.einsum("vc,vck->vk", weights, rest[corners])
        self.rows, self._packets, self._pieces = _packets(points, owners, may)
        self.owners, self.forest = owners, _forest(points, np.ascontiguousarray(triangles, np.int32), owners)
        self._near_places = np.full((len(points) + 1, 4), NOWHERE, np.float32)
        self._boxes = np.empty((2 * len(self.forest.starts) - len(self.forest.roots), 6), np.float32)
        self._places = self._carry(rest, np.zeros((0, *rest.shape)))[0]
        self.at_rest = self._look(np.full(len(self.rows), DEEP))
        self.start()

    def start(self):
        """Begin as at rest."""
        self.inside = self.at_rest[2] < 0.0

    def crossed(self):
        """{(muscle, muscle): how deep they cross at rest [m]}."""
        found, _, depths, _ = self.at_rest
        out = {}
        for row in np.flatnonzero(depths < -CROSSED):
            pair = tuple(sorted(int(self.owners[vertex]) for vertex in (self.rows[row], self.forest.triangles[found[row], 0])))
            out[pair] = max(out.get(pair, 0.0), -float(depths[row]))
        return out

    def _carry(self, positions, ways):
        """Where the vertices are (V, 3) and how far they go (K, V, 3), of particles at positions (N, 3) that go ways (K, N, 3)."""
        count = len(self.corners)
        places, gone = np.empty((count, 3)), np.empty((len(ways), count, 3))
        kernel.carry_all(0, count, self.corners, self.weights, positions, ways, places, gone, self._near_places)
        return places, gone

    def _look(self, limits):
        """(triangles (R,), -1 for none, their second and third corners' shares (R, 2), signed distances (R,), normals (R, 3)) of what is
        nearest of others to the points that touch, within limits (R,)."""
        forest, count = self.forest, len(self.rows)
        kernel.fit(0, len(forest.roots) - 1, forest, self._near_places, self._boxes)
        found, shares = np.empty(count, np.int64), np.zeros((count, 2))
        asked = self._packets, self.rows, self._pieces, limits, forest, self._places, self._near_places, self._boxes, found, shares
        split(lambda first, end: kernel.find_others(first, end, *asked), len(self._pieces), WORTH_A_THREAD)
        normals, distances, looks = np.empty_like(self._places), np.empty(count), np.zeros((count, 3))
        vertex_normals(self._places, forest.triangles, normals)
        kernel.look_at(self.rows, found, shares, forest.triangles, self._places, normals, distances, looks)
        return found, shares, distances, looks

    def touches(self, positions, likely):
        """As `push_apart` takes it: particles at positions (N, 3) that in this frame go one of the ways ``likely``, (K, N, 3)."""
        self._places, gone = self._carry(positions, likely)
        limits, near = np.empty(len(self.rows)), np.empty(len(self.rows), bool)
        kernel.look_as_far(self.rows, gone, self.inside, NEAR, DEEP, limits)
        found, shares, distances, looks = self._look(limits)
        spots = self.rows, found, shares, self.forest.triangles
        kernel.may_meet(*spots, gone, distances, looks, NEAR, near)
        is_in = near & (distances < 0.0)
        # What began inside, or could not be kept out, comes out little by little; what was outside stays so.
        keeps = np.where(is_in & self.inside, (1.0 - LET_OUT) * distances, 0.0)
        self.inside, on = is_in, np.flatnonzero(near)
        particles, carried = np.full((len(on), LANES), self._nobody, np.int32), aligned((len(on), LANES))
        meetings = np.empty((len(on), kernel.EASE + 1), np.float32)
        carriers = self.corners, self.weights, self.masses
        kernel.pair_up(spots[0], on, *spots[1:], *carriers, (distances - keeps)[on], looks, particles, carried, meetings)
        return particles, carried, meetings


def _packets(points, owners, may):
    """Of vertices at points (V, 3) of some owners (V,) those that may (V,) touch: rows (R,), those near to each other together; where
    packets of sixteen of one owner begin in them, (P + 1,); and whose each is (P,)."""
    rows, starts, pieces = [], [0], []
    for owner in np.unique(owners[may]):
        own = np.flatnonzero(may & (owners == owner))
        rows.append(own[nearby(points[own])])
        starts += [starts[-1] + end for end in np.minimum(np.arange(LANES, len(own) + LANES, LANES), len(own))]
        pieces += [owner] * (len(starts) - 1 - len(pieces))
    return np.concatenate([np.zeros(0, np.int64), *rows]), np.array(starts), np.array(pieces, np.int64)


def _forest(points, triangles, owners):
    """The Forest of triangles (F, 3) of points (V, 3) of some owners (V,), 0 and up."""
    whose, ordered, starts, roots = owners[triangles[:, 0]], [], [np.zeros(1, np.int64)], [0]
    for owner in range(int(owners.max()) + 1):
        own = triangles[whose == owner]
        order, begins = build_tree(np.ascontiguousarray(points[own].mean(1)), levels_of(len(own), LANES))
        ordered.append(own[order])
        starts.append(starts[-1][-1] + begins[1:])
        roots.append(roots[-1] + len(begins) - 1)
    ordered, starts = np.concatenate(ordered), np.concatenate(starts)
    return kernel.Forest(ordered, starts, corners_of_leaves(ordered, starts, len(points)), np.array(roots))
