"""What rigid things meet: simple colliders and skins."""

import numpy as np

from quiver.contact.contacts import ColliderTracks, joined
from quiver.contact.posed import nearby
from quiver.contact.skins import SkinContacts
from quiver.kernels.carrying import carry_rigidly
from quiver.kernels.contacts import FRAME
from quiver.sim.rigid import NO_SURFACE_CONTACTS
from quiver.sim.varying import Varying


class PropContacts(Varying):
    """What a rigid thing meets. ``met`` the simple colliders (indices), ``skins`` (Skins), body (PropBody)."""

    INSIDE = ("shapes", "skins")

    def __init__(self, contacts, met, skins, body):
        middles, radii = body.balls[:, :3], body.balls[:, 3]
        self.shapes, self.order = ColliderTracks(contacts, met), nearby(middles)
        self.points = np.ascontiguousarray(body.own_balls[self.order, :3])
        self.contact_distances = np.ascontiguousarray(contacts.contact_distances(middles, radii)[:, met])
        self.skins = [SkinContacts(skin, middles[self.order], radii[self.order]) for skin in skins]
        self.nodes = contacts.nodes_of(met, skins)

    def start(self, world):
        """Begin in node matrices (J, 3, 4)."""
        for part in (self.shapes, *self.skins):
            part.start(world)

    def appear(self, world, nodes):
        """As `ColliderTracks.appear`."""
        self.shapes.appear(world, nodes)

    def ready(self, world, jumped, per_frame, skin_world=None):
        """Take the node matrices (S, J, 3, 4) of some frames; skin_world those of the skins, if others."""
        self._rows, self._per_frame = self.shapes.rows(world, jumped, per_frame), per_frame
        for skin in self.skins:
            skin.ready(world if skin_world is None else skin_world, jumped, per_frame)

    def touches(self, frame):
        """The colliders in a frame, as `advance` of sim/rigid.py takes them."""
        rows = self._rows[frame * self._per_frame : (frame + 1) * self._per_frame]
        return self.contact_distances, np.ascontiguousarray(rows).reshape(-1, FRAME), self.shapes.shapes

    def surface_contacts(self, frame, state, keyed, seconds):
        """What may touch of the skins in a frame of so many seconds, likewise; state (13,), keyed (7,) the place and turn at its end."""
        if not self.skins:
            return NO_SURFACE_CONTACTS
        places, travel = np.empty((len(self.points), 3)), np.empty(len(self.points))
        carry_rigidly(self.points, state, keyed, seconds, places, travel)
        found = [self._in_order(*skin.surface_contacts(frame, places, travel)) for skin in self.skins]
        return joined(found, NO_SURFACE_CONTACTS)

    def _in_order(self, rows, *near):
        """What was found of the points as they were asked, in the body's own order."""
        which = self.order[rows]
        by = np.argsort(which)
        return which[by], *(each[by] for each in near)
