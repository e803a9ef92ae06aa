"""A wave: all chains that can be simulated at the same time, because none of them hangs on another of them."""

import itertools
from dataclasses import dataclass

import numpy as np

from quiver.bodies import chain as chain_body
from quiver.errors import Unstable
from quiver.meeting.chains import ChainContacts
from quiver.rig import transforms
from quiver.rig.pose import jointed_world
from quiver.run.jumps import jumps_of
from quiver.sim.bounds import MOST_PER_STEP, RUNAWAY
from quiver.sim.model import ChainPhysics, chain_model
from quiver.sim.state import ChainState
from quiver.sim.step import NO_COLLIDERS, NO_SPOTS, advance, motion_rows, reach_rows

PIECES = 4
"""Times a frame that it is found what chains touch of a skin."""
AXIS_VECTORS = dict(zip("xyz", np.eye(3), strict=True))


@dataclass
class Driven:
    """What a wave says about S samples: for C chains, n segments each.

    turns (S, C, n, 4) local turn of each segment's driver; lengths (S, C, n) length against the keyed one.
    """

    turns: np.ndarray
    lengths: np.ndarray

    def every(self, step):
        """Every ``step``-th sample, the last one among them."""
        return Driven(self.turns[step - 1 :: step], self.lengths[step - 1 :: step])


