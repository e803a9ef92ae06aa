"""Props in a run: rigid things that swing about a joint, collide, or fall free."""

import numpy as np

from quiver.bodies import chain as swing
from quiver.bodies import fitting, picking
from quiver.bodies import prop as prop_body
from quiver.cache import Cache
from quiver.contact.props import PropContacts
from quiver.errors import BadInput, Unstable
from quiver.kernels import rigid as kernel
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions
from quiver.run.parts.jumps import jumps_of
from quiver.run.parts.part import Part, Unit
from quiver.sim import rigid
from quiver.sim.bounds import RUNAWAY
from quiver.sim.obstacles import shape_rows
from quiver.sim.varying import Varying

ROUNDED, RIGID_CONTACT_FRICTION = 0.02, 0.4
"""How round a prop's box is, against its least half side, and the coefficient of friction between two props."""
_bodies = Cache(64)
KINDS = {"ball": kernel.BALL, "hinge": kernel.HINGE, "free": kernel.FREE}


def units(context, layers):
    """A Prop for each joint of some layers. Raises BadInput, naming the layer, where one cannot be built."""
    found = []
    for layer in layers:
        for pick in layer.chains:
            try:
                node = int(picking.resolve(context.character, pick)[0][0])
            except BadInput as error:
                raise BadInput(f"layer “{layer.name}”: {error}") from error
            found.append(Prop(context.character, layer, node, context.setup, context.notes))
    return found


