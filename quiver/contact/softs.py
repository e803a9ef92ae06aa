"""What soft bodies meet, solids and sheets: simple colliders and skins."""

import numpy as np

from quiver.contact.contacts import ColliderTracks, joined
from quiver.contact.posed import nearby
from quiver.contact.skins import NEAR, SkinContacts
from quiver.kernels import contacts as kernel
from quiver.kernels.carrying import carry
from quiver.sim.packing import surface_contacts_in_lanes
from quiver.sim.solid import NO_HELD, NO_PAIRS, NO_SURFACE_CONTACT_LANES, NO_SURFACE_CONTACTS
from quiver.sim.varying import Varying


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
