"""A solid in a run: the soft volume of one layer, carried by the joints and free to lag behind them."""

from collections import OrderedDict

import numpy as np

from quiver.bodies import chain as swing
from quiver.bodies import conforming, volume
from quiver.bodies import lattice as lattices
from quiver.contacts import SurfaceContacts, flesh_carriers
from quiver.dials import MOST_STRETCH
from quiver.errors import BadInput, Unstable
from quiver.jumps import jumps_of
from quiver.measure.solids import SolidMeasure
from quiver.mesh import regions
from quiver.mesh.topology import distance_along, topology
from quiver.rig import transforms
from quiver.rig.character import Mesh
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions, skinned_through, slots_of
from quiver.sim import solid
from quiver.sim.bounds import MOST_PER_STEP, RUNAWAY

CELLS_ACROSS = 12
"""Cells along the longest side of a part where the artist leaves their size to us."""
SEAM_CELLS = 1.5
"""Over so many cells from what is out the result fades in."""
FULL_INFLUENCE = 0.25
"""Influence from which on a vertex follows the solid entirely."""
FLAT = 1e-18
"""A placement that squeezes volumes to such a share has no way back."""
LEAST_TOUCHING = 0.2
"""Vertices that take less of the solid's result do not touch for it."""
LEAST_CARRIED = 0.02
"""What carries a node by less than this share is left out: a whisker must not be simulated finely for the sake of the chin."""
BODY_DIALS = ("loose", "hold_gain", "hold_offset", "volume_keep", "firmness", "weight")
WORTH_SAYING = 0.02
KEPT_PARTS = 12


class Part:
    """What a region gives to a solid, whatever the dials say but for how it is built: lattice, influence, fade, weights.

    cell_metres  0 leaves the size of the cells to us; scale [m] of one unit of the file
    apart        whether each piece of the mesh is a solid of its own
    built        "" for a lattice, or what bodies/conforming.py made of the whole mesh, in units of the file
    """

    def __init__(self, character, region, scale, cell_metres=0.0, apart=False, built=""):
        self.mesh, levels = check_region(character, region)
        self.mesh_index = character.mesh_index(region.mesh)
        rest_world = rest_matrices(character.skeleton)
        surface = surface_of(character, self.mesh, scale)
        chosen = regions.is_in(levels)
        self.surface, self.levels = surface, levels
        self.topology = topology(surface, self.mesh.triangles)
        edge = cell_metres or usual_edge(surface, chosen)
        if built:
            nodes, tets = conforming.decode(built)
            self.lattice = conforming.build(surface, chosen, nodes * scale, tets)
        elif apart:
            pieces = self.topology.spread(self.topology.piece_of)
            self.lattice = lattices.build_apart(surface, self.mesh.triangles, chosen, edge, pieces)
        else:
            self.lattice = lattices.build(surface, self.mesh.triangles, chosen, edge)
        self.edge = self.lattice.edge
        self.carried = _carried(self.mesh, surface / scale, self.lattice.nodes / scale, rest_world)
        self.fade = self._fade(chosen)
        self._bodies = {}

    def body(self, loose, gain, offset, volume_keep, firmness, weight):
        """What the dials, in their own units, make of it, kept from the last time.

        Returns the VolumeBody, how many pieces nothing holds, and how much of the result each vertex (R,) takes.
        """
        key = (loose, gain, offset, volume_keep, firmness, weight)
        if key not in self._bodies:
            influence = regions.adjusted(self.levels, gain, offset, loose == "inverted")
            holds = 1.0 - volume.node_influences(self.lattice, self.surface, influence)
            body = volume.build(self.lattice, holds, volume_keep / 100.0, firmness / 100.0, weight / 100.0)
            share = np.minimum(influence[self.lattice.vertices] / FULL_INFLUENCE, 1.0) * self.fade
            self._bodies = {key: (body, volume.loose_pieces(self.lattice, holds), share * share * (3.0 - 2.0 * share))}
        return self._bodies[key]

    def findings(self):
        """What is worth knowing of how the solid came out, in words."""
        made, said = self.lattice, []
        thin = float(made.is_thin.mean())
        if thin > WORTH_SAYING:
            said.append(f"{100.0 * thin:.0f} % of the skin lies where no cell fits in, such as thin or open parts: try smaller cells")
        pieces = int(made.pieces.max()) + 1
        if pieces > 1:
            said.append(f"it falls into {pieces} pieces that do not hang together")
        flesh = np.unique(self.topology.piece_of[self.topology.place_of[made.vertices[~made.is_thin]]])
        missed = np.setdiff1d(self.topology.piece_of[self.topology.place_of[made.vertices]], flesh)
        if len(missed):
            said.append(f"{len(missed)} of the mesh's pieces in it have no inside, so a sheet of cells carries them")
        return said

    def _fade(self, chosen):
        """How the result fades in from what is out, for each vertex of the region: 0..1."""
        top = self.topology
        border = np.flatnonzero(top.gathered((~chosen).astype(float)) > 0)
        if not len(border):
            return np.ones(len(self.lattice.vertices))
        reach = SEAM_CELLS * self.edge
        away = np.minimum(distance_along(top, border, 2.0 * reach) / reach, 1.0)
        return top.spread(away)[self.lattice.vertices]