class Prop(Unit, Varying):
    """One prop: what a joint (``node``) and those below it move. Raises BadInput where that is no mesh; remarks go to ``notes``."""

    VARYING = ("before", "state")
    INSIDE = ("touching",)

    def __init__(self, character, layer, node, setup, notes):
        self.layer, self.node, self.setup, self.scale = layer, node, setup, setup.metres_per_unit
        self.skeleton, self.touching, self.drives = character.skeleton, None, (node,)
        self.follows = (node, *self.skeleton.ancestors(node))
        name = character.skeleton.names[node]
        self.body = body = _bodies.get(character, (node, self.scale), lambda: _body_of(character, node, self.scale))
        if body is None:
            raise BadInput(f"{layer.name}: expected a joint that moves a thing of its own, “{name}” moves no mesh")
        rest = rest_matrices(character.skeleton)[node]
        self.rest_place, self.rest_rotation = rest[:, 3] * self.scale, transforms.pure_rotations(rest[:, :3])
        pivot = body.axes.T @ (self.rest_place - body.centre)
        if layer.value("joint") != "free" and np.linalg.norm(pivot) < 1e-4:
            notes.append(f"{layer.name}: “{name}” is its thing's centre of mass, so it does not swing by its weight")
        axis = (
            body.axes.T @ self.rest_rotation @ np.eye(3)["xyz".index(layer.value("axis"))]
            if layer.value("joint") == "hinge"
            else np.zeros(3)
        )
        self.pivot = pivot
        self.numbers = np.concatenate([[1.0 / body.mass], 1.0 / body.inertia, pivot, axis])
        self.kind, self.rigid_contacts = KINDS[layer.value("joint")], layer.value("prop_collision") == "on"
        self.points = body.own_points
        # From the joint's own turn to the principal axes, and the centre seen from the joint.
        self.own_rotation = self.rest_rotation.T @ body.axes
        self.own_centre = self.rest_rotation.T @ (body.centre - self.rest_place)

    def meet(self, contacts, driven):
        """As `Unit.meet`."""
        self.met = contacts.met_by(self.layer, driven)
        own = self.skeleton.below(self.node)
        self.skins_met = contacts.skins_met_by(self.setup, self.layer, own) + contacts.skins_behind(self.met, own)
        self.met_nodes = contacts.nodes_of(self.met, self.skins_met)
        self.met_digest = contacts.identity(self.met, self.skins_met)
        if len(self.met) or self.skins_met:
            self.touching = PropContacts(contacts, self.met, self.skins_met, self.body)

    def substep_rate(self):
        """As `Unit.substep_rate`."""
        return swing.LOWEST_RATE

    def joins(self):
        """As `Unit.joins`: all that collide with each other."""
        return Prop if self.rigid_contacts else None

    @classmethod
    def compiled(cls, units, context, substeps, beside):
        """As `Unit.compiled`."""
        for prop in units:
            prop.compile(substeps)
        return PropGroup(units)

    def compile(self, substeps):
        """Take the length of a substep."""
        value, frames = self.layer.value, self.setup.frame_rate
        self.dt = 1.0 / (substeps * frames)
        settle = value("settle_time") / frames
        stiffness, damping_factor = swing.matched_from_begin(value("hold_rate"), settle, self.dt)
        drag_factor = (1.0 - min(value("drag") / 100.0, 0.99)) ** (self.dt * frames)
        pull = np.array([0.0, -value("gravity") / 100.0 * swing.GRAVITY, 0.0])
        settings = np.array([*pull, damping_factor, drag_factor, stiffness, np.radians(value("swing_limit"))])
        self.rigid = rigid.RigidBody(self.numbers, self.kind, settings, self.body.own_balls, *outside_of(self.body))

    def keyed(self, world):
        """Keyed positions and rotations (S, 7) [m] of the body in node matrices (S, J, 3, 4)."""
        placed = world[:, self.node]
        rotations = transforms.pure_rotations(placed[..., :3])
        centres = placed[..., 3] * self.scale + rotations @ self.own_centre
        return np.concatenate([centres, transforms.from_matrices(rotations @ self.own_rotation)], axis=1)

    def size(self):
        """How large it is, corner to corner [m]."""
        return float(np.linalg.norm(np.ptp(self.body.points, axis=0)))

    def jumps(self, frame_world):
        """In which frames its joint jumps: bool (F,) from node matrices (F, J, 3, 4) at frames."""
        return jumps_of(frame_world[:, [self.node]], np.array([self.size() / self.scale]))[:, 0]

    def start(self, world):
        """Begin at rest in a pose: node matrices (J, 3, 4)."""
        self.before = self.keyed(world[None])[0]
        self.state = np.concatenate([self.before, np.zeros(6)])
        if self.touching:
            self.touching.start(world)

    def ready(self, world, jumped, frames, skin_world=None):
        """Take S = frames x substeps samples of node matrices (S, J, 3, 4).

        jumped  bool (frames,): in such a frame it is keyed from the start where the frame ends
        """
        self.keyed_path, self.jumped_now, self.per_frame = self.keyed(world), jumped, len(world) // frames
        self.record = np.empty((len(world), 7))
        if self.touching:
            self.touching.ready(world, jumped, self.per_frame, skin_world)

    def begin(self, frame):
        """Begin a frame, counted from the first that it took: how it is keyed (S + 1, 7), what it touches, colliders and spots of skins."""
        part = slice(frame * self.per_frame, (frame + 1) * self.per_frame)
        if self.jumped_now[frame]:
            self._carry_over(self.keyed_path[part.stop - 1])
            self.keyed_path[part] = self.keyed_path[part.stop - 1]
        travel = np.concatenate([self.before[None], self.keyed_path[part]])
        self.before = self.keyed_path[part.stop - 1]
        if not self.touching:
            return travel, rigid.NOTHING, rigid.NO_SURFACE_CONTACTS
        return travel, self.touching.touches(frame), self.touching.surface_contacts(frame, self.state, travel[-1], self.per_frame * self.dt)

    def end(self, frame):
        """A frame is over. Raises Unstable."""
        if not np.abs(self.state).max() < max(RUNAWAY, np.abs(self.keyed_path).max() + RUNAWAY):
            raise Unstable(self.layer.name, frame, "it moves faster than anything real could")

    def _carry_over(self, target):
        """The joint jumped: go along with it, and carry the swing over."""
        turn = transforms.multiply(target[3:], transforms.inverse(self.before[3:]))
        state = self.state
        state[:3] = target[:3] + transforms.rotate(turn, state[:3] - self.before[:3])
        state[3:7] = transforms.multiply(turn, state[3:7])
        for part in (slice(7, 10), slice(10, 13)):
            state[part] = transforms.rotate(turn, state[part])
        self.before = target

    def turn(self, pose, world, record, keyed, amounts):
        """Turn, and move where it is free, the joint in a pose (S, J), in place; world (S, J, 3, 4) as it carries it, amounts (S,)."""
        parent = self.skeleton.parents[self.node]
        linear = world[:, parent, :, :3] if parent >= 0 else np.broadcast_to(np.eye(3), (len(record), 3, 3))
        rotations = transforms.slerp(self._aims(keyed), transforms.multiply(record[:, 3:], transforms.inverse(keyed[:, 3:])), amounts)
        local = transforms.seen_in(rotations, transforms.pure_rotations(linear))
        pose.rotations[:, self.node] = transforms.multiply(local, pose.rotations[:, self.node])
        if self.layer.value("joint") == "free":
            moved = record[:, :3] + transforms.rotate(record[:, 3:], self.pivot) - keyed[:, :3]
            moved -= transforms.rotate(keyed[:, 3:], self.pivot)
            pose.translations[:, self.node] += np.linalg.solve(linear, (moved * amounts[:, None] / self.scale)[..., None])[..., 0]

    def _aims(self, keyed):
        """How the body is turned from its keyed turn where physics does not count, (S, 4): not at all, or so that it hangs down."""
        none = np.tile(transforms.IDENTITY, (len(keyed), 1))
        if self.layer.value("aim") == "keyed" or np.linalg.norm(self.pivot) < 1e-6:
            return none
        hanging = transforms.rotate(keyed[:, 3:], np.broadcast_to(-self.pivot, (len(keyed), 3)))
        return transforms.shortest_turn(hanging, np.broadcast_to([0.0, -1.0, 0.0], hanging.shape))

    def apart(self, record, keyed):
        """How far the thing's furthest point is from its keyed place, (F,) [m]."""
        positions = [each[:, None, :3] + transforms.rotate(each[:, None, 3:], self.points[None]) for each in (record, keyed)]
        return transforms.lengths(positions[0] - positions[1]).max(1)


