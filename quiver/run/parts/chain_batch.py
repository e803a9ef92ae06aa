"""Chains in a run: those of one layer that grow on each other are one tree, and trees alike are simulated together, in lanes."""

import itertools
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from quiver.bodies import chain as chain_body
from quiver.bodies import fitting, picking
from quiver.bodies.hanging import swing_under_weight
from quiver.contact.chains import ChainContacts
from quiver.contact.samples import SkinSamples
from quiver.errors import BadInput, Unstable
from quiver.kernels.kinematics import segment_rotations
from quiver.rig import transforms
from quiver.rig.pose import jointed_world
from quiver.rig.tree import Tree
from quiver.run.parts.jumps import jumps_of
from quiver.run.parts.part import Part, Unit
from quiver.sim.bounds import MOST_PER_STEP, RUNAWAY
from quiver.sim.model import ChainPhysics, chain_model
from quiver.sim.state import ChainState
from quiver.sim.step import NO_COLLIDERS, NO_SURFACE_CONTACTS, advance, contact_distance_rows, motion_rows

SUBSTEPS_A_LOOK = 2
"""It is found anew what chains touch of a skin after so many substeps: what is so light is so fast that it is soon elsewhere."""
AXIS_VECTORS = dict(zip("xyz", np.eye(3), strict=True))


@lru_cache(maxsize=256)
def _known_swing(points, wobble_taper, tree, axes, pulls, *wanted):
    """The Swing of a tree; points, axes (or None) and pulls as bytes."""
    points, pulls = (np.frombuffer(each).reshape(-1, 3) for each in (points, pulls))
    axes = None if axes is None else np.frombuffer(axes).reshape(-1, 2, 3)
    return swing_under_weight(chain_body.build(points, wobble_taper, False, tree, axes), pulls, *wanted)


def units(context, layers):
    """A ChainUnit for each chain of some layers, with all that grows on it. Raises BadInput where one cannot be built, naming the layer."""
    found = []
    for layer in layers:
        paths = []
        for pick in layer.chains:
            try:
                for nodes in picking.resolve(context.character, pick):
                    paths.append(picking.chain_path(context.character, nodes, context.notes, layer.name))
            except BadInput as error:
                raise BadInput(f"layer “{layer.name}”: {error}") from error
        others = [each for each in context.setup.layers if each.is_on and each is not layer]
        between = picking.turned_by(context.character, others)
        found += [ChainUnit(context, layer, *grown) for grown in _trees(context.character.skeleton, paths, between)]
    return found


def _trees(skeleton, paths, between):
    """[(ChainPaths of one tree, its Tree)]: a path grows on the one that turns its root, with no joint in ``between`` that others turn."""
    owners = {int(node): (number, segment) for number, path in enumerate(paths) for segment, node in enumerate(path.drivers)}
    grows_on = []
    for path in paths:
        above = itertools.takewhile(lambda node: node not in between, skeleton.ancestors(int(path.point_nodes[0])))
        grows_on.append(next((owners[node] for node in above if node in owners), (-1, -1)))
    for root in (number for number, (trunk, _) in enumerate(grows_on) if trunk < 0):
        members = [root]
        for member in members:
            members += [number for number, (trunk, _) in enumerate(grows_on) if trunk == member]
        places = {-1: -1} | {number: place for place, number in enumerate(members)}
        tree = Tree(
            tuple(len(paths[number].drivers) for number in members),
            tuple((places[grows_on[number][0]], grows_on[number][1]) for number in members),
        )
        yield [paths[number] for number in members], tree