def surface_of(character, mesh, scale):
    """The vertices (V, 3) of a mesh in the rest pose [m]."""
    return skinned_positions(mesh, rest_matrices(character.skeleton)).astype(float) * scale


def usual_edge(surface, chosen):
    """The size of the cells that we take for the ``chosen`` (bool) vertices of a surface (V, 3)."""
    return float(np.ptp(surface[chosen], axis=0).max()) / CELLS_ACROSS


def check_region(character, region):
    """The mesh that a region belongs to and the region's levels. Raises BadInput where they do not fit, or the region is empty."""
    mesh = character.mesh(region.mesh)
    levels = regions.decode(region.values, len(mesh.positions))
    if not regions.is_in(levels).any():
        raise BadInput(f"expected a region with vertices in it, “{region.name}” is empty")
    return mesh, levels


def _carried(mesh, surface, nodes, rest_world):
    """The nodes as a mesh of their own that the joints carry: each takes the weights of the vertices nearest to it."""
    if mesh.skin < 0:
        bind_nodes = np.array([mesh.node], np.int32)
        slots, weights = np.zeros((len(nodes), 1), np.int32), np.ones((len(nodes), 1), np.float32)
    else:
        bind_nodes = mesh.bind_nodes
        near, shares = lattices.near_vertices(surface, nodes)
        total = np.zeros((len(nodes), len(bind_nodes)))
        rows = np.repeat(np.arange(len(nodes)), near.shape[1] * mesh.joints.shape[1])
        np.add.at(total, (rows, slots_of(mesh)[near].reshape(-1)), (shares[..., None] * mesh.weights[near]).reshape(-1))
        slots = np.argsort(-total, axis=1)[:, :4].astype(np.int32)
        weights = np.take_along_axis(total, slots, 1)
        weights[weights < LEAST_CARRIED * weights.sum(1, keepdims=True)] = 0.0
        weights = (weights / weights.sum(1, keepdims=True)).astype(np.float32)
        used, slots = np.unique(np.where(weights > 0.0, slots, slots[:, :1]), return_inverse=True)
        bind_nodes, slots = bind_nodes[used], slots.reshape(weights.shape).astype(np.int32)
    full = np.tile(np.eye(4), (len(bind_nodes), 1, 1))
    full[:, :3] = rest_world[bind_nodes]
    if (np.abs(np.linalg.det(full)) < FLAT).any():
        raise BadInput(f"“{mesh.name}” hangs on a joint that is scaled to nothing in the rest pose, so it cannot carry flesh")
    inverse = np.linalg.inv(full)[:, :3]
    positions, no_triangles = nodes.astype(np.float32), np.zeros((0, 3), np.int32)
    return Mesh("nodes", mesh.node, positions, no_triangles, None, bind_nodes[slots], weights, 0, bind_nodes, inverse)