class PropGroup(Part):
    """Props that are simulated together because they collide with each other, or one alone."""

    INSIDE = ("units",)

    def __init__(self, props):
        self.units = props
        self.layers = tuple({prop.layer.id: prop.layer for prop in props}.values())

    def digest_inputs(self):
        """As `Part.digest_inputs`."""
        return "prop", [(prop.layer.values, prop.node, prop.met_digest) for prop in self.units]

    def start(self, world):
        """As `Part.start`."""
        for prop in self.units:
            prop.start(world)

    def jumps(self, frame_world):
        """As `Part.jumps`: bool (F, B)."""
        return np.stack([prop.jumps(frame_world) for prop in self.units], axis=1)

    def simulate(self, frames, jumped, every, threads=None):
        """As `Part.simulate`: "record" and "keyed" (B, S, 7), positions and turns of the bodies."""
        advance_together(self.units, frames.world, jumped.T, frames.count, frames.skin_world)
        shown = slice(every - 1, None, every)
        return {
            "record": np.stack([prop.record[shown] for prop in self.units]),
            "keyed": np.stack([prop.keyed_path[shown] for prop in self.units]),
        }

    def apply(self, frames, outputs, every):
        """As `Part.apply`."""
        world, step = frames.world, frames.per_frame // every
        for prop, record, keyed in zip(self.units, outputs["record"], outputs["keyed"], strict=True):
            amounts, ends = frames.amounts(prop.layer), slice(step - 1, None, step)
            prop.turn(frames.final, world[frames.ends], record[ends], keyed[ends], amounts)
            if every == 1:
                prop.turn(frames.pose, world, record, keyed, np.repeat(amounts, frames.per_frame))

    def trackers(self):
        """As `Part.trackers`."""
        return [prop.touching for prop in self.units if prop.touching]

    def shifted_nodes(self):
        """Nodes whose translation it changes."""
        return {prop.node for prop in self.units if prop.layer.value("joint") == "free"}

    def added(self, frames, outputs, keyed_world, final_world):
        """As `Part.added`."""
        return [(prop.layer, prop.apart(prop.keyed(final_world), prop.keyed(keyed_world))) for prop in self.units]


def advance_together(props, world, jumped, frames, skin_world=None):
    """Simulate props, which may collide with each other, through S = frames x substeps samples of node matrices (S, J, 3, 4).

    jumped  for each prop bool (frames,), as `Prop.ready` takes it. Afterwards each has its ``record`` (S, 7) of positions and turns, and in
    ``keyed_path`` (S, 7) those that it was keyed to. Raises Unstable.
    """
    for prop, its in zip(props, jumped, strict=True):
        prop.ready(world, its, frames, skin_world)
    per_frame = len(world) // frames
    for frame in range(frames):
        keyed, touches, surface_contacts = zip(*(prop.begin(frame) for prop in props), strict=True)
        states, dt = [prop.state for prop in props], props[0].dt
        records = rigid.advance([prop.rigid for prop in props], states, keyed, dt, touches, surface_contacts)
        for prop, record in zip(props, records, strict=True):
            prop.record[frame * per_frame : (frame + 1) * per_frame] = record
            prop.end(frame)


def outside_of(body):
    """What a body is to others that it knocks against, as kernels/rigid_contacts.py takes it: its outside (SHAPE,) and box (BOX,)."""
    middle, half, turn = body.own_box
    half = np.maximum(half, 1e-4)
    radius = ROUNDED * float(half.min())
    core = half - radius
    shape = shape_rows([[core[0], core[2], core[1], core[1]]], [float(np.linalg.norm(core))], [RIGID_CONTACT_FRICTION])[0]
    return shape, np.concatenate([middle, [radius], turn])


def _body_of(character, node, scale):
    """The PropBody of what a node and those below it move; None where that is nothing."""
    positions, triangles = _mesh_of(character, node)
    return prop_body.build(positions * scale, triangles) if len(triangles) else None


def _mesh_of(character, node):
    """The mesh that a node and those below it move: positions (V, 3) in the rest pose [file units], triangles (F, 3)."""
    world = rest_matrices(character.skeleton)
    positions, triangles, count = [np.zeros((0, 3))], [np.zeros((0, 3), int)], 0
    for index, own in fitting.skin_of_nodes(character, [node]).items():
        mesh = character.meshes[index]
        number = np.full(len(mesh.positions), -1)
        number[own] = count + np.arange(len(own))
        faces = number[mesh.triangles]
        triangles.append(faces[(faces >= 0).all(1)])
        positions.append(skinned_positions(mesh, world)[own])
        count += len(own)
    return np.concatenate(positions), np.concatenate(triangles)