class ChainUnit(Unit):
    """A chain with all that grows on it: a Tree of paths of joints (`picking.ChainPath`), the trunk's first."""

    def __init__(self, context, layer, paths, tree):
        self.context, self.layer, self.paths, self.tree = context, layer, paths, tree
        self.node = int(paths[0].point_nodes[0])
        self.drives = tuple(int(node) for path in paths for node in path.drivers)
        skeleton = context.character.skeleton
        self.follows = (self.node, *skeleton.ancestors(self.node))

    def meet(self, contacts, driven):
        """As `Unit.meet`; a skin is met without what the chain's layer moves of it."""
        context, skeleton = self.context, self.context.character.skeleton
        own = {node for unit in context.units if unit.layer is self.layer for node in unit.drives}
        self.met = contacts.met_by(self.layer, driven)
        moved = {below for node in own for below in skeleton.below(node)}
        self.skins_met = contacts.skins_met_by(context.setup, self.layer, moved) + contacts.skins_behind(self.met, moved)
        self.met_nodes = contacts.nodes_of(self.met, self.skins_met)
        self.met_digest = contacts.identity(self.met, self.skins_met)
        self.skin_radii = [np.zeros(len(path.drivers)) for path in self.paths]
        if len(contacts) or contacts.skins:
            self.skin_radii = [context.setup.metres_per_unit * self._skin_around(path) for path in self.paths]

    def _skin_around(self, path):
        rest = jointed_world(self.context.rest_world[path.point_nodes], path.point_offsets)
        return fitting.skin_around(self.context.character, path, rest)

    def substep_rate(self):
        """As `Unit.substep_rate`."""
        settle = self.layer.value("settle_time") / self.context.setup.frame_rate
        return chain_body.substep_rate(self.layer.value("wobble_rate"), settle)[0]

    @property
    def is_limited(self):
        """Whether any of its joints has a limit."""
        return self.layer.value("swing_axes") != "xyz" or bool((self.bend_limits() < np.pi - 1e-3).any())

    def bend_limits(self):
        """How far each of its segments may bend (segments,) [rad]."""
        value, along = self.layer.value, chain_body.tip_fractions(self.tree)
        limit = value("bend_limit") if value("swing_axes") else 0.0
        return np.radians(np.clip(limit * chain_body.tapered(value("bend_taper") / 100.0, along), 0.0, 180.0)) + 0.0 * along

    def joins(self):
        """As `Unit.joins`: chains of one layer; such with branches only with others whose branches are alike."""
        return ChainUnit, self.layer.id, self.tree if self.tree.branches > 1 else None

    @classmethod
    def compiled(cls, units, context, substeps, beside):
        """As `Unit.compiled`."""
        return ChainBatch(units, context, substeps, [unit for unit in beside if isinstance(unit, ChainUnit)])

    def rest_points(self):
        """The points of its chains in the rest pose [m], each its root and its ends, one chain after another (segments + chains, 3)."""
        world = self.context.rest_world
        placed = [jointed_world(world[path.point_nodes], path.point_offsets) for path in self.paths]
        return self.context.setup.metres_per_unit * np.concatenate(placed)


def _axes(layer):
    """The axis about which the joints of a layer must not turn, and that about which they must only (2, 3), in their parents' spaces.

    Zeros for what there is not; None where they may turn about all, or about none, where the bend limit is zero.
    """
    free = layer.value("swing_axes")
    held = [axis for axis in "xyz" if axis not in free]
    if not free or not held:
        return None
    none = np.zeros(3)
    return np.stack([AXIS_VECTORS[held[0]], none] if len(held) == 1 else [none, AXIS_VECTORS[free]])


@dataclass
class Driven:
    """The result of a batch for S samples: C chains of n segments each.

    rotations (S, C, n, 4) local turn of each segment's driver; lengths (S, C, n) length against the keyed one.
    """

    rotations: np.ndarray
    lengths: np.ndarray

    def every(self, step):
        """Every ``step``-th sample, the last one among them."""
        return Driven(self.rotations[step - 1 :: step], self.lengths[step - 1 :: step])


