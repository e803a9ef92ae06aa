"""Tissue in a run: what lies between muscles and bones and the skin. It follows their surfaces below and carries the skin above."""

from dataclasses import replace

import numpy as np

from quiver.bodies import chain as swing
from quiver.bodies import lattice as lattices
from quiver.bodies import volume
from quiver.bodies.carried import carried
from quiver.cache import Cache
from quiver.contact.underside import FREE, SLIDING, STUCK, Underside, UnderSurface
from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.rig.pose import rest_matrices
from quiver.run.measures.volume_change import SolidMeasure
from quiver.run.parts.led_skin import LedSkin
from quiver.run.parts.smoothing import Smoothing
from quiver.run.parts.soft_body import SoftBody
from quiver.run.parts.sources import fade_in, surface_of
from quiver.sim import solid
from quiver.sim.bounds import MOST_PER_STEP

CELLS_DEEP, MOST_ACROSS = 1.5, 30
"""Cells through the layer where the artist leaves their size to us, but no more than so many along the longest side."""
FADE_CELLS = 1.5
KEPT = 12
_layers, _bodies = Cache(KEPT), Cache(KEPT)
INNER = {"stuck": STUCK, "slides": SLIDING, "free": FREE}


def units(context, layers):
    """A Tissue or a LedSkin for each of some layers; those before are known in ``context``. Raises BadInput where one cannot be built."""
    muscles = [unit for unit in context.units_so_far if getattr(unit, "is_muscle", False) and unit.layer.is_on]
    character, setup, made = context.character, context.setup, []
    for layer in layers:
        fat = _painted(character, setup, layer.fat, setup.region(layer.region).mesh)
        thickness = (layer.value("thickness") + fat * layer.value("fat_thickness")) / 1000.0
        kind, own = (LedSkin, ()) if layer.value("made_of") == "skin" else (Tissue, (fat,))
        under = UnderSurface(character, muscles, setup.metres_per_unit)
        made.append(kind(character, layer, setup, context.notes, under, muscles, thickness, *own))
    return made


class TissueLayer:
    """What a region gives to tissue: a lattice as deep as it is thick, what carries it, and how much of the result each vertex takes.

    thickness (V,) [m] of each vertex of the mesh, cell [m], 0 for ours. Raises BadInput.
    """

    def __init__(self, character, region, scale, thickness, cell):
        self.mesh, levels = character.painted(region)
        self.mesh_index = character.mesh_index(region.mesh)
        self.surface, chosen = surface_of(character, self.mesh, scale), regions.is_in(levels)
        own = thickness[chosen]
        if not (own > 0.0).all():
            raise BadInput(f"“{region.name}”: expected tissue of some thickness everywhere, got none at {int((own <= 0.0).sum())} vertices")
        across = float(np.ptp(self.surface[chosen], axis=0).max())
        edge = cell or max(float(np.median(own)) / CELLS_DEEP, across / MOST_ACROSS)
        self.lattice = lattices.build(self.surface, self.mesh.triangles, chosen, edge, thickness=thickness)
        self.edge = edge
        self.carried = carried(self.mesh, self.surface / scale, self.lattice.nodes / scale, rest_matrices(character.skeleton))
        self.topology = topology(self.surface, self.mesh.triangles)
        self.fade = fade_in(self.topology, chosen, self.lattice.vertices, FADE_CELLS * edge)


