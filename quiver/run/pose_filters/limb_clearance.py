"""Limb clearance: before anything is simulated, a keyed limb is turned just as far as its colliders cross others."""

import numpy as np

from quiver.bodies import picking
from quiver.errors import BadInput
from quiver.kernels import contacts as kernel
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.sim.obstacles import frame_rows

ALONG = 9
"""Points along a collider's core that are kept clear."""
ROOT_SHARE = 0.35
"""What of a limb is nearer to its root than this share of its length always sits in the body, and no turn gets it out."""
ROUNDS = 24
NEAR = 1e-4
"""What crosses by as little is let be [m]."""
STEP = 1e-5
"""For slopes of distances [m]."""
SMOOTHINGS = 2
"""How often the turns are evened out and what then crosses again is turned away."""


class Limb:
    """One limb: a joint and all below it, whose colliders keep clear of the others.

    ``node`` is what turns; `find` finds rotations (F, 4) in its parent's space for each frame of the clip. Raises BadInput where there is
    nothing to keep apart.
    """

    def digest_inputs(self):
        """Values that, with the clip and the filters before it, decide what it does."""
        return "limb", self.layer.values, self.layer.amount, self.node, self.contacts.identity(range(len(self.contacts)), ())

    @property
    def drives(self):
        """The nodes whose local placement it changes."""
        return (self.node,)

    def __init__(self, character, layer, pick, contacts, setup):
        self.layer, self.contacts, self.skeleton = layer, contacts, character.skeleton
        self.node = int(picking.resolve(character, pick)[0][0])
        below = set(self.skeleton.below(self.node))
        self.own = np.flatnonzero([node in below for node in contacts.nodes])
        self.others = np.flatnonzero([node not in below for node in contacts.nodes])
        name = self.skeleton.names[self.node]
        if not len(self.own) or not len(self.others):
            missing = "colliders on it or below it" if not len(self.own) else "others to keep clear of"
            raise BadInput(f"{layer.name}: “{name}” is a limb without {missing}; fit some under Contacts")
        self.scale, self.limit = setup.metres_per_unit, np.radians(layer.value("turn_limit"))
        self.smooth = int(layer.value("smooth"))
        self.shapes = np.ascontiguousarray(contacts.shapes[self.others])
        self.cores = [self._core(contacts.colliders[index]) for index in self.own]
        self.radii = np.concatenate([np.full(len(core), contacts.radii[k]) for core, k in zip(self.cores, self.own, strict=True)])
        points, rows, pivots = self._placed(rest_matrices(self.skeleton)[None])
        wanted = self.radii[:, None] + contacts.radii[self.others] + layer.value("margin") / 1000.0
        self.contact_distances = np.minimum(wanted, self._distances(points[0], rows[0]))
        arms = np.linalg.norm(points[0] - pivots[0, :, 3], axis=1)
        self.contact_distances[arms < ROOT_SHARE * arms.max()] = kernel.NEVER

    def _core(self, collider):
        """Points (n, 3) of a collider's core, in its own space [m]."""
        wide, deep, above, below = (value * self.scale for value in collider.core)
        heights = np.linspace(-below, above, ALONG if above + below > 0.0 else 1)
        sides = [(x, z) for x in {-wide, wide} for z in {-deep, deep}]
        return np.array([(x, height, z) for x, z in sides for height in heights])

    def _placed(self, world):
        """The limb's points (F, P, 3) [m], the others as rows for the kernel (F, K, FRAME), and the limb's joint (F, 3, 4) [m]."""
        placed = self.contacts.placements(world)
        parts = zip(self.own, self.cores, strict=True)
        points = [np.einsum("fij,pj->fpi", placed[:, k, :, :3], core) + placed[:, None, k, :, 3] for k, core in parts]
        others = placed[:, self.others]
        rows = frame_rows(np.concatenate([others[:1], others]))
        pivots = world[:, self.node].copy()
        pivots[..., 3] *= self.scale
        return np.concatenate(points, axis=1), rows, pivots

    def _distances(self, points, rows):
        out = np.empty((len(points), len(self.shapes)))
        kernel.distances(np.ascontiguousarray(points), np.ascontiguousarray(rows), self.shapes, out)
        return out

    def _worst(self, points, rows):
        """(depth [m], point, other) of what crosses most."""
        depths = self.contact_distances - self._distances(points, rows)
        at = np.unravel_index(np.argmax(depths), depths.shape)
        return float(depths[at]), *at

    def find(self, pose):
        """Find the turns for a keyed pose (F, J), whose frames follow each other."""
        world = world_matrices(self.skeleton, pose)
        points, rows, pivots = self._placed(world)
        frames = range(len(world))
        before = np.array([self._worst(points[f], rows[f])[0] for f in frames])
        rotations = np.tile(transforms.IDENTITY, (len(world), 1))
        for smoothing in range(SMOOTHINGS + 1):
            for f in frames:
                rotations[f] = self._cleared(rotations[f], points[f], rows[f], pivots[f, :, 3])
            if smoothing < SMOOTHINGS and self.smooth:
                rotations = self._evened(rotations)
        moved = transforms.rotate(rotations[:, None], points - pivots[:, None, :, 3]) + pivots[:, None, :, 3]
        after = np.array([self._worst(moved[f], rows[f])[0] for f in frames])
        self.crossings = np.maximum(np.stack([after, before], 1), 0.0)
        self.crossings[self.crossings < 2.0 * NEAR] = 0.0
        self.moved = np.linalg.norm(moved - points, axis=2).max(1)
        parent = self.skeleton.parents[self.node]
        linear = world[:, parent, :, :3] if parent >= 0 else np.broadcast_to(np.eye(3), (len(world), 3, 3))
        self.rotations = transforms.seen_in(rotations, transforms.pure_rotations(linear))

    def _cleared(self, turn, points, rows, pivot):
        """A turn in the world, from ``turn`` on, that lets nothing cross, or as far as it may go."""
        for _ in range(ROUNDS):
            moved = transforms.rotate(np.broadcast_to(turn, (len(points), 4)), points - pivot) + pivot
            depth, point, other = self._worst(moved, rows)
            if depth <= NEAR:
                break
            arm, out = moved[point] - pivot, self._outwards(moved[point], rows[other : other + 1], other)
            axis = np.cross(arm, out)
            lever = float(np.linalg.norm(axis))
            if lever < 1e-6:
                break
            step = transforms.from_axis_angle(axis / lever, np.array(min(depth / lever, 0.2)))
            turn = self._limited(transforms.multiply(step, turn))
        return turn

    def _outwards(self, place, row, other):
        """Where another collider's surface looks, at a place (3,)."""
        around = place + STEP * np.concatenate([np.eye(3), -np.eye(3)])
        out = np.empty((6, 1))
        kernel.distances(around, np.ascontiguousarray(row), np.ascontiguousarray(self.shapes[other : other + 1]), out)
        slope = out[:3, 0] - out[3:, 0]
        return slope / max(float(np.linalg.norm(slope)), 1e-12)

    def _limited(self, turn):
        angle = 2.0 * np.arctan2(np.linalg.norm(turn[:3]), abs(turn[3]))
        if angle <= self.limit:
            return turn
        return transforms.slerp(transforms.IDENTITY, turn, np.array(self.limit / angle))

    def _evened(self, rotations):
        """The rotations (F, 4) evened out over the frames around each, so that a limb does not snap aside."""
        rotations = np.where(rotations[:, 3:] < 0.0, -rotations, rotations)
        around = 2 * self.smooth + 1
        padded = np.concatenate([rotations[:1].repeat(self.smooth, 0), rotations, rotations[-1:].repeat(self.smooth, 0)])
        windows = np.lib.stride_tricks.sliding_window_view(padded, around, axis=0)
        weights = np.hanning(around + 2)[1:-1]
        return transforms.normalised(windows @ (weights / weights.sum()))

    def added(self, frames):
        """How far the limb's colliders are moved in whole frames (n,), [m]."""
        return self._amounts(frames) * self.moved[self._inside(frames)]

    def depths(self, frames):
        """How deep they cross others in whole frames (n,), after and before, (n, 2) [m]."""
        amounts, (after, before) = self._amounts(frames), self.crossings[self._inside(frames)].T
        return np.stack([amounts * after + (1.0 - amounts) * before, before], axis=1)

    def _inside(self, frames):
        # The last frame holds.
        return np.clip(np.asarray(frames, int), 0, len(self.rotations) - 1)

    def _amounts(self, frames):
        return np.array([self.layer.amount_at(frame) for frame in frames])

    def apply(self, pose, frames):
        """Turn the joint in a pose (S, J) at frames (S,) of the clip that need not be whole, in place."""
        at = np.clip(np.asarray(frames, float), 0.0, len(self.rotations) - 1.0)
        low = np.minimum(at.astype(int), max(len(self.rotations) - 2, 0))
        high = np.minimum(low + 1, len(self.rotations) - 1)
        amounts = np.array([self.layer.amount_at(frame) for frame in at])
        rotations = transforms.slerp(self.rotations[low], self.rotations[high], at - low)
        rotations = transforms.slerp(np.broadcast_to(transforms.IDENTITY, rotations.shape), rotations, amounts)
        pose.rotations[:, self.node] = transforms.multiply(rotations, pose.rotations[:, self.node])


def filters(context, layers):
    """The Limbs of some layers, found over the whole clip one after another, so that a take of part of it moves alike. Raises BadInput."""
    if not layers:
        return []
    limbs, pose = [], context.whole_clip()
    for layer in layers:
        for pick in layer.chains:
            limb = Limb(context.character, layer, pick, context.contacts, context.setup)
            limb.find(pose)
            limb.apply(pose, np.arange(len(pose.rotations)))
            limbs.append(limb)
    return limbs
