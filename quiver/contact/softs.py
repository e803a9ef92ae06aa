"""What soft bodies meet, solids and sheets: simple colliders, skins, and a sheet itself."""

import numpy as np
from scipy.spatial import KDTree

from quiver.contact.contacts import ColliderTracks, joined
from quiver.contact.posed import nearby
from quiver.contact.skins import NEAR, SkinContacts
from quiver.kernels import contacts as kernel
from quiver.kernels.carrying import carry
from quiver.kernels.folds import find_folds
from quiver.sim.packing import surface_contacts_in_lanes
from quiver.sim.solid import NO_HELD, NO_PAIRS, NO_SURFACE_CONTACT_LANES, NO_SURFACE_CONTACTS
from quiver.sim.varying import Varying

OWN_SPACING, OWN_NEIGHBOURS, FARTHEST_OWN = 0.8, 2.2, 1.5
"""Particles of one sheet keep so many edges apart; closer at rest than so many they are neighbours; and no more of those are looked at."""
OWN_FRICTION = 0.3
"""Coefficient of friction of a sheet with itself."""
LEAST_FOLD, FARTHEST_FOLD, ROOM, MOST_CELLS = 0.05, 1.0, 16, 64
"""A sheet is at least so thick to itself, and looked for no farther off, in shares of an edge; so many folds there is room for at first,
for each particle; and the grid in which they are looked up has no more cells along any side."""


class Carried:
    """R points that particles carry: corners int (R, 4) and corner_weights (R, 4)."""

    def __init__(self, corners, corner_weights):
        self.corners, self.corner_weights = np.ascontiguousarray(corners, np.int32), np.ascontiguousarray(corner_weights, float)
        self.is_single = bool((self.corner_weights[:, 0] == 1.0).all())

    def look(self, state, keyed_moves, seconds):
        """Where the points of a SolidState are (R, 3) [m], and how far each may move (R,) [m] in so many seconds in which its keyed place
        moves by those of the particles, (N, 3)."""
        places, travel = np.empty((len(self.corners), 3)), np.empty(len(self.corners))
        carry(self.corners, self.corner_weights, state.positions, state.velocities, keyed_moves, float(seconds), places, travel)
        return places, travel


class SurfaceContacts(ColliderTracks):
    """What a soft body's surface meets of the simple shapes: L of the colliders.

    met      the colliders (indices); carried (Carried) its points, surface (R, 3) they in the rest pose, thickness around them [m]
    """

    def __init__(self, contacts, met, carried, surface, thickness):
        super().__init__(contacts, met)
        self.carried = carried
        self.contact_distances = contacts.contact_distances(surface, np.full(len(surface), thickness))[:, met]

    def ready(self, world, jumped, per_frame, stride=1):
        """Take the node matrices (S, J, 3, 4) of some frames, every ``stride`` samples as one step."""
        rows = self.rows(world, jumped, per_frame)
        self._steps = rows[stride - 1 :: stride]
        # A step ago they were where the first sample of the stride says.
        self._steps[:, :, 12:] = rows[::stride, :, 12:]

    def touches(self, steps, positions, travel):
        """What may touch in some steps (a slice), as `push_held` takes it, of its points at positions (R, 3), each of which may move so far
        in them, travel (R,) [m]."""
        frames, carried = self._steps[steps], self.carried
        rows, which = np.empty((2, len(positions) * len(self.met)), np.int64)
        count = kernel.near_shapes(
            positions, travel, frames[0], frames[-1], self.shapes, self.contact_distances, NEAR, self._leaps(frames), rows, which
        )
        rows, which = rows[:count], which[:count]
        arrays = (
            positions[rows],
            carried.corners[rows],
            carried.corner_weights[rows],
            which.astype(np.int32),
            self.contact_distances[rows, which],
        )
        return (*arrays, np.ascontiguousarray(frames).reshape(-1, kernel.FRAME), self.shapes)

    def _leaps(self, frames):
        """How far each collider (L,) goes in a frame [m], where it could leap over a point; 0 where it is too thick for that."""
        centres = np.concatenate([frames[:1, :, 12:15], frames[:, :, :3]])
        leaps = np.linalg.norm(centres - centres[0], axis=2).max(0)
        return np.where(leaps > 2.0 * self.contact_distances.max(0, initial=0.0), leaps, 0.0)