class Tissue(SoftBody):
    """One layer of the kind tissue in a run. It takes steps of its own: how fine those of others are does not matter to it."""

    VARYING = (*SoftBody.VARYING, "under_before", "led_before")
    INSIDE = (*SoftBody.INSIDE, "underside")

    def __init__(self, character, layer, setup, notes, under, after, thickness, fat):
        super().__init__(character, layer, setup)
        value, scale = layer.value, self.scale
        self.after, self.fat, self.under = after, fat, under
        key = (self.region.mesh, self.region.values, scale, thickness.tobytes(), value("cell_size"))
        make = lambda: TissueLayer(character, self.region, scale, thickness, value("cell_size") / 1000.0)  # noqa: E731
        self.part = _layers.get(character, key, make)
        made = self.part.lattice
        inner = np.flatnonzero(made.is_under)
        self.underside = Underside(
            self.under, made.nodes, inner, self._modes(inner, notes), value("reach") / 1000.0 or 3.0 * thickness.max()
        )
        if not len(self.underside.rows) and len(inner):
            notes.append(f"{layer.name}: no muscle and no bone is near below it, so it rides on the joints")
        pinned = made.is_inner.copy()
        pinned[self.underside.pinned] = True
        density = volume.DENSITY * value("weight") / 100.0
        body_key = (
            pinned.tobytes(),
            self.underside.modes.tobytes(),
            value("volume_keep"),
            density,
            layer.value("inner"),
            self._firm.tobytes(),
        )
        self.body = _bodies.get(self.part, body_key, lambda: self._body(pinned, density))
        self.blend = self.part.fade
        self.smoothing = Smoothing(self.part.topology, made.vertices, int(value("smoothing")))

    def _body(self, pinned, density):
        made = self.part.lattice
        holds = pinned.astype(float)
        most = np.zeros(made.pieces.max() + 1)
        np.maximum.at(most, made.pieces, np.maximum(holds, made.is_under))
        loose = most[made.pieces] <= 0.0
        springs = np.where(loose, volume.LEAST_HOLD * volume.STIFF_HOLD / (density * np.square(np.ptp(made.nodes, axis=0).max())), 0.0)
        return volume.body_of(
            made, density, holds, springs, self.layer.value("volume_keep") / 100.0, across=self.underside.across(), firm=self._firm
        )

    @property
    def _firm(self):
        """How firm each tetrahedron is (T,): less where there is fat."""
        made = self.part.lattice
        near, weights = lattices.near_vertices(self.part.surface, made.nodes)
        fat = np.sum(self.fat[near] * weights, axis=1)[made.tets].mean(1)
        return 1.0 - self.layer.value("looseness") / 100.0 * fat

    def _modes(self, inner, notes):
        """How each inner node (n,) follows what is below: as the dial says, or as is painted."""
        usual = INNER[self.layer.value("inner")]
        if not self.layer.clings:
            return np.full(len(inner), usual)
        painted = _painted(self.character, self.setup, self.layer.clings, self.region.mesh)
        near, weights = lattices.near_vertices(self.part.surface, self.part.lattice.nodes[inner])
        level = np.sum(painted[near] * weights, axis=1)
        return np.where(level < 1 / 3, STUCK, np.where(level < 2 / 3, SLIDING, FREE))

    @property
    def follows(self):
        """As `Unit.follows`."""
        return sorted({*self.part.carried.carriers, *self.under.nodes})

    def digest_inputs(self):
        """As `Part.digest_inputs`."""
        maps = [self.setup.region(name).values for name in (self.layer.fat, self.layer.clings) if name]
        return type(self).__name__, self.layer.values, self.region.mesh, self.region.values, maps, self.under.bones, self.met_digest

    @property
    def _wanted_rate(self):
        return volume.rate_needed(self.body, self.part.edge, self.layer.value("wobble_rate"))

    def substep_rate(self):
        """As `Unit.substep_rate`: none of others."""
        return 0.0

    def meet(self, contacts, driven):
        """As `Unit.meet`: only what it was told to."""
        self.met = np.array([index for index, each in enumerate(contacts.colliders) if self.layer.id in each.meets], int)
        self.skins_met = contacts.skins_met_by(self.setup, self.layer)
        self.met_nodes = contacts.nodes_of(self.met, self.skins_met)
        self.met_digest = contacts.identity(self.met, self.skins_met)
        self._touch(contacts)

    def compile(self, substeps, notes):
        """Make the model, for as many substeps a frame as it needs itself."""
        value, frame_rate = self.layer.value, self.setup.frame_rate
        damped = swing.substep_rate(value("wobble_rate"), self.settle_seconds)[0]
        wanted = max(min(self._wanted_rate, swing.HIGHEST_RATE), damped)
        self.own = max(1, int(np.ceil(wanted / frame_rate - 1e-6)))
        rate = self.own * frame_rate
        dt = 1.0 / rate
        wobble, remarks = volume.reached(self.layer.name, value("wobble_rate"), rate, self._wanted_rate)
        notes += remarks + swing.settle_note(self.layer.name, wobble, self.settle_seconds, dt, frame_rate)
        stiffness, damping_factor = swing.matched(wobble, self.settle_seconds, dt)
        young = volume.young_for(self.body, self.part.edge, stiffness, dt)
        self.weight = value("gravity") / 100.0 * swing.GRAVITY
        stretch, made = value("stretch_limit"), self.part.lattice
        self.measure = SolidMeasure(made.nodes, made.tets)
        self.model = solid.solid_model(
            self.body,
            made.tets,
            young,
            dt,
            damping_factor=damping_factor,
            drag_factor=(1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * frame_rate),
            speed_limit=MOST_PER_STEP * self.size() / dt,
            settles=True,
            longest=1.0 + stretch / 100.0 if stretch < 300.0 else None,
        )

    def rest(self):
        """As `SoftBody.rest`."""
        super().rest()
        self.under_before = self.under.rest

    def steps_of(self, substeps):
        """As `Part.steps_of`: its own."""
        return self.own

    def lies_on(self):
        """As `SoftBody.lies_on`: muscles and bones, as they were last."""
        return self.underside.joined(solid.NO_TOUCHES, self.state.positions, self.under_before, self.under_before)

    def _pull(self, turned):
        down = np.array([0.0, -self.weight, 0.0])
        return down - turned @ down

    def start(self, world):
        """As `SoftBody.start`."""
        super().start(world)
        self.under_before = self.under.positions(world[None], {})[0]
        self.led_before = self.underside.led(self.before, self.under_before)

    def simulate(self, frames, jumped, every, threads=None):
        """As `Part.simulate`."""
        ends = frames.world[frames.ends]
        moved = self.under.positions(ends, frames.results)
        self._under = np.concatenate([self.under_before[None], moved])
        picks = np.ceil((np.arange(frames.count * self.own) + 1.0) * frames.per_frame / self.own - 1e-9).astype(int) - 1
        own = replace(frames, world=frames.world[picks], per_frame=self.own, skin_world=frames.skin_world[picks])
        found = super().simulate(own, jumped, every, threads)
        self.under_before = moved[-1]
        return found

    def _keyed_steps(self, world, frames):
        """As `SoftBody._keyed_steps`: evenly from one frame's end to the next."""
        ends = np.concatenate([self.before[None], self.keyed(world[self.own - 1 :: self.own])])
        shares = (np.arange(self.own) + 1.0) / self.own
        return (ends[:-1, None] + shares[:, None, None] * np.diff(ends, axis=0)[:, None]).reshape(-1, *self.before.shape)

    def _led(self, frame, steps, before, jumped):
        """As `SoftBody._led`: what is stuck goes with what it is stuck to."""
        end = self.underside.led(steps[-1], self._under[frame + 1])
        begin = end if jumped else self.led_before
        out, rows, shares = steps.copy(), self.underside.stuck, (np.arange(len(steps)) + 1.0) / len(steps)
        out[:, rows] = begin[rows] + shares[:, None, None] * (end[rows] - begin[rows])
        start = before.copy()
        start[rows] = begin[rows]
        self.led_before = end
        return out, start

    def _touches(self, frame, moves, look, threads, jumped):
        touches = super()._touches(frame, moves, look, threads, jumped)
        surfaces = self._under[frame + 1 if jumped else frame], self._under[frame + 1]
        return self.underside.joined(touches, self.state.positions, *surfaces)

    def _own_offsets(self, outputs, amounts):
        return self.smoothing.of(super()._own_offsets(outputs, amounts), self.blend)

    def measures(self, outputs):
        """As `Part.measures`."""
        return self._measured(outputs, "volume")


def _painted(character, setup, name, mesh):
    """The influence (V,) of a painted map of the mesh, 0 where there is none. Raises BadInput where it is of another mesh."""
    count = len(character.mesh(mesh).positions)
    if not name:
        return np.zeros(count)
    region = setup.region(name)
    if region.mesh != mesh:
        raise BadInput(f"expected a map of “{mesh}”, “{region.name}” is of “{region.mesh}”")
    levels = regions.decode(region.values, count)
    return np.where(regions.is_in(levels), regions.influences(levels), 0.0)
