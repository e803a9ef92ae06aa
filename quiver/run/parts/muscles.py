"""Muscles in a run: all those of a layer are one solid of as many pieces, held at their attachments and pulled along their fibres."""

from dataclasses import replace
from types import SimpleNamespace

import numpy as np

from quiver.bodies import attaching, muscle, volume
from quiver.bodies import chain as swing
from quiver.colliders import DEFAULTS, Collider
from quiver.contact.between import NEAR, BetweenMuscles
from quiver.contact.skins import Skin, Surface
from quiver.errors import BadInput
from quiver.kernels.between import may_touch
from quiver.kernels.carrying import carry_moves
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through, subset
from quiver.run.measures.volume_change import PiecesMeasure
from quiver.run.parts.built_muscle import BuiltMuscle, resting
from quiver.run.parts.pulls import Pulls
from quiver.run.parts.soft_body import SoftBody
from quiver.run.parts.softening import softening_of
from quiver.sim import solid
from quiver.sim.bounds import MOST_PER_STEP

MOST_LISTED = 6
"""Pairs of muscles that cross at rest of which a take tells, one by one."""
HASTE = 1.5
"""What moved so far in a frame may move farther by this in the next, before it is looked at again."""
MOST_SAMPLES = 6
"""So often a frame it is found where muscles are keyed to be."""
TOLD = 0.03
"""What swings by so much slower or quicker than its dial says is told."""
HELD = 0.5
"""A vertex that is held by a larger share does not touch anything."""


def units(context, layers):
    """A MuscleLayer for each of some layers that have muscles. Raises BadInput where one cannot be built."""
    owners = {}
    for layer in layers:
        for own in layer.muscles:
            other = owners.setdefault((own.mesh, own.at), layer) if own.mesh else layer
            if other is not layer:
                raise BadInput(f"“{other.name}” and “{layer.name}” both move “{own.name}”. Remove it from one of them")
    return [MuscleLayer(context.character, layer, context.setup, context.notes) for layer in layers if layer.muscles]


class _JoinedPart:
    """What the muscles of a layer give to one solid: lattice, body, what carries them between their ends (Between), edge."""

    def __init__(self, character, built, muscles, scale):
        rest = rest_matrices(character.skeleton)
        # How stiff each is comes with the substeps.
        self.lattice, self.body, self.numbers = muscle.joined(muscles, np.ones(len(muscles)))
        self.edge = self.lattice.edge
        nodes, lines = np.array([each.nodes for each in built]), np.array([each.line for each in built])
        shares, owners = (
            np.concatenate([each.between for each in muscles]),
            np.repeat(np.arange(len(muscles)), [len(m.between) for m in muscles]),
        )
        self.between = attaching.Between(self.lattice.nodes, owners, shares, nodes, lines, rest, scale)