class SoftContacts(Varying):
    """All that a soft body meets. ``met`` the simple colliders (indices), ``skins`` (Skins); others as SurfaceContacts."""

    INSIDE = ("shapes", "skins")

    def __init__(self, contacts, met, skins, surface, corners, corner_weights, thickness):
        # Points that are near to each other are asked about together.
        order = nearby(surface)
        surface, self.carried = surface[order], Carried(corners[order], corner_weights[order])
        self.shapes = SurfaceContacts(contacts, met, self.carried, surface, thickness) if len(met) else None
        self.skins = [SkinContacts(skin, surface, thickness) for skin in skins]
        self.nodes = contacts.nodes_of(met, skins)

    @property
    def _parts(self):
        return [*([self.shapes] if self.shapes else []), *self.skins]

    def start(self, world, dt):
        """Begin in node matrices (J, 3, 4), for substeps of ``dt`` [s]."""
        self.dt = dt
        for part in self._parts:
            part.start(world)

    def ready(self, world, jumped, per_frame, skin_world=None, stride=1, looks=1):
        """Take the node matrices (S, J, 3, 4) of some frames, every ``stride`` samples as one; skin_world where skins are, if not there;
        it is asked so many times a frame."""
        self.steps, self.looks = per_frame // stride, looks
        if self.shapes:
            self.shapes.ready(world, jumped, per_frame, stride)
        for skin in self.skins:
            skin.ready(world if skin_world is None else skin_world, jumped, per_frame, looks)

    def touches(self, frame, state, keyed_moves, look=0, threads=1):
        """What may touch until the next look of a frame, as `advance` of sim/solid.py takes it; keyed_moves (N, 3) [m] of the particles in
        that time. What it is does not depend on ``threads``."""
        carried, steps = self.carried, self.steps // self.looks
        positions, travel = carried.look(state, keyed_moves, steps * self.dt)
        first = frame * self.steps + look * steps
        held = self.shapes.touches(slice(first, first + steps), positions, travel) if self.shapes else NO_HELD
        surface_contacts = []
        for skin in self.skins:
            rows, *near = skin.surface_contacts(frame, positions, travel, look, threads)
            surface_contacts.append((positions[rows], carried.corners[rows], carried.corner_weights[rows], *near))
        if not carried.is_single:
            return held, joined(surface_contacts, NO_SURFACE_CONTACTS), NO_SURFACE_CONTACT_LANES, NO_PAIRS
        # What is one particle each goes sixteen at a time; each skin begins a block, so that none has a particle twice.
        return (
            held,
            NO_SURFACE_CONTACTS,
            joined([surface_contacts_in_lanes(each, len(state.positions)) for each in surface_contacts], NO_SURFACE_CONTACT_LANES),
            NO_PAIRS,
        )


class FoldContacts:
    """What a sheet meets of itself: particles (N, 3) at rest [m], triangles (F, 3), edges (E, 2), ``thickness`` [m].

    Vertices keep off triangles, and edges off edges, by the thickness, or as far as at rest where that is less.
    """

    def __init__(self, rest, triangles, edges, thickness):
        self.rest, self.triangles, self.edges = np.ascontiguousarray(rest, float), triangles.astype(np.int32), edges.astype(np.int32)
        lengths = np.linalg.norm(rest[edges[:, 1]] - rest[edges[:, 0]], axis=1)
        self.edge, self.longest = float(lengths.mean()), float(lengths.max())
        self.distance = max(thickness, LEAST_FOLD * self.edge)
        self._room = ROOM * len(rest)

    def touches(self, state, keyed_moves, seconds):
        """As `push_folds` takes it; keyed_moves (N, 3) [m] of the particles in so many seconds."""
        positions = state.positions
        reach = np.linalg.norm(keyed_moves - keyed_moves.mean(0), axis=1)
        reach += np.linalg.norm(state.velocities[:, :3] - state.velocities[:, :3].mean(0), axis=1) * seconds
        reach = np.minimum(1.5 * reach, FARTHEST_FOLD * self.edge)
        low, high = positions.min(0), positions.max(0)
        size = max(1.2 * self.longest + 2.0 * float(reach.max(initial=0.0)) + self.distance, float(np.max(high - low)) / MOST_CELLS)
        grid = low, size, np.maximum(np.ceil((high - low) / size + 1e-9), 1.0).astype(np.int64)
        while True:
            room = self._room
            folds = np.empty((room, 4), np.int32), np.empty((room, 4)), np.empty((room, 3)), np.empty((room, 2))
            shape = positions, self.rest, self.triangles, self.edges
            count = find_folds(*shape, self.distance, reach, grid, *folds)
            if count <= room:
                return (*(each[:count] for each in folds), OWN_FRICTION)
            self._room = 2 * count


class OwnContacts:
    """What a soft body meets of itself: particles (N, 3) at rest [m], ``edge`` apart on average, that are no neighbours.

    They keep as far apart as the body is thick, or so far that none slips through between others; what is closer at rest may stay so.
    own int (n,) are the particles that may touch at all; pieces (N,) say which hang together: those of two are never neighbours.
    """

    def __init__(self, rest, edge, thickness, own=None, pieces=None):
        self.rest, self.contact_distance, self.neighbours = rest, max(thickness, OWN_SPACING * edge), OWN_NEIGHBOURS * edge
        self.own = np.arange(len(rest)) if own is None else own
        self.pieces = np.zeros(len(rest), int) if pieces is None else pieces

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