class ChainBatch(Part):
    """Chains of one layer with their model and state, those of a tree after each other. ``units`` are ChainUnits that are alike.

    What all chains of a stage (``beside``) have in common keeps rounding the same however they are grouped: from where float32 counts,
    whether the kernel looks at limits, and the segments of the longest without branches.
    """

    VARYING = ("before", "steps_before", "linear_before")
    INSIDE = ("state", "contacts")

    def __init__(self, units, context, substeps, beside):
        setup = context.setup
        self.units, self.layers, self.paths = units, (units[0].layer,), [path for unit in units for path in unit.paths]
        paths, self.layer, self.skeleton = self.paths, units[0].layer, context.character.skeleton
        self.scale = setup.metres_per_unit
        self.frame_rate = setup.frame_rate
        self.dt = 1.0 / (setup.frame_rate * substeps)
        self.origin_node, is_limited = beside[0].node, any(unit.is_limited for unit in beside)
        self.counts = np.array([len(path.drivers) for path in paths])
        self.tree = units[0].tree
        if self.tree.branches == 1:
            self.tree = Tree((max(unit.tree.segments for unit in beside if unit.tree.branches == 1),))
        n = self.tree.longest
        pad = [n - count for count in self.counts]
        self.point_nodes = np.array([np.pad(p.point_nodes, (0, k), "edge") for p, k in zip(paths, pad, strict=True)])
        self.point_offsets = np.array([np.pad(p.point_offsets, ((0, k), (0, 0)), "edge") for p, k in zip(paths, pad, strict=True)])
        self.drivers = np.array([np.pad(p.drivers, (0, k), "edge") for p, k in zip(paths, pad, strict=True)])
        self.roots = np.repeat(self.point_nodes[:: self.tree.branches, 0], self.tree.branches)
        self.axes = _axes(self.layer)
        rest = self.points(context.rest_world[None])[0]
        self.swings, self.bodies = [], []
        physics = [each for unit in units for each in self._physics(unit, context.notes)]
        self.model = chain_model(physics, self.dt, is_limited, self.tree)
        self.state = ChainState(self.model)
        self.contacts = None
        met, skins = ([each for unit in units for each in [getattr(unit, name)] * self.tree.branches] for name in ("met", "skins_met"))
        if any(map(len, (*met, *skins))):
            radii = [each for unit in units for each in unit.skin_radii]
            thickness = np.array([self._thickness(each, n + 1) for each in radii])
            samples = self._samples(context.character, thickness) if any(skins) else None
            self.contacts = ChainContacts(context.contacts, met, skins, rest, thickness, self.tree, samples)
            self.contact_distances = contact_distance_rows(self.model, self.contacts.contact_distances)
        self.lengths = np.repeat([body.reach for body in self.bodies], self.tree.branches)

    def digest_inputs(self):
        """As `Part.digest_inputs`."""
        paths = [(path.drivers, path.point_nodes, path.point_offsets) for path in self.paths]
        met, tree = [(unit.met_digest, unit.skin_radii) for unit in self.units], (self.tree.counts, self.tree.grows_on)
        return "chain", self.layer.values, paths, met, tree, self.origin_node, self.model.has_limits

    def fresh(self):
        """As `Varying.fresh`, at rest."""
        own = super().fresh()
        own.state = ChainState(self.model)
        return own

    def points(self, world):
        """The chains' points (S, C, n + 1, 3) [m] in node matrices (S, J, 3, 4)."""
        return self.scale * jointed_world(world[:, self.point_nodes], self.point_offsets)

    def _samples(self, character, thickness):
        """The SkinSamples of its chains; where the artist says how thick they are, they touch with their middle line."""
        bare = np.full(len(self.paths), self.layer.value("thickness") > 0.0)
        return SkinSamples(character, self.scale, self.points, self.drivers, self.counts, thickness, bare, self.tree)

    def _thickness(self, skin_radii, points):
        """How thick a chain is at each of so many points [m]: what the dial says, else as its skin."""
        value = self.layer.value
        radius = value("thickness") / 1000.0
        along = radius if radius > 0.0 else np.append(skin_radii[:1], skin_radii)
        along = along * chain_body.tapered(value("thickness_taper") / 100.0, np.linspace(0.0, 1.0, len(skin_radii) + 1))
        return np.pad(along, (0, points - len(along)), "edge")

    def _rest_axes(self, unit):
        """The axes (segments, 2, 3) of a unit in the rest pose, None where it may swing every way."""
        if self.axes is None:
            return None
        first = unit.tree.branches * self.units.index(unit)
        rest = self._world_axes(unit.context.rest_world[None])[0, first : first + unit.tree.branches]
        return np.concatenate([own[:count] for own, count in zip(rest, unit.tree.counts, strict=True)])

    def _physics(self, unit, notes):
        """The ChainPhysics of each chain of a unit."""
        layer, value = self.layer, self.layer.value
        both, points, axes = value("held") == "both", unit.rest_points(), self._rest_axes(unit)
        body = chain_body.build(points, value("wobble_taper") / 100.0, both, unit.tree, axes)
        self.bodies.append(body)
        settle = value("settle_time") / self.frame_rate

        def along(dial):
            return chain_body.tapered(value(dial) / 100.0, body.tip_fractions)

        share, rate = value("gravity") / 100.0 * along("gravity_taper"), value("wobble_rate")
        pulls = (share + np.zeros(len(body.lengths)))[:, None] * np.array([0.0, -chain_body.GRAVITY, 0.0])
        swing = (
            _known_swing(
                points.tobytes(),
                value("wobble_taper") / 100.0,
                unit.tree,
                None if axes is None else axes.tobytes(),
                pulls.tobytes(),
                rate,
                settle,
                self.dt,
            )
            if rate > 0.0 and body.lowest > 0.0 and share.any() and not both
            else None
        )
        self.swings.append(swing)
        met = max(rate, swing.rate) if swing else rate
        told = chain_body.settle_note(layer.name, met, settle, self.dt, self.frame_rate)
        if met > 1.05 * rate:
            told.append(f"{layer.name}: its weight alone swings it at {met:.2g} Hz instead of {rate:g}; lower its gravity share")
        if both and body.lowest == 0.0:
            told.append(f"{layer.name}: one segment held at both ends cannot move")
        notes += [each for each in told if each not in notes]
        given = swing.given if swing else 0.0
        stiffness, damping_factor = chain_body.matched(met, settle, self.dt, given)
        factor = swing.factor if swing else stiffness / body.lowest if body.lowest > 0.0 else 0.0
        slowness = along("settle_taper")
        relative = (1.0 / slowness) / np.sum(body.mode_weights / slowness) if body.mode_weights.any() else 1.0 / slowness
        drag = np.clip(value("drag") / 100.0 * along("drag_taper"), 0.0, 0.99)
        every = (
            np.where(body.is_free, 1.0 / body.masses, 0.0),
            factor * body.bend_shape,
            value("stretch") / 100.0 * body.stretch_shape,
            damping_factor ** (relative + np.zeros(len(body.lengths))),
            (1.0 - drag) ** (self.dt * self.frame_rate) + np.zeros(len(body.lengths)),
            pulls,
            unit.bend_limits(),
        )
        fastest, stretch_limit = MOST_PER_STEP * float(body.lengths.sum()) / self.dt, max(3.0 * value("stretch") / 100.0, 0.05)
        for first, count in unit.tree:
            yield ChainPhysics(*(each[first : first + count] for each in every), fastest, stretch_limit, both)

    def start(self, world):
        """Begin at rest in a pose: node matrices (J, 3, 4)."""
        self.before = self.points(world[None])[0]
        self.steps_before = np.zeros_like(self.before)
        self.linear_before = world[self.roots, :, :3]
        if self.contacts:
            self.contacts.start(world)

    def jumps(self, frame_world):
        """Which chains' roots jump on the way to each frame: bool (F, C) from node matrices (F, J, 3, 4) at frames."""
        return jumps_of(frame_world[:, self.roots], self.lengths / self.scale)

    def simulate(self, frames, jumped, every, threads=None):
        """As `Part.simulate`; jumped bool (F, C): such a chain's keyed motion is taken from the frame's end at once."""
        driven = self.advance(frames.world, jumped, frames.count, every, threads, frames.origin_world, frames.skin_world)
        return {"rotations": driven.rotations, "lengths": driven.lengths}

    def advance(self, world, jumped, frames, every=1, threads=None, origin_world=None, skin_world=None):
        """Simulate S = frames * substeps samples of node matrices (S, J, 3, 4); returns Driven for every ``every``-th sample.

        origin_world (J, 3, 4) says from where float32 counts, skin_world where skins are, see Frames. Raises Unstable, its frame counted
        from the first of these.
        """
        samples = len(world)
        points, linear = self.points(world), world[:, self.roots, :, :3]
        axes = None if self.axes is None else self._world_axes(world)
        per_frame = samples // frames
        cuts, recorded = {0, *(int(f) * per_frame for f in np.flatnonzero(jumped.any(1))), samples}, every
        self.looks = 1
        if self.contacts and self.contacts.skins:
            recorded, self.looks = 1, -(-per_frame // SUBSTEPS_A_LOOK)
            cuts.update(round(piece * per_frame / self.looks) for piece in range(self.looks * frames))
        displaced = []
        self.origin = self.scale * (world[0] if origin_world is None else origin_world)[self.origin_node, :, 3]
        if self.contacts:
            self.contacts.ready(world, jumped.any(1), per_frame, self.origin, skin_world, self.looks)
        for first, end in itertools.pairwise(sorted(cuts)):
            if first % per_frame == 0:
                self._jump_all(points, linear, jumped[first // per_frame], first, per_frame)
            displaced.append(self._stretch_of_time(points, axes, (first, end, per_frame), recorded, threads))
            if not self.state.greatest_speed < RUNAWAY:
                raise Unstable(self.layer.name, end // per_frame, "it moves faster than anything real could")
        self.steps_before = points[-1] - (points[-2] if samples > 1 else self.before)
        self.before, self.linear_before = points[-1], linear[-1]
        shown = slice(every - 1, None, every)
        return self._driven(points[shown], np.concatenate(displaced)[every // recorded - 1 :: every // recorded], world[shown])

    def _jump_all(self, points, linear, jumped, first, per_frame):
        """Let the ``jumped`` chains jump in the frame that begins with a sample; in place."""
        for chain in np.flatnonzero(jumped):
            self._jump(points[:, chain], linear[:, chain], chain, first, per_frame)

    def _stretch_of_time(self, points, axes, part, every, threads):
        """Simulate the samples first..end-1; returns the displacements of every ``every``-th."""
        first, end, per_frame = part
        before = self.before if first == 0 else points[first - 1]
        axes = None if axes is None else axes[first:end]
        motion, axis_rows = motion_rows(self.model, points[first:end] - self.origin, before - self.origin, axes)
        colliders, surface_contacts = NO_COLLIDERS, NO_SURFACE_CONTACTS
        if self.contacts:
            frames = self.contacts.frames[first:end]
            colliders = (frames.reshape(-1, frames.shape[-1]), self.contacts.core_shapes, self.contact_distances)
            look = round(first % per_frame * self.looks / per_frame)
            surface_contacts = self.contacts.surface_contacts(
                first // per_frame, look, *self._reached(before, points[end - 1], end - first)
            )
        return advance(self.model, self.state, motion, axis_rows, colliders, every, threads, surface_contacts)

    def _reached(self, before, after, steps):
        """Where the chains' points are (C, n + 1, 3) [m], keyed to go from before to after in so many steps; how far each may go."""
        positions, travel = before.copy(), transforms.lengths(after - before)
        moved, speeds = self.state.all(len(positions))
        positions[:, 1:] += moved
        travel[:, 1:] += transforms.lengths(speeds) * self.dt * steps
        for branch, (trunk, segment) in enumerate(self.tree.grows_on):
            if trunk >= 0:
                # The root of a branch goes as far as what carries it.
                travel[branch :: self.tree.branches, 0] = travel[trunk :: self.tree.branches, segment : segment + 2].max(axis=1)
        return positions, travel

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

    def _world_axes(self, world):
        """Its axes in the spaces of the joints' parents (S, C, n, 2, 3), in node matrices (S, J, 3, 4)."""
        return np.einsum("scnij,kj->scnki", self._parent_frames(world), self.axes)

    def _parent_frames(self, world):
        """The orthonormal spaces (S, C, n, 3, 3) of the parents of what turns the segments."""
        parents = self.skeleton.parents[self.drivers]
        return transforms.pure_rotations(np.where(parents[:, :, None, None] >= 0, world[:, parents, :, :3], np.eye(3)))

    def _driven(self, points, displaced, world):
        moved = points.copy()
        moved[:, :, 1:] += displaced
        rotations, lengths = segment_rotations(points, moved, self._parent_frames(world), np.array(self.tree.grows_on))
        return Driven(rotations, lengths)

    def apply(self, frames, outputs, every):
        """As `Part.apply`: turn the drivers, and lengthen what stretches."""
        driven, amounts = Driven(**outputs), frames.amounts(self.layer)
        self._turn(frames.final, driven.every(frames.per_frame // every), amounts)
        if every == 1:
            self._turn(frames.pose, driven, np.repeat(amounts, frames.per_frame))

    def _turn(self, pose, driven, amounts):
        # No joint is driven twice, so all are turned at once.
        chains = np.repeat(np.arange(len(self.paths)), self.counts)
        segments = np.concatenate([np.arange(count) for count in self.counts])
        drivers, rotations = self.drivers[chains, segments], driven.rotations[:, chains, segments]
        amounts = np.broadcast_to(amounts[:, None], rotations.shape[:2])
        rotations = transforms.slerp(np.broadcast_to(transforms.IDENTITY, rotations.shape), rotations, amounts)
        pose.rotations[:, drivers] = transforms.multiply(rotations, pose.rotations[:, drivers])
        if self.layer.value("stretch") > 0.0:
            for chain, path in enumerate(self.paths):
                longer = 1.0 + amounts[:, :1] * (driven.lengths[:, chain] - 1.0)
                for i, nodes in enumerate(path.stretch_nodes):
                    pose.translations[:, list(nodes)] *= longer[:, i, None, None]

    def trackers(self):
        """As `Part.trackers`."""
        return [self.contacts] if self.contacts else []

    def shifted_nodes(self):
        """Nodes whose translation it changes."""
        stretches = self.layer.value("stretch") > 0.0
        return {node for path in self.paths for nodes in path.stretch_nodes for node in nodes} if stretches else set()

    def added(self, frames, outputs, keyed_world, final_world):
        """As `Part.added`."""
        return [(self.layer, self._moved(keyed_world, final_world).max(axis=1))]

    def _moved(self, keyed_world, final_world):
        """How far each chain's farthest point is off its keys (F, C) [m]."""
        return transforms.lengths(self.points(final_world) - self.points(keyed_world)).max(axis=2)

    def against(self, keyed_world, final_world):
        """As `Part.against`."""
        if self.contacts is None or not len(self.contacts.shapes.met):
            return []
        frames, farthest = np.arange(len(final_world)), self._moved(keyed_world, final_world).argmax(axis=1)
        touching = self.contacts.touching(final_world, self.points(final_world))[frames, farthest]
        numbers = self.contacts.shapes.contacts.numbers[touching.argmax(axis=1)]
        return [(self.layer, np.where(touching.any(axis=1), numbers, -1))]