class MuscleLayer(SoftBody):
    """One layer of the kind muscle in a run."""

    is_muscle, mesh_index, vertices = True, -1, np.zeros(0, int)
    VARYING = (*SoftBody.VARYING, "pulled", "was")
    INSIDE = (*SoftBody.INSIDE, "between")

    def __init__(self, character, layer, setup, notes):
        self.character, self.layer, self.setup, self.touching = character, layer, setup, None
        self.layers, self.units = (layer,), [self]
        self.scale = setup.metres_per_unit
        self.built = [BuiltMuscle(character, setup, layer, own) for own in layer.muscles]
        for each in self.built:
            notes += each.notes
        self.muscles, self.rests = [each.built() for each in self.built], resting(character, layer, setup)
        self.part = _JoinedPart(self.rests, self.built, self.muscles, self.scale)
        self.body = self.part.body
        ends = np.array([each.places for each in self.built]) / self.scale
        self.pulls = Pulls(self.rests, layer.muscles, ends, [each.nodes for each in self.built], setup.frame_rate)
        self.settle_seconds = max(each.values["settle_time"] for each in self.built) / setup.frame_rate
        self.rest_world = rest_matrices(self.rests.skeleton)
        self._skins()
        self.between = self._between(notes) if len(self.built) > 1 and layer.value("self_collision") == "on" else None

    def _skins(self):
        """Which vertices of which meshes are carried, and by what."""
        found = {}
        for number, each in enumerate(self.built):
            index, made = self.character.mesh_index(each.piece.mesh), each.shape.lattice
            corners = self.part.numbers[number][made.corners]
            found.setdefault(index, []).append((each.piece.vertices[made.vertices], corners, made.corner_weights))
        self.skins = {}
        for index, parts in sorted(found.items()):
            vertices, corners, weights = (np.concatenate(values) for values in zip(*parts, strict=True))
            order = np.argsort(vertices, kind="stable")
            mesh = subset(self.character.meshes[index], vertices[order])
            self.skins[index] = vertices[order], corners[order].astype(np.int32), weights[order], mesh

    @property
    def follows(self):
        """As `Unit.follows`: the nodes that its muscles are attached to."""
        return sorted({int(node) for each in self.built for node in each.nodes})

    def keyed(self, world):
        """As `SoftBody.keyed`."""
        return self.part.between.positions(world)

    def frames_of(self, world):
        """As `SoftBody.frames_of`: how what its largest muscle comes from is turned."""
        node = self._heaviest()
        return transforms.pure_rotations(world[:, node, :, :3] @ np.linalg.inv(self.rest_world[node, :, :3]))

    def slowest(self):
        """As `SoftBody.slowest`: of the first muscle that swings as the layer's dial says."""
        mode, number = np.zeros((len(self.body.masses), 3)), self.rung
        mode[self.part.numbers[number]] = self.muscles[number].body.mode
        return mode, self.built[number].piece.length

    @property
    def rung(self):
        """Which muscle a ring test knocks."""
        return next((at for at, each in enumerate(self.built) if "wobble_rate" not in each.own.values), 0)

    def _heaviest(self):
        return max(self.built, key=lambda each: each.piece.volume).nodes[0]

    def surfaces(self):
        """[(triangles (F, 3), how many vertices)] of its muscles, one after another."""
        return [(each.piece.triangles, len(each.piece.points)) for each in self.built]

    def surface_positions(self, world, outputs):
        """Where the vertices of its muscles are, (F, V, 3) [m], in node matrices (F, J, 3, 4) and, with outputs, as simulated."""
        nodes = self.keyed(world)
        if outputs is not None:
            nodes = nodes + outputs["moves"][1:]
        parts = []
        for numbers, each in zip(self.part.numbers, self.built, strict=True):
            made = each.shape.lattice
            order = np.argsort(made.vertices)
            parts.append(np.einsum("rc,frck->frk", made.corner_weights[order], nodes[:, numbers[made.corners[order]]]))
        return np.concatenate(parts, axis=1)

    def _between(self, notes):
        """The BetweenMuscles of its muscles; remarks on those that cross go to ``notes``."""
        triangles, corners, weights, owners, begin = [], [], [], [], 0
        for number, (numbers, each) in enumerate(zip(self.part.numbers, self.built, strict=True)):
            made = each.shape.lattice
            order = np.argsort(made.vertices)
            triangles.append(each.piece.triangles + begin)
            corners.append(numbers[made.corners[order]])
            weights.append(made.corner_weights[order])
            owners.append(np.full(len(order), number))
            begin += len(order)
        corners, weights = np.concatenate(corners), np.concatenate(weights)
        may = self._may_touch(corners, weights)
        rest, masses = self.part.lattice.nodes, self.body.inverse_masses
        found = BetweenMuscles(rest, masses, np.concatenate(triangles), corners, weights, np.concatenate(owners), may)
        crossed = sorted(found.crossed().items(), key=lambda item: -item[1])
        for (a, b), depth in crossed[:MOST_LISTED]:
            names = f"“{self.built[a].own.name}” and “{self.built[b].own.name}”"
            notes.append(f"{self.layer.name}: {names} cross by {1000.0 * depth:.0f} mm at rest; pushed apart gradually")
        if len(crossed) > MOST_LISTED:
            notes.append(f"{self.layer.name}: {len(crossed) - MOST_LISTED} more pairs of muscles cross at rest")
        return found

    def digest_inputs(self):
        """As `Part.digest_inputs`."""
        regions_used = [self.setup.region(name).values for name in self.layer.regions]
        muscles = [replace(own, name="") for own in self.layer.muscles]
        return type(self).__name__, self.layer.values, muscles, self.layer.bones, self.rest_world, regions_used, self.met_digest

    @property
    def softenings(self):
        """As `softening_of`, of each muscle."""
        return [softening_of(each.body, each.shape.lattice, each.shape.lattice.edge, muscle.surfaces_of([each])) for each in self.muscles]

    @property
    def wobbles(self):
        """The rate [Hz] at which each muscle is to swing: what its dial says, or what the springs that hold it allow."""
        return [
            float(np.sqrt(made.square)) / (2.0 * np.pi) if made.square > 0.0 else each.values["wobble_rate"]
            for made, each in zip(self.muscles, self.built, strict=True)
        ]

    def _rates(self):
        """Substeps a second that each muscle needs to swing at its rate."""
        return [
            volume.rate_needed(made.body, made.shape.lattice.edge, wobble, softening)
            for made, wobble, softening in zip(self.muscles, self.wobbles, self.softenings, strict=True)
        ]

    def substep_rate(self):
        """As `Unit.substep_rate`."""
        damped = [
            swing.substep_rate(wobble, each.values["settle_time"] / self.setup.frame_rate)[0]
            for wobble, each in zip(self.wobbles, self.built, strict=True)
        ]
        return max(min(max(self._rates()), swing.HIGHEST_RATE), max(damped))

    def meet(self, contacts, driven):
        """As `Unit.meet`: its bones, and what it was told to."""
        told = [index for index, collider in enumerate(contacts.colliders) if self.layer.id in collider.meets]
        self.met = np.array(told, int)
        bones = self.layer.bones
        mesh = attaching.bones_mesh(self.rests, bones) if bones else None
        made = [Skin(_bones(bones), Surface(mesh, self.rest_world, self.scale), bones)] if bones else []
        self.skins_met = made + contacts.skins_met_by(self.setup, self.layer)
        self.met_nodes = contacts.nodes_of(self.met, self.skins_met)
        self.met_digest = contacts.identity(self.met, self.skins_met)
        self._touch(contacts)

    def _surface(self):
        """As `SoftBody._surface`."""
        parts = []
        for _, corners, weights, _ in self.skins.values():
            on = self._may_touch(corners, weights)
            parts.append((corners[on], weights[on]))
        corners, weights = (np.concatenate(values) for values in zip(*parts, strict=True))
        return np.einsum("rc,rck->rk", weights, self.part.lattice.nodes[corners]), corners, weights, 0.0

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame."""
        rate, self.substeps, self.samples = substeps * self.setup.frame_rate, substeps, min(substeps, MOST_SAMPLES)
        dt, youngs, factors = 1.0 / rate, [], []
        parts = zip(self.built, self.muscles, self.wobbles, self._rates(), self.softenings, strict=True)
        for each, made, wanted, needed, softening in parts:
            asked, settle = each.values["wobble_rate"], each.values["settle_time"] / self.setup.frame_rate
            if abs(wanted - asked) > TOLD * asked:
                why = "its attachments are too soft" if wanted < asked else "its hold rate is too high"
                notes.append(f"{each.own.name}: {why} for {asked:g} Hz; it swings at {wanted:.2g} Hz")
            wobble, remarks = volume.reached(each.own.name, wanted, rate, needed)
            notes += remarks + swing.settle_note(each.own.name, wobble, settle, dt, self.setup.frame_rate)
            stiffness, damping = swing.matched(wobble, settle, dt)
            youngs.append(volume.young_for(made.body, made.shape.lattice.edge, stiffness, dt, softening))
            factors.append(damping)
        made, body, _ = muscle.joined(self.muscles, youngs)
        self.body = body
        counts = [len(each.between) for each in self.muscles]
        value = self.layer.value
        self.weight = value("gravity") / 100.0 * swing.GRAVITY
        self.measure = PiecesMeasure(made.nodes, made.tets, body.pieces, np.concatenate([each.shape.filled for each in self.muscles]))
        self.model = solid.solid_model(
            body,
            made.tets,
            1.0,
            dt,
            damping_factor=np.repeat(factors, counts),
            drag_factor=(1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * self.setup.frame_rate),
            speed_limit=MOST_PER_STEP * self.size() / dt,
            settles=True,
            surfaces=muscle.surfaces_of(self.muscles),
        )

    @property
    def _keeps(self):
        return self.layer.value("volume_goal")

    def _pull(self, turned):
        down = np.array([0.0, -self.weight, 0.0])
        return down - turned @ down if self.layer.value("balance") == "rest" else down

    def start(self, world):
        """As `SoftBody.start`; what is pulled at first has been so for ever."""
        super().start(world)
        self.pulled = self.was = None
        if self.between:
            self.between.start()

    def simulate(self, frames, jumped, every, threads=None):
        """As `SoftBody.simulate`, and "pulls" (F, Q)."""
        found = self.pulls.over(frames.source, frames.at, frames.at + frames.count)
        before = found[:1] if self.pulled is None else self.pulled
        self._pulls = np.concatenate([before, found])
        self.pulled = found[-1:]
        return super().simulate(frames, jumped, every, threads) | {"pulls": found.astype(np.float32)}

    def _besides_pull(self, frame, begin, end):
        before, now = self._pulls[frame], self._pulls[frame + 1]
        return {"pulls": solid.Pulls(before + begin * (now - before), before + end * (now - before)), "substeps": self.substeps}

    def _keyed_steps(self, world, frames):
        """As `SoftBody._keyed_steps`: a few a frame, for it goes nearly straight between them."""
        per_frame = len(world) // frames
        ends = np.round(np.arange(1, frames * self.samples + 1) * per_frame / self.samples).astype(int) - 1
        return self.keyed(world[ends])

    def _touches(self, frame, moves, look, threads, jumped):
        # Pulled tetrahedra tremble in a substep and are where they were in the next: how far they went in a frame says how fast they are.
        positions, seconds = self.state.positions, self._seconds
        likely = np.stack([HASTE * (positions - (positions if self.was is None else self.was)), moves])
        self.was = positions.copy()
        found = solid.NO_TOUCHES
        if self.touching:
            calm = np.zeros((len(positions), 4), np.float32)
            calm[:, :3] = likely[0] / seconds
            found = self.touching.touches(frame, SimpleNamespace(positions=positions, velocities=calm), moves, look, threads)
            found = found[0], _that_may_meet(found[1], likely), *found[2:]
        return found if self.between is None else (*found[:4], self.between.touches(positions, likely))

    @property
    def moved(self):
        """As `SoftBody.moved`."""
        return {index: vertices for index, (vertices, *_) in self.skins.items()}

    @property
    def touching_skin(self):
        """As `SoftBody.touching_skin`."""
        return {index: vertices[self._may_touch(corners, weights)] for index, (vertices, corners, weights, _) in self.skins.items()}

    def is_soft_at(self, mesh, vertex):
        """As `SoftBody.is_soft_at`."""
        return bool(np.isin(vertex, self.touching_skin.get(mesh, [])))

    def _may_touch(self, corners, weights):
        return np.sum(weights * self.body.holds[corners], axis=1) < HELD

    def offsets(self, outputs, amounts, world):
        """As `SoftBody.offsets`; the most is that of its particles, against their keyed places."""
        moves, found = outputs["moves"][1:], {}
        places = moves + self.keyed(world)
        for index, (vertices, corners, weights, mesh) in self.skins.items():
            out, shares = np.empty((len(moves), len(vertices), 3)), np.repeat(amounts[:, None] / self.scale, len(vertices), axis=1)
            # Where it is shown without simulation is where its mesh is keyed to be.
            carry_moves(corners, weights, places, shares, out)
            found[index] = out - amounts[:, None, None] * skinned_through(mesh, world)
        return found, amounts * np.linalg.norm(moves, axis=2).max(1, initial=0.0)

    def measures(self, outputs):
        """As `Part.measures`: change of volume of the muscle whose volume changes most and greatest stretch [%], and how it is pulled."""
        return self._measured(outputs, "volume") | {"pulls": outputs["pulls"]}


def _that_may_meet(contacts, likely):
    """Those of surface contacts that particles may come to when they go one of the ``likely`` ways, (K, N, 3)."""
    on = np.empty(len(contacts[0]), bool)
    may_touch(*contacts[:5], likely, NEAR, on)
    return tuple(np.ascontiguousarray(each[on]) for each in contacts)


def _bones(names):
    """Meshes as one collider that muscles slide on."""
    return Collider("bones", "Bones", "skin", mesh=names[0], values=DEFAULTS | {"friction": 0.0, "margin": 0.0})
