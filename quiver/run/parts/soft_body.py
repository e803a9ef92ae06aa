"""Soft bodies in a run: carried by the joints, free to lag behind them, kept out of colliders. Soft volumes and sheets are two kinds."""

import numpy as np

from quiver.contact.own import OwnContacts
from quiver.contact.softs import SoftContacts
from quiver.errors import Unstable
from quiver.kernels.carrying import carry_moves
from quiver.mesh.topology import outer_faces
from quiver.rig import transforms
from quiver.rig.skinning import skinned_through
from quiver.run.parts.jumps import jumps_of
from quiver.run.parts.part import Part, Unit
from quiver.sim import solid
from quiver.sim.bounds import RUNAWAY
from quiver.threads import split

LEAST_TOUCHING = 0.2
"""Vertices that take less of the body's result do not touch for it."""


class SoftBody(Unit, Part):
    """What soft volumes and sheets have in common: a unit that is a part by itself.

    What it is made of: part (lattice, carried, mesh_index ...), body (masses, is_free ...), blend (R,) how much of the result each vertex
    takes; `compile` makes the model and the measure. ``samples`` of a frame are where it is keyed, 0 for each of its steps.
    """

    VARYING = ("before", "turned", "moved_before")
    INSIDE = ("state", "touching", "self_contact")
    is_soft, self_contact, _keeps = True, None, "keyed"
    solver, stride, looks, nothing_of_itself, samples = solid, 1, 1, solid.NO_PAIRS, 0

    def __init__(self, character, layer, setup):
        self.character, self.layer, self.setup, self.touching = character, layer, setup, None
        self.layers, self.units = (layer,), [self]
        self.scale = setup.metres_per_unit
        self.settle_seconds = layer.value("settle_time") / setup.frame_rate
        self.region = setup.region(layer.region)

    @property
    def follows(self):
        """As `Unit.follows`: the nodes that carry the part."""
        return self.part.carried.carriers

    @classmethod
    def compiled(cls, units, context, substeps, beside):
        """As `Unit.compiled`."""
        units[0].compile(substeps, context.notes)
        return units[0]

    def digest_inputs(self):
        """As `Part.digest_inputs`."""
        return type(self).__name__, self.layer.values, self.layer.built, self._form(), self.region.mesh, self.region.values, self.met_digest

    def _form(self):
        form = self.layer.form
        return (form.shape, form.place, form.turn, form.size, form.mesh) if form else None

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame; remarks go to ``notes``."""
        raise NotImplementedError

    def _pull(self, turned):
        """What pulls at it in a frame, (3,) or (N, 3) [m/s2], while the part as a whole is turned by a matrix (3, 3)."""
        raise NotImplementedError

    def _own_contacts(self, thickness):
        """The OwnContacts that let parts of it which are no neighbours keep each other off, where the dial says so; else None."""
        if self.layer.value("self_collision") != "on":
            return None
        made = self.part.lattice
        own = np.unique(outer_faces(made.tets)) if len(made.tets) else None
        return OwnContacts(made.nodes, self.part.edge, thickness, own, made.pieces)

    def _pairs(self, keyed_moves, seconds):
        """Which of its own particles may touch in a frame in which they are keyed to move by (N, 3), as `push_pairs` takes it."""
        return self.self_contact.touches(self.state, keyed_moves, seconds) if self.self_contact else self.nothing_of_itself

    def meet(self, contacts, driven):
        """As `Unit.meet`."""
        inner = self._inner_carriers()
        self.met = contacts.met_by(self.layer, driven, inner)
        behind = contacts.skins_behind(self.met, region=self.region, carriers=inner)
        self.skins_met = contacts.skins_met_by(self.setup, self.layer) + behind
        self.met_nodes = contacts.nodes_of(self.met, self.skins_met)
        self.met_digest = contacts.identity(self.met, self.skins_met)
        self._touch(contacts)

    def _touch(self, contacts):
        """Look out for what it was found to meet."""
        self.contacts = contacts
        if len(self.met) or self.skins_met:
            self.touching = SoftContacts(contacts, self.met, self.skins_met, *self._surface())

    def within_reach(self):
        """The SoftContacts that a hand stands among, made where it meets nothing else."""
        if not self.touching:
            self.touching = SoftContacts(self.contacts, np.zeros(0, int), [], *self._surface())
            self.touching.dt = self.model.dt
        return self.touching

    def _inner_carriers(self):
        """Nodes that are inside of it, whose colliders it does not meet by default."""
        return ()

    def _surface(self):
        """What touches for it: positions at rest (R, 3) [m], corners and corner_weights (R, 4) of what carries them, thickness [m]."""
        part, on = self.part, self._is_touching
        return part.surface[part.lattice.vertices[on]], part.lattice.corners[on], part.lattice.corner_weights[on], 0.0

    @property
    def _is_touching(self):
        return self.blend > LEAST_TOUCHING

    @property
    def touching_skin(self):
        """{mesh index: vertices} that touch for it."""
        return {self.mesh_index: self.vertices[self._is_touching]}

    @property
    def moved(self):
        """{mesh index: vertices} that it moves."""
        return {self.mesh_index: self.vertices}

    def _besides_pull(self, frame, begin, end):
        """What the solver takes besides, by name, from one share of a frame to another."""
        return {}

    def keyed(self, world):
        """Keyed positions of the nodes (..., N, 3) [m] in node matrices (S, J, 3, 4)."""
        return skinned_through(self.part.carried, world) * self.scale

    def frames_of(self, world):
        """How the part as a whole is turned, (S, 3, 3): the joint that carries most of it, against the rest pose."""
        carried = self.part.carried
        heaviest = self._heaviest()
        slot = int(np.flatnonzero(carried.bind_nodes == heaviest)[0])
        return transforms.pure_rotations(world[:, heaviest, :, :3] @ carried.inverse_binds[slot, :, :3])

    def rest(self):
        """Stand in the rest pose, keyed to stay there."""
        self.before = self.part.lattice.nodes
        self.state = solid.SolidState(self.before)

    def jumps(self, frame_world):
        """In which frames the part's root jumps: bool (F,) from node matrices (F, J, 3, 4) at frames."""
        return jumps_of(frame_world[:, [self._heaviest()]], np.array([self.size() / self.scale]))[:, 0]

    @property
    def is_cut(self):
        """Whether it is cut into domains, for several threads."""
        return self.model.is_cut

    @property
    def mesh_index(self):
        return self.part.mesh_index

    @property
    def vertices(self):
        """The vertices (R,) of its mesh that it moves."""
        return self.part.lattice.vertices

    def size(self):
        """How large the part is, corner to corner [m]."""
        return float(np.linalg.norm(np.ptp(self.part.lattice.nodes, axis=0)))

    def lies_on(self):
        """What holds it where it is at rest besides its particles that are held, as `touches` of its solver."""
        return solid.NO_TOUCHES

    def slowest(self):
        """(the shape (N, 3) of its slowest mode, 0 where nothing can swing, how large what swings is [m]): what a ring test knocks."""
        return self.body.mode, self.size()

    def _heaviest(self):
        """The node that carries most of the part."""
        carried = self.part.carried
        return int(np.bincount(carried.joints.ravel(), carried.weights.ravel()).argmax())

    def start(self, world):
        """Begin at rest in a pose: node matrices (J, 3, 4)."""
        self.before = self.keyed(world[None])[0]
        self.turned = self.frames_of(world[None])[0]
        self.moved_before = np.zeros((1, *self.before.shape), np.float32)
        self.state = solid.SolidState(self.before)
        if self.touching:
            self.touching.start(world, self.model.dt)
        if self.self_contact:
            self.self_contact.start()

    def fresh(self):
        """As `Varying.fresh`, in the rest pose."""
        own = super().fresh()
        own.units = [own]
        return own

    def simulate(self, frames, jumped, every, threads=None):
        """As `Part.simulate`: "moves" (F + 1, N, 3) [m] of the particles at the frames' ends, those before the first frame in front, and
        what it measured (F, 4), see `advance`.
        """
        _, measured = self.advance(frames.world, jumped, frames.count, threads, frames.skin_world)
        return {"moves": self.moves, "measured": measured, **self._besides()}

    def _measured(self, outputs, size):
        """As `Part.measures`, of what changes in ``size``: "volume" or "area"."""
        names = (size, "stretch", f"keyed_{size}", "keyed_stretch")
        return {name: outputs["measured"][:, column] for column, name in enumerate(names)}

    def _besides(self):
        """Outputs beside those that all soft bodies have."""
        return {}

    def advance(self, world, jumped, frames, threads=None, skin_world=None):
        """Simulate S = frames x substeps samples of node matrices (S, J, 3, 4).

        Returns displacements (frames, N, 3) [m] and measures (frames, 4): change of volume and greatest stretch [%], then both as keyed.

        jumped  bool (frames,): in such a frame the keyed motion is taken from the frame's end at once. Raises Unstable.
        """
        per_frame = len(world) // frames
        ends, own = world[per_frame - 1 :: per_frame], self.samples or per_frame // self.stride
        keyed, turned = self._keyed_steps(world, frames), self.frames_of(ends)
        self.ends, self._seconds = (ends, keyed[own - 1 :: own]), per_frame // self.stride * self.model.dt
        out, seen = np.empty((frames, len(self.before), 3), np.float32), []
        if self.touching:
            self.touching.ready(world, jumped, per_frame, skin_world, self.stride, self.looks)
        for frame in range(frames):
            steps = keyed[frame * own : (frame + 1) * own]
            if jumped[frame]:
                self._carry_over(steps[-1], turned[frame])
                steps = np.repeat(steps[-1:], own, 0)
            for look, some in enumerate(np.split(steps, self.looks)):
                moves = some[-1] - self.before
                touches = self._touches(frame, moves, look, threads, jumped[frame])
                touches = *touches[:3], self._pairs(moves, self._seconds / self.looks), *touches[4:]
                more = {"keeps": self._keeps} | self._besides_pull(frame, look / self.looks, (look + 1) / self.looks)
                targets, begin = self._led(frame, some, self.before, jumped[frame])
                if targets is not some:
                    more["rests"] = some, self.before
                self.solver.advance(self.model, self.state, targets, begin, self._pull(turned[frame]), threads, touches, **more)
                self.before = some[-1]
            self.turned = turned[frame]
            out[frame] = self.state.positions - self.before
            seen.append((self.state.positions.copy(), self.before))
            if not self.state.greatest_speed < RUNAWAY:
                raise Unstable(self.layer.name, frame, "it moves faster than anything real could")
        self.moves = np.concatenate([self.moved_before, out])
        self.moved_before = out[-1:]
        return out, self._measures(seen, threads)

    def _measures(self, seen, threads):
        """What is measured, (F, 4), of where the particles are and where they are keyed to be in each frame, (N, 3) each."""
        found = np.empty((len(seen), 4), np.float32)

        def measure(first, end):
            for frame in range(first, end):
                positions, keyed = seen[frame]
                found[frame] = *self.measure(positions), *self.measure(keyed)

        split(measure, len(seen), 1, threads)
        return found

    def _keyed_steps(self, world, frames):
        """Where the particles are keyed to be after each step of so many frames (S, N, 3) [m]."""
        return self.keyed(world[self.stride - 1 :: self.stride])

    def _touches(self, frame, moves, look, threads, jumped):
        """What may touch in a look of a frame in which the particles are keyed to move by (N, 3)."""
        return self.touching.touches(frame, self.state, moves, look, threads) if self.touching else solid.NO_TOUCHES

    def _led(self, frame, steps, before, jumped):
        """Where its particles are led to in a frame, (S, N, 3) and before (N, 3): where they are keyed to be, or elsewhere."""
        return steps, before

    def is_soft_at(self, mesh, vertex):
        """Whether a hand that takes hold of a vertex of a mesh (its index) has hold of this."""
        if mesh != self.mesh_index:
            return False
        at = np.searchsorted(self.vertices, vertex)
        return bool(at < len(self.vertices) and self.vertices[at] == vertex and self.blend[at] > LEAST_TOUCHING)

    def _carry_over(self, positions, turned):
        """The root jumped: go along with it, and carry the swing over."""
        turn = turned @ self.turned.T
        self.state.positions = positions + (self.state.positions - self.before) @ turn.T
        self.state.velocities[:, :3] = self.state.velocities[:, :3] @ turn.T.astype(np.float32)
        self.before = positions

    def shifts(self, moves, corners, barycentric, per_frame):
        """How a point that rides on particles is moved in each substep, (F x per_frame, 3) [file units], even between the frames' ends.

        moves (F + 1, N, 3) [m] as `simulate` gives them; corners (4,) and barycentric weights (4,) say where the point is
        """
        ends = np.einsum("c,fck->fk", barycentric, moves[:, corners].astype(float)) / self.scale
        within = (np.arange(per_frame) + 1.0)[:, None] / per_frame
        return (ends[:-1, None] + within * np.diff(ends, axis=0)[:, None]).reshape(-1, 3)

    def offsets(self, outputs, amounts, world):
        """({mesh index: world-space offsets (F, R, 3) [file units] of the vertices that it moves}, the most that it moves any (F,) [m]).

        From its outputs, amounts (F,), and node matrices (F, J, 3, 4) as all parts leave them.
        """
        out = self._own_offsets(outputs, amounts)
        return {self.mesh_index: out}, transforms.lengths(out).max(1) * self.scale

    def _own_offsets(self, outputs, amounts):
        lattice, moves = self.part.lattice, outputs["moves"][1:]
        shares, out = amounts[:, None] * self.blend / self.scale, np.empty((len(moves), len(self.blend), 3))
        carry_moves(lattice.corners, lattice.corner_weights, moves, shares, out)
        return out

    def added(self, frames, outputs, keyed_world, final_world):
        """As `Part.added`; what `offsets` found is handed over as "most"."""
        return [(self.layer, outputs["most"])]

    def trackers(self):
        """As `Part.trackers`."""
        return [self.touching.shapes] if self.touching and self.touching.shapes else []
