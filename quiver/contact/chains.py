"""What chains meet: simple colliders and skins, with the middle and the end of each segment."""

import numpy as np

from quiver.contact.contacts import ColliderTracks
from quiver.contact.posed import nearby
from quiver.contact.skins import SkinContacts, look_ends
from quiver.kernels import contacts as kernel
from quiver.kernels.chain_contacts import SAMPLE, SAMPLES
from quiver.kernels.lanes import LANES, aligned
from quiver.kernels.samples import look_at_samples, tell_samples
from quiver.sim.obstacles import frame_rows
from quiver.sim.step import NO_SURFACE_CONTACTS
from quiver.sim.varying import Varying


class ChainContacts(Varying):
    """What a batch of C chains of n segments meets.

    met, skins  for each chain the colliders (indices) and the Skins it meets; rest (C, n + 1, 3) its points in the rest pose [m];
    thickness   (C, n + 1) how thick it is there [m]; tree the Tree of them; samples (SkinSamples) what touches skins, None where there
                are none
    """

    VARYING = ("before",)
    INSIDE = ("shapes", "skins")

    def __init__(self, contacts, met, skins, rest, thickness, tree, samples=None):
        self.shapes, self.samples = ColliderTracks(contacts, np.unique(np.concatenate([np.zeros(0, int), *met]))), samples
        ends, middles = contacts.contact_distances(rest, thickness), contacts.contact_distances(_middles(rest), _middles(thickness))
        contact_distances = np.stack([middles, ends[:, 1:]], axis=2)[..., self.shapes.met]
        for chain, own in enumerate(met):
            contact_distances[chain][..., ~np.isin(self.shapes.met, own)] = kernel.NEVER
        self.contact_distances, self.core_shapes = np.moveaxis(contact_distances, -1, 1), self.shapes.shapes.astype(np.float32)
        self.skins, self._rows_of, self.tree = [], [], tree
        for skin in dict.fromkeys(skin for own in skins for skin in own):
            rows = np.flatnonzero(np.array([skin in own for own in skins])[samples.chain])
            if len(rows):
                rows = rows[nearby(samples.rest[rows])]
                self._rows_of.append(rows)
                self.skins.append(SkinContacts(skin, samples.rest[rows], samples.thickness[rows]))

    def start(self, world):
        """Begin in node matrices (J, 3, 4)."""
        self.shapes.start(world)
        self.before = world.copy()
        for skin in self.skins:
            skin.start(world)

    def appear(self, world, nodes):
        """As `ColliderTracks.appear`."""
        self.shapes.appear(world, nodes)

    def ready(self, world, jumped, per_frame, origin, skin_world=None, looks=1):
        """Take the node matrices (S, J, 3, 4) of some frames, all seen from ``origin`` (3,).

        skin_world  those of the skins, if others, which are looked at so many times a frame
        """
        self._origin = origin
        rows = self.shapes.rows(world, jumped, per_frame)
        rows[..., :3] -= origin
        rows[..., 12:15] -= origin
        self.frames = rows.astype(np.float32)
        for skin in self.skins:
            skin.ready(world if skin_world is None else skin_world, jumped, per_frame, looks)
        if self.skins:
            self.looks, self.jumped = looks, jumped
            seen = np.concatenate([self.before[None], world[look_ends(len(jumped), per_frame, looks)]])
            self._keyed = self.samples.keyed(seen), self.samples.points_of(seen)
        self.before = world[-1].copy()

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
        samples, at = self.samples, frame * self.looks + look if not self.jumped[frame] else (frame + 1) * self.looks
        keyed, keyed_points = self._keyed
        places = samples.simulated(keyed[at], keyed_points[at], points)
        beside, reach = np.empty((len(places), 7)), np.empty(len(places))
        look_at_samples(places, points, travel, samples.chain, samples.segment, beside, reach)
        tree, n = self.tree, self.tree.segments
        lanes = -(-len(points) // (LANES * tree.branches)) * LANES
        lane, segment = samples.chain // tree.branches, samples.segment + np.array(tree.firsts)[samples.chain % tree.branches]
        out = aligned((len(self.skins), lanes // LANES * n * SAMPLES * SAMPLE, LANES))
        ways = keyed[at], keyed[min(at + 1, len(keyed) - 1)]
        room = np.empty((lanes * n, SAMPLES)), np.empty((lanes * n, SAMPLES), np.int64)
        for own, skin, told in zip(self._rows_of, self.skins, out, strict=True):
            rows, near, _, _ = skin.surface_contacts(frame, places[own], reach[own], look)
            contact = near, skin.contact_distances, skin.skin.friction
            where = places, self._origin, beside, lane, segment, samples.carried
            tell_samples(n, own, rows, *contact, *where, *ways, room, told)
        return out.reshape(-1, LANES)


def _middles(values):
    return 0.5 * (values[:, 1:] + values[:, :-1])


def _touching(values):
    """Values of points (C, n + 1, ...) at what touches: the middle and the end of each segment, (C n 2, ...)."""
    both = np.stack([_middles(values), values[:, 1:]], axis=2)
    return both.reshape(-1, *values.shape[2:])