_parts = OrderedDict()


def part_of(character, region, scale, *how):
    """The Part of a region, built as Part says; kept from the last time while nothing that it is made of changed. Raises BadInput."""
    key = (id(character), region.mesh, region.values, scale, *how)
    found = _parts.get(key)
    if found is None or found[0] is not character:
        # The character is kept with it: its id stays its own that way.
        found = (character, Part(character, region, scale, *how))
        _parts[key] = found
        while len(_parts) > KEPT_PARTS:
            _parts.popitem(last=False)
    _parts.move_to_end(key)
    return found[1]


class Solid:
    """One volume layer in a run. ``rate`` is the substeps a second it needs; call `compile` with those it gets.

    ``meet`` (Contacts, nodes that chains move) makes it meet the colliders that it should.
    """

    def __init__(self, character, layer, setup, notes):
        self.character, self.layer, self.setup, self.touching = character, layer, setup, None
        self.scale = setup.metres_per_unit
        value = layer.value
        how = value("cell_size") / 1000.0, value("pieces") == "apart", layer.built
        part = self.part = part_of(character, setup.region(layer.region), self.scale, *how)
        self.body, loose, self.seam = part.body(*(value(name) for name in BODY_DIALS))
        if loose:
            notes.append(
                f"{layer.name}: nothing holds {'a piece' if loose == 1 else f'{loose} pieces'} of it; it is held a little everywhere"
            )
        self.settle = value("settle_time") / setup.frame_rate
        self.rate = volume.rate_needed(self.body, part.edge, value("wobble_rate"))

    def meet(self, contacts, driven):
        """Let it meet those of the Contacts that it should; ``driven`` are the nodes that chains move."""
        met = contacts.met_by(self.layer, driven, flesh_carriers(self.character, self.setup, self.layer))
        if len(met):
            part, on = self.part, self._is_touching
            surface = part.surface[part.lattice.vertices[on]]
            self.touching = SurfaceContacts(contacts, met, surface, part.lattice.corners[on], part.lattice.shares[on])

    @property
    def _is_touching(self):
        return self.seam > LEAST_TOUCHING

    @property
    def touching_vertices(self):
        """The vertices of its mesh that touch for it."""
        return self.vertices[self._is_touching]

    @property
    def met_nodes(self):
        """The nodes that the colliders it meets ride on."""
        return self.touching.nodes if self.touching else []

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame."""
        value, rate = self.layer.value, substeps * self.setup.frame_rate
        if self.rate > rate * 1.001:
            notes.append(f"{self.layer.name}: so quick a wobble in so small cells needs finer steps than the budget; it is softened")
        dt = 1.0 / rate
        wobble = value("wobble_rate") * min(1.0, rate / self.rate)
        stiffness, keep = swing.matched(wobble, self.settle, dt)
        young = volume.young_for(self.body, self.part.edge, stiffness, dt)
        air = (1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * self.setup.frame_rate)
        self.weight = value("gravity") / 100.0 * swing.GRAVITY
        options = {"keep": keep, "air": air, "pressure": value("pressure") / 100.0, "settles": value("shape") == "pose"}
        limit = MOST_PER_STEP * self.size() / dt
        self.measure = SolidMeasure(self.part.lattice.nodes, self.part.lattice.tets)
        stretch = value("stretch_limit")
        options["longest"] = 1.0 + stretch / 100.0 if stretch < MOST_STRETCH else None
        self.model = solid.solid_model(self.body, self.part.lattice.tets, young, dt, speed_limit=limit, **options)

    def keyed(self, world):
        """Keyed places of the nodes (..., N, 3) [m] in node matrices (S, J, 3, 4)."""
        return skinned_through(self.part.carried, world).astype(float) * self.scale

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
    def mesh_index(self):
        return self.part.mesh_index

    @property
    def vertices(self):
        """The vertices (R,) of its mesh that it moves."""
        return self.part.lattice.vertices

    @property
    def carriers(self):
        """The nodes that carry the part."""
        carried = self.part.carried
        return [int(node) for node in np.unique(carried.joints[carried.weights > 0.0])]

    def size(self):
        """How large the part is, corner to corner [m]."""
        return float(np.linalg.norm(np.ptp(self.part.lattice.nodes, axis=0)))

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

    def advance(self, world, jumped, frames, threads=None):
        """Simulate S = frames x substeps samples of node matrices (S, J, 3, 4).

        Returns displacements (frames, N, 3) [m] and measures (frames, 2): change of volume and greatest stretch [%].

        jumped  bool (frames,): in such a frame the keyed motion is taken from the frame's end at once. Raises Unstable.
        """
        per_frame = len(world) // frames
        keyed, turned = self.keyed(world), self.frames_of(world[per_frame - 1 :: per_frame])
        out, measures = np.empty((frames, len(self.before), 3), np.float32), np.empty((frames, 2), np.float32)
        if self.touching:
            self.touching.ready(world, jumped, per_frame)
        for frame in range(frames):
            part = slice(frame * per_frame, (frame + 1) * per_frame)
            targets = keyed[part]
            if jumped[frame]:
                self._carry_over(targets[-1], turned[frame])
                targets = np.repeat(targets[-1:], per_frame, 0)
            if self.layer.value("shape") == "pose":
                solid.settle(self.model, targets[-1])
            touches = self.touching.touches(frame, self.state, targets[-1] - self.before) if self.touching else solid.NO_TOUCHES
            solid.advance(self.model, self.state, targets, self.before, self._gravity(turned[frame]), threads, touches)
            self.before, self.turned = targets[-1], turned[frame]
            out[frame] = self.state.positions - self.before
            measures[frame] = self.measure(self.state.positions)
            if not self.state.greatest_speed < RUNAWAY:
                raise Unstable(self.layer.name, frame, "it moves faster than anything real could")
        self.moves = np.concatenate([self.moved_before, out])
        self.moved_before = out[-1:]
        return out, measures

    def ride_of(self, place):
        """How a place [file units] in the rest pose rides on the solid: the corners of a tetrahedron (4,) and its shares of them (4,)."""
        return lattices.shares_at(self.part.lattice, np.asarray(place, float) * self.scale)

    def shifts(self, ride, per_frame):
        """How the solid moved what rides on it in the latest frames: (frames x per_frame, 3) [file units], even between the frames."""
        corners, shares = ride
        ends = np.einsum("c,fck->fk", shares, self.moves[:, corners].astype(float)) / self.scale
        within = (np.arange(per_frame) + 1.0)[:, None] / per_frame
        return (ends[:-1, None] + within * np.diff(ends, axis=0)[:, None]).reshape(-1, 3)

    def _gravity(self, turned):
        down = np.array([0.0, -self.weight, 0.0])
        # Already sagging at rest: what the rest pose's own weight does is part of its shape.
        return down - turned @ down if self.layer.value("balance") == "rest" else down

    def _carry_over(self, places, turned):
        """The root jumped: go along with it, and carry the swing over."""
        turn = turned @ self.turned.T
        self.state.positions = places + (self.state.positions - self.before) @ turn.T
        self.state.velocities[:, :3] = self.state.velocities[:, :3] @ turn.T.astype(np.float32)
        self.before = places

    def offsets(self, displacements, amounts):
        """World-space offsets of the region's vertices (F, R, 3) [file units], from displacements (F, N, 3) [m] and amounts (F,)."""
        lattice = self.part.lattice
        moved = np.einsum("rc,frck->frk", lattice.shares, displacements[:, lattice.corners])
        return moved * (self.seam[:, None] / self.scale) * amounts[:, None, None]
