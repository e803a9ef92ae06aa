"""What a soft body meets of itself: the folds of a sheet, and parts of a solid that are no neighbours."""

import numpy as np
from scipy.spatial import KDTree

from quiver.contact.skins import NEAR
from quiver.kernels.folds import find_folds
from quiver.mesh.topology import neighbours_across
from quiver.sim.varying import Varying

OWN_SPACING, OWN_NEIGHBOURS, FARTHEST_OWN = 0.8, 2.2, 1.5
"""Particles of one solid keep so many edges apart; closer at rest than so many they are neighbours; and no more of those are looked at."""
OWN_FRICTION = 0.3
"""Coefficient of friction of a soft body with itself."""
LEAST_FOLD, FARTHEST_FOLD, ROOM, MOST_CELLS = 0.05, 1.0, 32, 64
"""A sheet is at least so thick to itself, and looked for no farther off, in shares of an edge; so many folds there is room for at first,
for each particle; and the grid in which they are looked up has no more cells along any side."""


class FoldContacts(Varying):
    """What a sheet meets of itself: particles (N, 3) at rest [m], triangles (F, 3), edges (E, 2), ``thickness`` [m].

    Vertices keep off triangles, and edges off edges, by the thickness, or as far as at rest where that is less. On which side of a
    triangle or an edge something was is remembered from one look to the next, so that what slipped through goes back.
    """

    VARYING = ("sides",)

    def __init__(self, rest, triangles, edges, thickness):
        self.rest, self.triangles, self.edges = np.ascontiguousarray(rest, float), triangles.astype(np.int32), edges.astype(np.int32)
        lengths = np.linalg.norm(rest[edges[:, 1]] - rest[edges[:, 0]], axis=1)
        self.edge, self.longest = float(lengths.mean()), float(lengths.max())
        self.distance = max(thickness, LEAST_FOLD * self.edge)
        self._beside, self._room = _beside(self.triangles, len(rest)), ROOM * len(rest)
        self.start()

    def start(self):
        """Begin with nothing remembered."""
        self.sides = np.zeros(0, np.int64)

    def touches(self, state, keyed_moves, seconds):
        """As `push_folds` takes it; keyed_moves (N, 3) [m] of the particles in so many seconds."""
        positions = state.positions
        reach = np.linalg.norm(keyed_moves - keyed_moves.mean(0), axis=1)
        reach += np.linalg.norm(state.velocities[:, :3] - state.velocities[:, :3].mean(0), axis=1) * seconds
        # What is calm may still snap over, or be pushed by others.
        reach = np.clip(1.5 * reach, self.distance, max(FARTHEST_FOLD * self.edge, self.distance))
        low, high = positions.min(0), positions.max(0)
        size = max(1.2 * self.longest + 2.0 * float(reach.max(initial=0.0)) + self.distance, float(np.max(high - low)) / MOST_CELLS)
        grid = low, size, np.maximum(np.ceil((high - low) / size + 1e-9), 1.0).astype(np.int64)
        while True:
            room = self._room
            folds = np.empty((room, 4), np.int32), np.empty((room, 4)), np.empty((room, 3)), np.empty((room, 2)), np.empty(room, np.int64)
            shape = positions, self.rest, self.triangles, self.edges, self._beside
            count = find_folds(*shape, self.distance, self.edge, reach, grid, *folds)
            if count <= room:
                *folds, keys = (each[:count] for each in folds)
                self._turn_back(folds[2], folds[3], keys)
                return (*folds, OWN_FRICTION)
            self._room = 2 * count

    def _turn_back(self, normals, gaps, keys):
        """What a look ago was over the same triangle, or across the same edge, but on the other side, slipped through: it is to go back."""
        slipped = np.flatnonzero((keys >= 0) & np.isin(keys ^ 1, self.sides))
        normals[slipped] *= -1.0
        gaps[slipped, 0] *= -1.0
        keys[slipped] ^= 1
        self.sides = keys[keys >= 0]


def _beside(triangles, count):
    """What is around each triangle (F, 3) and each of so many particles, as `is_tip` of kernels/folds.py takes it."""
    faces = neighbours_across(triangles)
    others = triangles[faces]
    shared = (others[..., None] == triangles[:, None, None, :]).any(3)
    across = np.where(faces >= 0, np.where(shared, -1, others).max(2), -1).astype(np.int32)
    its = np.repeat(np.arange(len(triangles)), 6)
    corners, around = triangles[:, [0, 0, 1, 1, 2, 2]].ravel(), triangles[:, [1, 2, 0, 2, 0, 1]].ravel()
    order = np.argsort(corners, kind="stable")
    starts = np.searchsorted(corners[order], np.arange(count + 1))
    return across, starts, np.stack([its, around], 1)[order].astype(np.int32)


class OwnContacts(Varying):
    """What a soft body meets of itself: particles (N, 3) at rest [m], ``edge`` apart on average, that are no neighbours.

    They keep as far apart as the body is thick, or so far that none slips through between others; what is closer at rest may stay so.
    own int (n,) are the particles that may touch at all; pieces (N,) say which hang together: those of two are never neighbours.
    """

    def __init__(self, rest, edge, thickness, own=None, pieces=None):
        self.rest, self.contact_distance, self.neighbours = rest, max(thickness, OWN_SPACING * edge), OWN_NEIGHBOURS * edge
        self.own = np.arange(len(rest)) if own is None else own
        self.pieces = np.zeros(len(rest), int) if pieces is None else pieces

    def start(self):
        """As `FoldContacts.start`: of it nothing is remembered."""

    def touches(self, state, keyed_moves, seconds):
        """As `push_pairs` takes it; keyed_moves (N, 3) [m] of the particles in a frame of so many seconds."""
        positions = state.positions
        travel = np.linalg.norm(keyed_moves - keyed_moves.mean(0), axis=1)
        travel += np.linalg.norm(state.velocities[:, :3] - state.velocities[:, :3].mean(0), axis=1) * seconds
        # What is fast may be looked up too late; it must still not cost a look at everything.
        around = self.contact_distance + NEAR + min(2.0 * float(travel.max(initial=0.0)), FARTHEST_OWN * self.neighbours)
        pairs = self.own[KDTree(positions[self.own]).query_pairs(around, output_type="ndarray")].astype(np.int32)
        first, second = pairs[np.lexsort(pairs.T[::-1])].T
        at_rest = np.linalg.norm(self.rest[first] - self.rest[second], axis=1)
        between = positions[second] - positions[first]
        near = np.linalg.norm(between, axis=1) < self.contact_distance + NEAR + 1.5 * (travel[first] + travel[second])
        kept = near & ((at_rest > self.neighbours) | (self.pieces[first] != self.pieces[second]))
        pairs = np.ascontiguousarray(np.stack([first, second], 1)[kept])
        return pairs, np.ascontiguousarray(between[kept]), np.minimum(self.contact_distance, at_rest[kept]), OWN_FRICTION
