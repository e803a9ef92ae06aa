"""What of the visible skin touches for chains: a few vertices for each segment, carried as the skin will be."""

import numpy as np

from quiver.bodies.inner import outer_meshes
from quiver.kernels.samples import place_samples
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through, subset

MOSTLY = 0.5
"""A vertex of which a chain moves more than this share touches for it."""
PER_SEGMENT = 48
"""Vertices of a segment that touch, at the most: as far apart as may be."""


class SkinSamples:
    """R samples of C chains of n segments: vertices that they carry; where a chain carries none, the middles and ends of its segments.

    chain, segment (R,) whose each is; thickness (R,) [m] around it; carried (R,) what share of it the chain moves. ``points_of`` gives
    the chains' points (S, C, n + 1, 3) [m] in node matrices (S, J, 3, 4); drivers (C, n) the nodes that turn the segments, counts (C,) how
    many are its own; thickness (C, n + 1) [m]; ``bare`` chains (bool (C,)) touch with their middle line whatever they carry; tree (Tree)
    says which grow on others
    """

    def __init__(self, character, scale, points_of, drivers, counts, thickness, bare, tree):
        self.scale, self.points_of, self.grows_on = scale, points_of, np.array(tree.grows_on)
        rest = rest_matrices(character.skeleton)[None]
        self.parts, chains, segments, slots, shares = [], [], [], [], []
        segment_of = _segments(character.skeleton, drivers, counts)
        for _, mesh in outer_meshes(character):
            vertices, chain, segment, own_slots, own_shares = _carried(mesh, segment_of, bare)
            if not len(vertices):
                continue
            positions = scale * skinned_through(subset(mesh, vertices), rest)[0]
            kept = _apart(positions, chain * drivers.shape[1] + segment)
            self.parts.append(subset(mesh, vertices[kept]))
            chains.append(chain[kept])
            segments.append(segment[kept])
            slots.append(own_slots[kept])
            shares.append(own_shares[kept])
        wide = max((each.shape[1] for each in slots), default=1)
        self.slots, self.shares = (
            np.concatenate([np.zeros((0, wide), kind), *(np.pad(each, ((0, 0), (0, wide - each.shape[1]))) for each in values)])
            for values, kind in ((slots, int), (shares, float))
        )
        carrying = np.unique(np.concatenate([np.zeros(0, int), *chains]))
        # The middle and the end of each segment of the others, which go with their points.
        lines = [(c, i) for c in np.setdiff1d(np.arange(len(drivers)), carrying) for i in range(counts[c])]
        lines = np.array(lines, int).reshape(-1, 2).repeat(2, axis=0)
        self.along = np.tile([0.5, 1.0], len(lines) // 2)
        self.chain = np.concatenate([*chains, lines[:, 0]]).astype(int)
        self.segment = np.concatenate([*segments, lines[:, 1]]).astype(int)
        around = thickness[lines[:, 0], lines[:, 1] + 1]
        before = thickness[lines[:, 0], lines[:, 1]]
        self.thickness = np.concatenate([np.zeros(len(self.slots)), np.where(self.along < 1.0, 0.5 * (before + around), around)])
        self.carried = np.concatenate([self.shares.sum(1), np.ones(len(lines))])
        self.rest = self.simulated(self.keyed(rest)[0], points_of(rest)[0], points_of(rest)[0])

    def keyed(self, world):
        """Where those that are skin are keyed (S, R', 3) [m] in node matrices (S, J, 3, 4)."""
        return np.concatenate([np.zeros((len(world), 0, 3)), *(self.scale * skinned_through(part, world) for part in self.parts)], axis=1)

    def simulated(self, keyed, keyed_points, points):
        """Where all are (R, 3) [m], as the skin will be: keyed (R', 3) at keyed_points (C, n + 1, 3), the chains now at points.

        The roots of branches are moved in ``points`` to where they are carried.
        """
        places, turns = np.empty((len(self.chain), 3)), np.empty((points.shape[0], points.shape[1] - 1, 4))
        place_samples(
            keyed, keyed_points, points, self.grows_on, self.chain, self.segment, self.slots, self.shares, self.along, turns, places
        )
        return places


def _segments(skeleton, drivers, counts):
    """(J, 2): the chain and segment that each node goes with, -1 for none."""
    found = np.full((len(skeleton), 2), -1)
    for chain, count in enumerate(counts):
        for segment in range(count):
            found[skeleton.below(int(drivers[chain, segment]))] = chain, segment
    return found


def _carried(mesh, segment_of, bare):
    """(vertices (n,), chain (n,), segment (n,), slots (n, I) the segments that carry them, shares (n, I)) of what chains carry most of."""
    count = len(mesh.positions)
    if mesh.skin < 0:
        joints, weights = np.full((count, 1), mesh.node), np.ones((count, 1))
    else:
        joints, weights = mesh.joints, mesh.weights.astype(float)
    chains, segments = np.moveaxis(segment_of[joints], -1, 0)
    weights = np.where((chains >= 0) & ~bare[chains], weights, 0.0)
    # Where several chains carry a vertex, it goes with the one that carries most of it at once.
    heaviest = weights.argmax(1)[:, None]
    chain, segment = (np.take_along_axis(each, heaviest, 1)[:, 0] for each in (chains, segments))
    shares = np.where(chains == chain[:, None], weights, 0.0)
    vertices = np.flatnonzero(shares.sum(1) > MOSTLY)
    return vertices, chain[vertices], segment[vertices], np.maximum(segments[vertices], 0), shares[vertices]


def _apart(positions, groups):
    """Which (rows) of positions (n, 3) are kept: of each group (n,) a few, each the farthest from those before."""
    kept = []
    for group in np.unique(groups):
        rows = np.flatnonzero(groups == group)
        if len(rows) > PER_SEGMENT:
            own = positions[rows]
            chosen = [int(np.argmax(np.linalg.norm(own - own.mean(0), axis=1)))]
            away = np.linalg.norm(own - own[chosen[0]], axis=1)
            while len(chosen) < PER_SEGMENT:
                chosen.append(int(np.argmax(away)))
                away = np.minimum(away, np.linalg.norm(own - own[chosen[-1]], axis=1))
            rows = rows[chosen]
        kept.append(np.sort(rows))
    return np.concatenate(kept) if kept else np.zeros(0, int)
