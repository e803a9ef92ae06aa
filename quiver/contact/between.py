"""What the muscles of one solid meet of each other: they keep apart and slide."""

import numpy as np
from scipy import sparse

from quiver.kernels import between as kernel
from quiver.kernels.nearest import blend, vertex_normals
from quiver.mesh.nearest import NearestOn
from quiver.sim.varying import Varying
from quiver.threads import split

NEAR, DEEP, WORTH_A_THREAD = 0.004, 0.03, 512
"""What is so close is looked at besides how far it moves [m]; deeper inside of another than the second nothing is looked for."""
ASTRAY = 0.5
"""By this share of its length a way may lead elsewhere than is thought."""
LET_OUT = 0.12
"""By which share of its depth a point that began inside of another is let out in a frame."""
CROSSED = 0.002
"""Muscles that cross by so much at rest are listed [m]."""


def may_meet(gaps, normals, ways, near):
    """Whether what is so far in front of something, gaps (M,) [m], may come as ``near`` to it, which looks along normals (M, 3), on one of
    some ways (M, 3) each that it goes against it.
    """
    least = gaps
    for way in ways:
        least = np.minimum(least, gaps + np.einsum("mk,mk->m", way, normals) - ASTRAY * np.linalg.norm(way, axis=1))
    return least < near


def _carrying(corners, weights, count):
    """The matrix (V, N) that carries V points at corners (V, 4), by weights (V, 4), among so many particles."""
    rows = np.repeat(np.arange(len(corners)), corners.shape[1])
    return sparse.csr_matrix((weights.ravel(), (rows, corners.ravel())), shape=(len(corners), count))


class BetweenMuscles(Varying):
    """Surfaces of several muscles as one: V vertices, each of which particles carry by corners int (V, 4) and weights (V, 4).

    rest (N, 3) [m] the particles at rest; triangles int (F, 3); owners (V,) which muscle a vertex is of; may (V,) which touch
    """

    VARYING = ("inside",)

    def __init__(self, rest, triangles, corners, weights, owners, may):
        self.corners, self.weights, self.owners = corners, weights, owners
        self.rows, self._carrying = np.flatnonzero(may), _carrying(corners, weights, len(rest))
        points = self._places(rest)
        self.tree, self.face_owners = NearestOn(points, triangles), owners[triangles[:, 0]].astype(np.int64)
        self.node_owners = np.empty(2 * len(self.tree.starts) - 3, np.int64)
        kernel.own_nodes(self.face_owners, self.tree.order, self.tree.starts, self.node_owners)
        self.at_rest = self._look(points, np.full(len(self.rows), DEEP))
        self.start()

    def start(self):
        """Begin as at rest."""
        self.inside = self.at_rest[1] < 0.0

    def crossed(self):
        """{(muscle, muscle): how deep they cross at rest [m]}."""
        found, depths, _, _ = self.at_rest
        out = {}
        for row, (face, depth) in enumerate(zip(found, depths, strict=True)):
            if face >= 0 and depth < -CROSSED:
                pair = tuple(sorted((int(self.owners[self.rows[row]]), int(self.face_owners[face]))))
                out[pair] = max(out.get(pair, 0.0), -float(depth))
        return out

    def _places(self, positions):
        return self._carrying @ positions

    def _look(self, points, limits):
        """(faces (R,), signed distances (R,), weights (R, 3), normals (R, 3)) of what is nearest of others to the points that touch."""
        tree, asked = self.tree, np.ascontiguousarray(points[self.rows])
        found, weights = np.empty(len(asked), np.int64), np.empty((len(asked), 3))
        mine = self.owners[self.rows].astype(np.int64)
        arrays = (tree.points, tree.triangles, tree.order, tree.starts, tree.boxes, self.face_owners, self.node_owners)
        split(lambda first, end: kernel.find_other(first, end, asked, mine, limits, *arrays, found, weights), len(asked), WORTH_A_THREAD)
        normals = np.empty_like(tree.points)
        vertex_normals(tree.points, tree.triangles, normals)
        spots, looks = np.empty((len(asked), 3)), np.empty((len(asked), 3))
        blend(tree.points, normals, tree.triangles, found, weights, spots, looks)
        distances = np.where(found >= 0, np.einsum("rk,rk->r", asked - spots, looks), np.inf)
        return found, distances, weights, looks

    def touches(self, positions, likely):
        """As `push_apart` takes it: particles at positions (N, 3) that in this frame go one of the ways ``likely``, (N, 3) each."""
        # All at once, for what is read is the same.
        points, *ways = np.split(self._places(np.column_stack([positions, *likely])), 1 + len(likely), axis=1)
        points = np.ascontiguousarray(points)
        self.tree.move(points)
        travel = np.max([np.linalg.norm(way[self.rows], axis=1) for way in ways], axis=0)
        limits = np.where(self.inside, DEEP, np.minimum(NEAR + 2.0 * travel, DEEP))
        found, distances, weights, looks = self._look(points, limits)
        theirs = self.tree.triangles[found]
        apart = [way[self.rows] - np.einsum("rc,rck->rk", weights, way[theirs]) for way in ways]
        near = (found >= 0) & may_meet(distances, looks, apart, NEAR)
        is_in = near & (distances < 0.0)
        # What began inside, or could not be kept out, comes out little by little; what was outside stays so.
        keeps = np.where(is_in & self.inside, (1.0 - LET_OUT) * distances, 0.0)
        self.inside = is_in
        on = np.flatnonzero(near)
        rows, faces = self.rows[on], self.tree.triangles[found[on]]
        own = self.corners[rows], self.weights[rows]
        theirs = self.corners[faces].reshape(len(on), 12), -(weights[on][:, :, None] * self.weights[faces]).reshape(len(on), 12)
        corners, shares = np.concatenate([own[0], theirs[0]], axis=1).astype(np.int32), np.concatenate([own[1], theirs[1]], axis=1)
        return distances[on] - keeps[on], corners, shares, looks[on]
