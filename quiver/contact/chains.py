"""What chains meet: simple colliders and skins, with the middle and the end of each segment."""

import numpy as np

from quiver.contact.contacts import ColliderTracks
from quiver.contact.skins import SkinContacts
from quiver.kernels import contacts as kernel
from quiver.kernels.lanes import LANES
from quiver.sim.obstacles import frame_rows
from quiver.sim.packing import in_lanes, no_surface_contacts, surface_contact_values
from quiver.sim.step import NO_SURFACE_CONTACTS
from quiver.sim.varying import Varying


class ChainContacts(Varying):
    """What a batch of C chains of n segments meets.

    met, skins  for each chain the colliders (indices) and the Skins it meets; rest (C, n + 1, 3) its points in the rest pose [m];
    thickness   (C, n + 1) how thick it is there [m]
    """

    INSIDE = ("shapes", "skins")

    def __init__(self, contacts, met, skins, rest, thickness):
        self.shapes = ColliderTracks(contacts, np.unique(np.concatenate([np.zeros(0, int), *met])))
        ends, middles = contacts.contact_distances(rest, thickness), contacts.contact_distances(_middles(rest), _middles(thickness))
        contact_distances = np.stack([middles, ends[:, 1:]], axis=2)[..., self.shapes.met]
        for chain, own in enumerate(met):
            contact_distances[chain][..., ~np.isin(self.shapes.met, own)] = kernel.NEVER
        self.contact_distances, self.core_shapes = np.moveaxis(contact_distances, -1, 1), self.shapes.shapes.astype(np.float32)
        self.skins, self._chains_of = [], []
        for skin in dict.fromkeys(skin for own in skins for skin in own):
            chains = np.array([chain for chain, own in enumerate(skins) if skin in own])
            self._chains_of.append(chains)
            self.skins.append(SkinContacts(skin, _touching(rest[chains]), _touching(thickness[chains])))

    def start(self, world):
        """Begin in node matrices (J, 3, 4)."""
        self.shapes.start(world)
        for skin in self.skins:
            skin.start(world)

    def appear(self, world, nodes):
        """As `ColliderTracks.appear`."""
        self.shapes.appear(world, nodes)

    def ready(self, world, jumped, per_frame, origin, skin_world=None, looks=1):
        """Take the node matrices (S, J, 3, 4) of some frames, all seen from ``origin`` (3,); skin_world those of the skins, if others, which
        are looked at so many times a frame."""
        self._origin = origin
        rows = self.shapes.rows(world, jumped, per_frame)
        rows[..., :3] -= origin
        rows[..., 12:15] -= origin
        self.frames = rows.astype(np.float32)
        for skin in self.skins:
            skin.ready(world if skin_world is None else skin_world, jumped, per_frame, looks)

    def touching(self, world, points):
        """Which of all colliders the chains touch at some frames: bool (F, C, K) in node matrices (F, J, 3, 4).

        points (F, C, n + 1, 3) where the chains are [m]
        """
        contacts = self.shapes.contacts
        touching = np.zeros((*points.shape[:2], len(contacts)), bool)
        for frame, placed in enumerate(contacts.placements(world)[:, self.shapes.met]):
            rows = frame_rows(np.stack([placed, placed]))[0]
            distances = np.empty((points[frame, :, 1:, 0].size * 2, len(placed)))
            kernel.distances(_touching(points[frame]), rows, self.shapes.shapes, distances)
            near = np.moveaxis(distances.reshape(len(points[frame]), -1, 2, len(placed)), -1, 1) < self.contact_distances + kernel.SLACK
            touching[frame][:, self.shapes.met] = near.any((2, 3))
        return touching

    def surface_contacts(self, frame, look, points, travel):
        """What may touch of the skins in one look of a frame, as `advance` of sim/step.py takes it; see `SkinContacts.surface_contacts`.

        points (C, n + 1, 3) where the chains are [m], travel (C, n + 1) how far each point may move [m]
        """
        if not self.skins:
            return NO_SURFACE_CONTACTS
        lanes, n = -(-len(points) // LANES) * LANES, points.shape[1] - 1
        found = []
        for own, skin in zip(self._chains_of, self.skins, strict=True):
            rows, near, contact_distances, frictions = skin.surface_contacts(frame, _touching(points[own]), _touching(travel[own]), look)
            values = no_surface_contacts(lanes * n * 2).reshape(lanes, n * 2, -1)
            values[own[rows // (2 * n)], rows % (2 * n)] = surface_contact_values(
                np.broadcast_to(self._origin, (len(rows), 3)), near, contact_distances, frictions
            )
            found.append(in_lanes(values).reshape(-1, LANES))
        return np.concatenate(found)


def _middles(values):
    return 0.5 * (values[:, 1:] + values[:, :-1])


def _touching(values):
    """Values of points (C, n + 1, ...) at what touches: the middle and the end of each segment, (C n 2, ...)."""
    both = np.stack([_middles(values), values[:, 1:]], axis=2)
    return both.reshape(-1, *values.shape[2:])