class Wave:
    """Chains of one dependency level, with their model and state.

    ``paths``, ``layers``, ``met`` (the colliders that each meets, of ``contacts``), ``skins`` (the Skins) and ``girths`` (how thick the
    skin around the ends of its segments is, (n,) [m]) are parallel.
    """

    def __init__(self, skeleton, paths, layers, setup, substeps, rest_world, notes, contacts, met, skins, girths):
        self.skeleton, self.paths, self.layers = skeleton, paths, layers
        self.scale = setup.metres_per_unit
        self.frame_rate = setup.frame_rate
        self.dt = 1.0 / (setup.frame_rate * substeps)
        self.counts = np.array([len(path.drivers) for path in paths])
        n = int(self.counts.max())
        pad = [n - count for count in self.counts]
        self.point_nodes = np.array([np.pad(p.point_nodes, (0, k), "edge") for p, k in zip(paths, pad, strict=True)])
        self.point_offsets = np.array([np.pad(p.point_offsets, ((0, k), (0, 0)), "edge") for p, k in zip(paths, pad, strict=True)])
        self.drivers = np.array([np.pad(p.drivers, (0, k), "edge") for p, k in zip(paths, pad, strict=True)])
        self.blocked = self._blocked_axes(n)
        rest = self.points(rest_world[None])[0]
        physics = [self._physics(i, rest[i, : count + 1], notes) for i, count in enumerate(self.counts)]
        limited = self.blocked is not None or any((p.bend_limits < np.pi - 1e-3).any() for p in physics)
        self.model = chain_model(physics, self.dt, limited)
        self.state = ChainState(self.model)
        self.contacts = None
        if any(map(len, (*met, *skins))):
            thickness = np.array([self._thickness(i, girths[i], n + 1) for i in range(len(paths))])
            self.contacts = ChainContacts(contacts, met, skins, rest, thickness)
            self.reaches = reach_rows(self.model, self.contacts.reaches)
        self.lengths = np.array(
            [np.linalg.norm(np.diff(rest[i, : count + 1], axis=0), axis=1).sum() for i, count in enumerate(self.counts)]
        )

    def points(self, world):
        """The chains' points (S, C, n + 1, 3) [m] in node matrices (S, J, 3, 4)."""
        return self.scale * jointed_world(world[:, self.point_nodes], self.point_offsets)

    def _blocked_axes(self, n):
        free = [layer.value("swing_axes") for layer in self.layers]
        if all(axes == "xyz" for axes in free):
            return None
        blocked = np.zeros((len(free), n, 2, 3))
        for chain, axes in enumerate(free):
            held = [AXIS_VECTORS[axis] for axis in "xyz" if axis not in axes]
            # Two blocked axes leave a hinge; with all three blocked the bend limit is zero and the axes do not matter.
            for slot, axis in enumerate(held[:2]):
                blocked[chain, :, slot] = axis
        return blocked

    def _thickness(self, index, girth, points):
        """How thick a chain is at each of so many points [m]: what the dial says, else as its skin."""
        value = self.layers[index].value
        radius = value("thickness") / 1000.0
        along = radius if radius > 0.0 else np.append(girth[:1], girth)
        along = along * chain_body.tapered(value("thickness_taper") / 100.0, np.linspace(0.0, 1.0, len(girth) + 1))
        return np.pad(along, (0, points - len(along)), "edge")

    def _physics(self, index, points, notes):
        layer, value = self.layers[index], self.layers[index].value
        both = value("held") == "both"
        body = chain_body.build(points, value("wobble_taper") / 100.0, both)
        settle = value("settle_time") / self.frame_rate
        stiffness, keep = chain_body.matched(value("wobble_rate"), settle, self.dt)
        if chain_body.substep_rate(value("wobble_rate"), settle)[1]:
            text = f"{layer.name}: so quick a wobble that dies so slowly needs finer steps than the budget; it settles sooner than asked"
            if text not in notes:
                notes.append(text)
        if both and body.lowest == 0.0:
            notes.append(f"{layer.name}: one segment held at both ends cannot move")
        factor = stiffness / body.lowest if body.lowest > 0.0 else 0.0

        def along(dial):
            return chain_body.tapered(value(dial) / 100.0, body.shares)

        slowness = along("settle_taper")
        relative = (1.0 / slowness) / np.sum(body.mode_weights / slowness) if body.mode_weights.any() else 1.0 / slowness
        drag = np.clip(value("drag") / 100.0 * along("drag_taper"), 0.0, 0.99)
        share = value("gravity") / 100.0 * along("gravity_taper")
        limits = np.radians(np.clip(value("bend_limit") * along("bend_taper"), 0.0, 180.0))
        if value("swing_axes") == "":
            limits = np.zeros_like(limits)
        weight_below = np.cumsum(body.masses[::-1])[::-1] * chain_body.GRAVITY
        stretch = value("stretch") / 100.0 * body.lengths.sum() * body.lengths / np.sum(body.lengths * weight_below)
        return ChainPhysics(
            np.where(body.is_free, 1.0 / body.masses, 0.0),
            factor * body.bend_shape,
            stretch,
            keep ** (relative + np.zeros(len(body.lengths))),
            (1.0 - drag) ** (self.dt * self.frame_rate),
            share[:, None] * np.array([0.0, -chain_body.GRAVITY, 0.0]),
            limits,
            MOST_PER_STEP * float(body.lengths.sum()) / self.dt,
            max(3.0 * value("stretch") / 100.0, 0.05),
            both,
        )

    def start(self, world):
        """Begin at rest in a pose: node matrices (J, 3, 4)."""
        self.before = self.points(world[None])[0]
        self.steps_before = np.zeros_like(self.before)
        self.linear_before = world[self.point_nodes[:, 0], :, :3]
        if self.contacts:
            self.contacts.start(world)

    def jumps(self, frame_world):
        """Which chains' roots jump on the way to each frame: bool (F, C) from node matrices (F, J, 3, 4) at frames."""
        return jumps_of(frame_world[:, self.point_nodes[:, 0]], self.lengths / self.scale)

    def advance(self, world, jumped, frames, every=1, threads=None):
        """Simulate S = frames * substeps samples of node matrices (S, J, 3, 4); returns Driven for every ``every``-th sample.

        jumped  bool (frames, C): in such a frame the chain's keyed motion is taken from the frame's end at once.
        Raises Unstable (the frame counted from the first of these).
        """
        samples = len(world)
        points, linear = self.points(world), world[:, self.point_nodes[:, 0], :, :3]
        per_frame = samples // frames
        cuts, recorded = {0, *(int(f) * per_frame for f in np.flatnonzero(jumped.any(1))), samples}, every
        if self.contacts and self.contacts.skins:
            # What is so light is so fast that it is soon elsewhere: what it touches is asked several times a frame.
            recorded = 1
            cuts.update(round(piece * per_frame / PIECES) for piece in range(PIECES * frames))
        displaced, self.origin = [], points[0, 0, 0].copy()
        if self.contacts:
            self.contacts.ready(world, jumped.any(1), per_frame, self.origin)
        for first, end in itertools.pairwise(sorted(cuts)):
            if first % per_frame == 0:
                self._jump_all(points, linear, jumped[first // per_frame], first, per_frame)
            displaced.append(self._stretch_of_time(points, linear, (first, end, per_frame), recorded, threads))
            if not self.state.greatest_speed < RUNAWAY:
                raise Unstable(self.layers[0].name, end // per_frame, "it moves faster than anything real could")
        self.steps_before = points[-1] - (points[-2] if samples > 1 else self.before)
        self.before, self.linear_before = points[-1], linear[-1]
        shown = slice(every - 1, None, every)
        return self._driven(points[shown], np.concatenate(displaced)[every // recorded - 1 :: every // recorded], world[shown])

    def _jump_all(self, points, linear, jumped, first, per_frame):
        """Let the ``jumped`` chains jump in the frame that begins with a sample; in place."""
        for chain in np.flatnonzero(jumped):
            self._jump(points[:, chain], linear[:, chain], chain, first, per_frame)

    def _stretch_of_time(self, points, linear, part, every, threads):
        """Simulate the samples first..end-1; returns the displacements of every ``every``-th."""
        first, end, per_frame = part
        before = self.before if first == 0 else points[first - 1]
        axes = None if self.blocked is None else self._world_axes(linear[first:end])
        motion, axis_rows = motion_rows(self.model, points[first:end] - self.origin, before - self.origin, axes)
        colliders, spots = NO_COLLIDERS, NO_SPOTS
        if self.contacts:
            frames = self.contacts.frames[first:end]
            colliders = (frames.reshape(-1, frames.shape[-1]), self.contacts.core_shapes, self.reaches)
            until = (end - 1) % per_frame + 1
            spots = self.contacts.spots(first // per_frame, until / per_frame, *self._reached(before, points[end - 1], end - first))
        return advance(self.model, self.state, motion, axis_rows, colliders, every, threads, spots)

    def _reached(self, before, after, steps):
        """Where the chains' points are (C, n + 1, 3) [m], keyed to go from before to after in so many steps; how far each may go."""
        places, way = before.copy(), np.linalg.norm(after - before, axis=-1)
        for chain in range(len(places)):
            moved, speed = np.moveaxis(self.state.chain(chain), 1, 0)
            places[chain, 1:] += moved
            way[chain, 1:] += np.linalg.norm(speed, axis=-1) * self.dt * steps
        return places, way

    def _jump(self, points, linear, chain, first, per_frame):
        """Let one chain's keyed motion begin this frame where it ends it, as fast as it was, its swing carried along; in place."""
        target = first + per_frame - 1
        old = linear[first - 1] if first else self.linear_before[chain]
        carried = transforms.pure_rotations(linear[target]) @ transforms.pure_rotations(old).T
        self.state.turned(chain, carried)
        last = self.steps_before[chain]
        if first:
            last = points[first - 1] - (points[first - 2] if first > 1 else self.before[chain])
        left = np.arange(per_frame - 1, -1, -1)[:, None, None]
        points[first : first + per_frame] = points[target] - left * (last @ carried.T)
        if first:
            points[first - 1] = points[first] - last @ carried.T
        else:
            self.before[chain] = points[first] - last @ carried.T

    def _world_axes(self, linear):
        frames = transforms.pure_rotations(linear)
        return np.einsum("scij,cnkj->scnki", frames, self.blocked)

    def _driven(self, points, displaced, world):
        keyed = np.diff(points, axis=2)
        moved = keyed + np.diff(displaced, axis=2, prepend=np.float32(0.0))
        samples, chains, n = keyed.shape[:3]
        turns = np.empty((samples, chains, n, 4))
        total = np.tile(transforms.IDENTITY, (samples, chains, 1))
        parents = self.skeleton.parents[self.drivers]
        frames = transforms.pure_rotations(np.where(parents[:, :, None, None] >= 0, world[:, parents, :, :3], np.eye(3)))
        for i in range(n):
            carried = transforms.rotate(total, keyed[:, :, i])
            turn = transforms.shortest_turn(carried, moved[:, :, i])
            here = transforms.multiply(turn, total)
            local = transforms.multiply(transforms.inverse(total), here)
            turns[:, :, i] = transforms.seen_in(local, frames[:, :, i])
            total = here
        keyed_lengths = np.maximum(np.linalg.norm(keyed, axis=-1), 1e-12)
        return Driven(turns, np.linalg.norm(moved, axis=-1) / keyed_lengths)

    def apply(self, pose, driven, amounts):
        """Turn the drivers in a pose of shape (S, J), in place. ``amounts`` (S, C) 0..1."""
        # No joint is driven twice, so all are turned at once.
        chains = np.repeat(np.arange(len(self.paths)), self.counts)
        segments = np.concatenate([np.arange(count) for count in self.counts])
        drivers, turns = self.drivers[chains, segments], driven.turns[:, chains, segments]
        turns = transforms.slerp(np.broadcast_to(transforms.IDENTITY, turns.shape), turns, amounts[:, chains])
        pose.rotations[:, drivers] = transforms.multiply(turns, pose.rotations[:, drivers])
        for chain, path in enumerate(self.paths):
            if self.layers[chain].value("stretch") > 0.0:
                longer = 1.0 + amounts[:, chain, None] * (driven.lengths[:, chain] - 1.0)
                for i, nodes in enumerate(path.stretch_nodes):
                    pose.translations[:, list(nodes)] *= longer[:, i, None, None]

    def added(self, keyed_world, final_world):
        """How far each chain's points are from their keyed places: (F, C) greatest distance [m]."""
        distance = np.linalg.norm(self.points(final_world) - self.points(keyed_world), axis=-1)
        return distance.max(axis=2)
