"""The inner side of tissue: which of its nodes are stuck to a muscle or a bone, slide on it, or are only kept out of it."""

import numpy as np

from quiver.bodies.attaching import bones_of
from quiver.contact.contacts import joined
from quiver.kernels.nearest import blend, vertex_normals
from quiver.mesh.nearest import NearestOn
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through
from quiver.sim.solid import NO_SURFACE_CONTACTS
from quiver.sim.varying import Varying

STUCK, SLIDING, FREE = 0, 1, 2
BOTH_WAYS = -1.0
"""A friction that means: kept just as far in front of a surface, from both sides, without friction."""


class UnderSurface:
    """The surfaces of muscles and bones below a tissue as one: V vertices, triangles (F, 3).

    muscles  units that move muscles (run/parts/muscles.py); bones the names of the meshes that those keep off; nodes those that move both
    """

    def __init__(self, character, muscles, scale):
        self.muscles, self.scale = muscles, scale
        self.bones = sorted({name for unit in muscles for name in unit.layer.bones})
        known = bones_of(character)
        self._bones = [character.mesh(name) for name in self.bones]
        self.nodes = sorted({known[name] for name in self.bones} | {node for unit in muscles for node in unit.follows})
        parts, begin = [], 0
        for unit in muscles:
            for triangles, count in unit.surfaces():
                parts.append(triangles + begin)
                begin += count
        for mesh in self._bones:
            parts.append(np.asarray(mesh.triangles) + begin)
            begin += len(mesh.positions)
        self.triangles = np.concatenate(parts) if parts else np.zeros((0, 3), int)
        self.rest = self.positions(rest_matrices(character.skeleton)[None], {})[0]
        self.tree = NearestOn(self.rest, self.triangles) if len(self.triangles) else None

    def positions(self, world, results):
        """Where the vertices are (F, V, 3) [m] in node matrices (F, J, 3, 4), and muscles as results {layer id: outputs} say."""
        parts = [unit.surface_positions(world, results.get(unit.layer.id)) for unit in self.muscles]
        parts += [self.scale * skinned_through(mesh, world) for mesh in self._bones]
        return np.concatenate(parts, axis=1) if parts else np.zeros((len(world), 0, 3))


class Underside(Varying):
    """The inner nodes (n,) of tissue with nodes (N, 3) [m] at rest, each of which follows what is at most ``reach`` [m] away as ``modes``
    (n,) say.

    rows    those that follow a surface, stuck and slide those of them; pinned what rides on joints, and what is stuck
    """

    VARYING = ("_guesses",)

    def __init__(self, under, nodes, inner, modes, reach):
        self.under, self.nodes = under, nodes
        found, weights = np.full(len(inner), -1), np.zeros((len(inner), 3))
        if under.tree is not None and len(inner):
            found, weights = under.tree.find(nodes[inner], reach)
        near = found >= 0
        self.rows, self.modes = inner[near], modes[near]
        self.stuck = self.rows[self.modes == STUCK]
        self.slide = self.rows[self.modes != STUCK]
        self.pinned = np.concatenate([inner[~near], self.stuck])
        self._is_free = self.modes[self.modes != STUCK] == FREE
        stuck, self._weights = found[near][self.modes == STUCK], weights[near][self.modes == STUCK]
        self._corners = under.triangles[stuck]
        places, frames = self._anchors(under.rest)
        self._arms = np.einsum("nji,nj->ni", frames, nodes[self.stuck] - places)
        self.normals, self.distances, self._guesses = np.zeros((len(self.slide), 3)), np.zeros(len(self.slide)), None
        if len(self.slide):
            spots, self.normals, self._guesses = self._spots(under.rest, nodes[self.slide], found[near][self.modes != STUCK])
            self.distances = np.einsum("nk,nk->n", nodes[self.slide] - spots, self.normals)

    def across(self):
        """(nodes (m,), unit vectors (m, 3)) that cannot move along those vectors, in the rest pose."""
        return self.slide, self.normals

    def _anchors(self, positions):
        """Where what is stuck is stuck to (n, 3), and frames there (n, 3, 3), with the surface at positions (V, 3)."""
        a, b, c = (positions[self._corners[:, k]] for k in range(3))
        places = self._weights[:, :1] * a + self._weights[:, 1:2] * b + self._weights[:, 2:] * c
        along = b - a
        along = along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
        up = np.cross(along, c - a)
        up = up / np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-12)
        return places, np.stack([along, np.cross(up, along), up], axis=2)

    def led(self, positions, surface):
        """Positions (N, 3) with what is stuck where the surface at (V, 3) takes it."""
        if not len(self.stuck):
            return positions
        places, frames = self._anchors(surface)
        out = positions.copy()
        out[self.stuck] = places + np.einsum("nij,nj->ni", frames, self._arms)
        return out

    def _spots(self, positions, points, guesses):
        """(places (n, 3), normals (n, 3), triangles (n,)) of the surface at positions (V, 3) nearest to points (n, 3)."""
        tree, normals = self.under.tree, np.empty_like(positions)
        tree.move(positions)
        found, weights = tree.find(points, np.inf, guesses)
        vertex_normals(tree.points, tree.triangles, normals)
        places, looks = np.empty((len(points), 3)), np.empty((len(points), 3))
        blend(tree.points, normals, tree.triangles, found, weights, places, looks)
        return places, looks, found

    def joined(self, touches, positions, before, after):
        """``touches`` of a frame, as `advance` takes them, with what slides on the surface that goes from before (V, 3) to after (V, 3)."""
        if not len(self.slide):
            return touches
        points = positions[self.slide]
        begin, looks, self._guesses = self._spots(before, points, self._guesses)
        # It is looked for where it will be if it goes along.
        tree, weights = self.under.tree, self._shares(before, begin)
        ahead = points + np.einsum("nc,nck->nk", weights, (after - before)[tree.triangles[self._guesses]])
        end, looks_then, _ = self._spots(after, ahead, self._guesses)
        count = len(points)
        corners = np.repeat(self.slide[:, None], 4, axis=1).astype(np.int32)
        alone = np.tile([1.0, 0.0, 0.0, 0.0], (count, 1))
        frictions = np.where(self._is_free, 0.0, BOTH_WAYS)
        slides = points, corners, alone, np.column_stack([begin, end, looks, looks_then]), self.distances, frictions
        both = [slides] if touches[1] is NO_SURFACE_CONTACTS else [touches[1], slides]
        return touches[0], joined(both, NO_SURFACE_CONTACTS), *touches[2:]

    def _shares(self, positions, places):
        """How places on the triangles found are shared among their corners (n, 3)."""
        a, b, c = (positions[self.under.tree.triangles[self._guesses][:, k]] for k in range(3))
        e1, e2, way = b - a, c - a, places - a
        d11, d12, d22 = (np.einsum("nk,nk->n", *pair) for pair in ((e1, e1), (e1, e2), (e2, e2)))
        w1, w2 = np.einsum("nk,nk->n", way, e1), np.einsum("nk,nk->n", way, e2)
        inverse = 1.0 / np.maximum(d11 * d22 - d12 * d12, 1e-30)
        second, third = (d22 * w1 - d12 * w2) * inverse, (d11 * w2 - d12 * w1) * inverse
        return np.column_stack([1.0 - second - third, second, third])
