"""Clip depth: how deep the visible skin of a layer is inside the colliders that the layer meets, beyond the rest pose."""

import threading

import numpy as np
from cachetools import LRUCache

from quiver.contact.skins import SkinDepth
from quiver.kernels import contacts as kernel
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through, subset
from quiver.sim.obstacles import frame_rows

LEAST_WEIGHT = 0.02
"""A joint that moves less of a vertex does not count as moving it."""
KEPT_CLIPS = 256
"""So many depths of layers in clips as keyed are kept."""
_keyed, _lock = LRUCache(KEPT_CLIPS), threading.Lock()


def keyed_depths(depth, digest, numbers, world):
    """What a ClipDepth measures of frames ``numbers`` (F,) as keyed, in node matrices (F, J, 3, 4): as `ClipDepth.depths` says.

    Whatever the dials are it stays the same, so it is measured once in a clip. The digest stands for layer and clip.
    """
    with _lock:
        kept = _keyed.setdefault(digest, {})
    new = [at for at, number in enumerate(numbers) if number not in kept]
    if new:
        found = depth.depths(world[new], {})
        kept.update((numbers[at], (deepest, where)) for at, deepest, where in zip(new, *found, strict=True))
    deepest, where = zip(*(kept[number] for number in numbers), strict=True)
    return np.array(deepest), np.array(where)


class ClipDepth:
    """Measures one layer.

    vertices {mesh index: (n,)} its skin; met the colliders it meets, of some Contacts, and Skins; ``apart`` where skin is not asked of what
    it is itself, is inside of, or bends against: the collider of a joint that moves it, or of that joint's parent or child
    """

    def __init__(self, character, contacts, vertices, met, skins=(), apart=False):
        self.contacts, self.met, self.scale, self.is_apart = contacts, met, contacts.scale, apart
        self.parts = [(index, own, subset(character.meshes[index], own)) for index, own in vertices.items() if len(own)]
        self.shapes = np.ascontiguousarray(contacts.shapes[met])
        rest = rest_matrices(character.skeleton)[None]
        points = self._points(rest, {})[0]
        allowed = np.minimum(contacts.radii, contacts.distances(points))[:, met]
        if apart:
            allowed[self._is_by(character, contacts.nodes[met])] = kernel.NEVER
        self.allowed = np.ascontiguousarray(allowed)
        self.owners = np.concatenate([np.full(len(own), index) for index, own, _ in self.parts] or [np.zeros(0, int)])
        self.numbers = np.concatenate([own for _, own, _ in self.parts] or [np.zeros(0, int)])
        names = np.array([mesh.name for mesh in character.meshes])[self.owners] if len(self.owners) else np.zeros(0, str)
        asked = [np.flatnonzero(names != skin.collider.mesh) if apart else np.arange(len(points)) for skin in skins]
        self.skins = [(SkinDepth(skin, points[rows]), rows) for skin, rows in zip(skins, asked, strict=True) if len(rows)]

    @property
    def nodes(self):
        """The nodes that carry its skin and what it is measured against."""
        found = {int(node) for node in self.contacts.nodes[self.met] if node >= 0}
        for mesh in (*(mesh for _, _, mesh in self.parts), *(each.skin.surface.mesh for each, _ in self.skins)):
            found |= set(mesh.carriers)
        return sorted(found)

    def digest_inputs(self):
        """Values that, with the skin that it gets, decide what it measures."""
        met = self.contacts.identity(self.met, [each.skin for each, _ in self.skins])
        return "clip depth", met, [(index, own) for index, own, _ in self.parts], [rows for _, rows in self.skins], self.is_apart

    def _is_by(self, character, nodes):
        """Which vertices (rows) joints move that are the colliders' (``nodes``), their parents or their children: bool (V, K)."""
        skeleton, out = character.skeleton, []
        near = [{node, skeleton.parents[node], *np.flatnonzero(skeleton.parents == node)} - {-1} if node >= 0 else set() for node in nodes]
        for index, own, _ in self.parts:
            mesh = character.meshes[index]
            if mesh.skin < 0:
                out.append(np.tile([mesh.node in around for around in near], (len(own), 1)))
                continue
            joints, counts = mesh.joints[own], mesh.weights[own] > LEAST_WEIGHT
            out.append(
                np.stack([(counts & np.isin(joints, list(around))).any(1) for around in near], 1) if near else np.zeros((len(own), 0), bool)
            )
        return np.concatenate(out)

    def depths(self, world, offsets):
        """(deepest (F,) [m], mesh and vertex of it (F, 2) or -1) under node matrices (F, J, 3, 4).

        offsets  {mesh index: (F, V, 3)} world-space moves of the skin [file units], of this layer's vertices, or {}
        """
        points = self._points(world, offsets)
        deepest, vertices = np.zeros(len(world)), np.full(len(world), -1)
        if len(self.met):
            placed = self.contacts.placements(world)[:, self.met]
            rows = frame_rows(np.concatenate([placed[:1], placed]))
            for frame, positions in enumerate(points):
                deepest[frame], vertices[frame] = kernel.deepest(positions, rows[frame], self.shapes, self.allowed)
        for skin, asked in self.skins:
            depths, found = skin.deepest(world, points[:, asked])
            deeper = depths > deepest
            deepest[deeper], vertices[deeper] = depths[deeper], asked[found[deeper]]
        where, is_inside = np.full((len(world), 2), -1), vertices >= 0
        where[is_inside] = np.stack([self.owners[vertices[is_inside]], self.numbers[vertices[is_inside]]], axis=1)
        return deepest, where

    def everywhere(self, world, offsets):
        """How deep each of its vertices is, {mesh index: (n,)} [m], in one frame: node matrices (J, 3, 4), offsets {mesh index: (n, 3)}."""
        positions = self._points(world[None], {index: moves[None] for index, moves in offsets.items()})[0]
        stand = self.contacts.placements(world[None])[:, self.met]
        distances = np.empty((len(positions), len(self.met)))
        kernel.distances(positions, frame_rows(np.repeat(stand, 2, 0))[0], self.shapes, distances)
        depths = np.maximum((self.allowed - distances).max(1, initial=0.0), 0.0)
        for skin, asked in self.skins:
            depths[asked] = np.maximum(depths[asked], skin.depths(world, positions[asked]))
        return {index: depths[self.owners == index] for index, _, _ in self.parts}

    def _points(self, world, offsets):
        parts = [np.zeros((len(world), 0, 3))]
        for index, _, mesh in self.parts:
            positions = skinned_through(mesh, world)
            parts.append(positions + offsets[index] if index in offsets else positions)
        return self.scale * np.concatenate(parts, axis=1).astype(float)
