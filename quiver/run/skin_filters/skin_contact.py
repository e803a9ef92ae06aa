"""Skin that touches skin: two areas of the visible surface are kept from crossing, whatever moves them, without simulating them.

It keeps the skinning, and what was simulated, and moves only what touches, both sides sharing the move, smooth around. A frame depends on
no other frame.
"""

import numpy as np

from quiver.bodies import picking
from quiver.cache import Cache
from quiver.contact.skins import ClosestPointQuery, Patch
from quiver.errors import BadInput
from quiver.kernels.separate import separate
from quiver.mesh import regions
from quiver.mesh.topology import distance_along, topology
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions, skinned_through, subset
from quiver.setup.model import LAYER

LOOKS = 3
"""How often in a frame it is looked up what touches what: after the first moves it may be another spot."""
ROUNDS, LAST_ROUNDS = 16, 40
EXACT, NEAR = 2e-5, 1e-4
"""What is as little too close as this is let be, in a round and in a frame [m]."""
AROUND = 2.5
"""So many times the spread away from what may touch, nothing is moved any more."""
SAMPLES, SLACK = 32, 0.5
"""To find what may ever touch, at most so many frames of the clip are looked at; what comes as near as this share of the reach may."""
KEPT = 12


def filters(context, layers):
    """The SkinContacts of some layers. Raises BadInput where one cannot be made."""
    if not layers:
        return []
    world = context.clip_world()
    return [SkinContact(context.character, layer, context.setup, world) for layer in layers]


class SkinContact:
    """One layer of the kind skin contact in a run. P positions of one or two meshes, those that may touch and some around.

    ``vertices`` {mesh index: those that it may move}. Raises BadInput where a side is empty, or both are the same.
    """

    def digest_inputs(self):
        """Values that, with the skin that it gets, decide what it does."""
        return "skin contact", self.layer.values, self.key

    @property
    def nodes(self):
        """The nodes that carry its meshes' vertices."""
        return sorted({node for _, mesh in self.parts for node in mesh.carriers})

    def __init__(self, character, layer, setup, clip_world):
        self.layer, self.scale = layer, setup.metres_per_unit
        value = layer.value
        self.margin, self.deep = value("margin") / 1000.0, value("reach") / 1000.0
        whole, self.key = _whole_of(character, layer, setup)
        spread = max(value("spread") / 1000.0, 1e-6)
        may_touch = whole.may_touch(clip_world, self.margin, self.deep)
        self.key = (*self.key, may_touch)
        kept = np.flatnonzero(np.isfinite(distance_along(whole.top, np.flatnonzero(may_touch), AROUND * spread)))
        self.vertices, self._rows_of = {}, {}
        number = np.full(len(whole.top.positions), -1)
        number[kept] = np.arange(len(kept))
        self.parts = []
        for index, span in whole.meshes.values():
            own = number[whole.top.place_of[span]]
            self.vertices[index], self._rows_of[index] = np.flatnonzero(own >= 0), own[own >= 0]
            self.parts.append((index, subset(character.meshes[index], self.vertices[index])))
        self.size = len(kept)
        links = whole.top.links[kept][:, kept].tocsr()
        self.starts, self.others = links.indptr.astype(np.int64), links.indices.astype(np.int64)
        step = float(links.data.mean()) if links.nnz else 1.0
        self.keep = 1.0 / (1.0 + step * step / (4.0 * spread * spread))
        share = value("share") / 100.0
        is_first, is_second = whole.is_first[kept], whole.is_second[kept]
        # What is out of both sides goes along with its neighbours, but is not pushed.
        self.takes = np.where(is_first, share * whole.influence[kept], np.where(is_second, 1.0 - share, 0.5))
        faces = number[whole.top.triangles]
        faces = faces[(faces >= 0).all(1)]
        rest = whole.top.positions[kept]
        self.sides = []
        for mine, other in ((is_first, is_second), (is_second, is_first)):
            own, against = np.flatnonzero(mine & may_touch[kept]), faces[other[faces].all(1)]
            if len(own) and len(against):
                query = ClosestPointQuery(Patch(rest, against), rest[own])
                corners = np.unique(against)
                self.sides.append((own, corners, query, np.minimum(self.margin, query.closest), np.minimum(query.closest, 0.0)))

    def positions(self, world, offsets):
        """Where the positions are (F, P, 3) [m] under node matrices (F, J, 3, 4).

        offsets  {mesh index: (F, n, 3)} of ``vertices`` [file units]
        """
        out = np.zeros((len(world), self.size, 3))
        for index, mesh in self.parts:
            out[:, self._rows_of[index]] = self.scale * (skinned_through(mesh, world) + offsets.get(index, 0.0))
        return out

    def apart(self, positions):
        """(moves (P, 3) [m], depths before and after [m], the deepest place after, or -1) for positions (P, 3) of a frame."""
        moves, before, after, worst = np.zeros_like(positions), 0.0, 0.0, -1
        for look in range(LOOKS + 1):
            contacts, too_close, (depth, place) = self._contacts(positions, moves)
            if look == 0:
                before = depth
            after, worst = depth, place
            if look == LOOKS or too_close <= NEAR:
                break
            separate(moves, self.takes, self.starts, self.others, self.keep, ROUNDS, LAST_ROUNDS, EXACT, *contacts)
        return moves, before, after, worst

    def _contacts(self, positions, moves):
        """What is too close, or might get so, as `separate` takes it; by how much [m], and how deep and where anything crosses."""
        now, parts, too_close, deepest = positions + moves, [], 0.0, (0.0, -1)
        for own, corners, query, reaches, allowed in self.sides:
            points = now[own]
            limits = np.where(_within(points, now[corners], self.deep), self.deep, 0.0)
            distances, found, corner_weights, _, normals = query.feel(now, points, limits)
            depths = np.nan_to_num(allowed - distances, nan=0.0)
            if len(depths) and depths.max() > deepest[0]:
                deepest = float(depths.max()), int(own[np.argmax(depths)])
            too_close = max(too_close, float(np.nan_to_num(reaches - distances, nan=0.0).max(initial=0.0)))
            rows = np.flatnonzero(distances < reaches + self.margin + np.linalg.norm(moves[own], axis=1))
            touched = query.tree.triangles[found[rows]]
            between = moves[own[rows]] - np.einsum("ck,cka->ca", corner_weights[rows], moves[touched])
            gaps = distances[rows] - reaches[rows] - np.einsum("ca,ca->c", normals[rows], between)
            parts.append((own[rows], touched, corner_weights[rows], normals[rows], gaps))
        if not parts:
            return (), too_close, deepest
        return [np.concatenate(each) for each in zip(*parts, strict=True)], too_close, deepest

    def advance(self, world, offsets, amounts):
        """Keep some frames apart: world (F, J, 3, 4), what moves the vertices so far as `positions` takes it, amounts (F,).

        What was looked up in other frames is forgotten first, so that the result depends on these alone.
        Returns {mesh index: moves (F, n, 3) of its vertices [file units]}, clip depths (F, 2) [m] with it and without, and mesh and vertex
        (F, 2) of what is still the deepest, -1 where nothing is.
        """
        positions = self.positions(world, offsets)
        for _, _, query, _, _ in self.sides:
            query.forget()
        moves = np.zeros_like(positions)
        depths, deepest = np.zeros((len(world), 2)), np.full((len(world), 2), -1)
        for frame, (here, amount) in enumerate(zip(positions, amounts, strict=True)):
            moves[frame], before, after, worst = self.apart(here)
            depths[frame] = (1.0 - amount) * before + amount * after, before
            if worst >= 0:
                deepest[frame] = self._vertex_of(worst)
        moves *= np.asarray(amounts)[:, None, None] / self.scale
        return {index: moves[:, own] for index, own in self._rows_of.items()}, depths, deepest

    def _vertex_of(self, place):
        """(mesh index, vertex) at a place."""
        for index, own in self._rows_of.items():
            here = np.flatnonzero(own == place)
            if len(here):
                return index, self.vertices[index][here[0]]
        return -1, -1


_wholes = Cache(KEPT)


def _whole_of(character, layer, setup):
    """The _Whole of a layer, from the cache, and what stands for it. Raises BadInput."""
    if layer.other == layer.region:
        raise BadInput(f"{layer.name}: expected two different regions, got the same one twice")
    areas = [setup.region(identifier) for identifier in (layer.region, layer.other) if identifier]
    left_out = _left_out(character, layer, setup)
    key = (setup.metres_per_unit, *((area.mesh, area.values) for area in areas), *((name, own.tobytes()) for name, own in left_out.items()))
    return _wholes.get(character, key, lambda: _Whole(character, layer.name, areas, setup.metres_per_unit, left_out)), key


def _left_out(character, layer, setup):
    """{mesh: bool (V,)} of what the other side of a layer leaves out: a region, or what another layer carries. Raises BadInput."""
    if not layer.leaves_out:
        return {}
    kind, _, name = layer.leaves_out.rpartition(":")
    carried = setup.layer(name) if kind == LAYER else None
    nodes = picking.driven_nodes(character, [carried]) if carried and carried.chains else set()
    found = {mesh.name: regions.is_in(regions.from_joints(mesh, nodes)) for mesh in character.meshes} if nodes else {}
    area = setup.region(carried.region if carried else name) if not carried or carried.region else None
    if area:
        mesh, levels = character.painted(area)
        found[mesh.name] = regions.is_in(levels)
    return found


class _Whole:
    """The meshes of both sides as one surface. meshes {name: (index, span of its vertices)}; is_first, is_second, influence (P,)."""

    def __init__(self, character, name, areas, scale, left_out):
        checked = [character.painted(area) for area in areas]
        self.scale, self.character, self.meshes, at = scale, character, {}, 0
        for mesh in dict.fromkeys(mesh.name for mesh, _ in checked):
            index = character.mesh_index(mesh)
            count = len(character.meshes[index].positions)
            self.meshes[mesh] = index, slice(at, at + count)
            at += count
        triangles = [character.meshes[index].triangles + span.start for index, span in self.meshes.values()]
        rest = self.vertices(rest_matrices(character.skeleton))
        self.top = topology(rest, np.concatenate(triangles))
        influences = np.full((2, at), -1.0)
        for (mesh, levels), values in zip(checked, influences, strict=False):
            values[self.meshes[mesh.name][1]] = np.where(regions.is_in(levels), regions.influences(levels), -1.0)
        self.influence = self.top.gathered(influences[0])
        self.is_first = self.influence >= 0.0
        self.is_second = ~self.is_first
        if len(areas) == 2:
            self.is_second &= self.top.gathered(influences[1]) >= 0.0
        for mesh, own in left_out.items():
            if mesh in self.meshes:
                values = np.zeros(at)
                values[self.meshes[mesh][1]] = own
                self.is_second &= self.top.gathered(values) < 1.0
        if not self.is_second.any():
            raise BadInput(f"{name}: expected something of the skin that its region leaves out, to touch it")
        self.one_of = np.zeros(len(self.top.positions), int)
        self.one_of[self.top.place_of] = np.arange(at)
        self._known = Cache(KEPT)

    def vertices(self, world):
        """Where all vertices are, (V, 3) [m], in node matrices (J, 3, 4)."""
        meshes = [self.character.meshes[index] for index, _ in self.meshes.values()]
        return self.scale * np.concatenate([skinned_positions(mesh, world) for mesh in meshes]).astype(float)

    def may_touch(self, clip_world, margin, deep):
        """Which positions (P,) may touch in a clip, node matrices (F, J, 3, 4)."""
        chosen = np.unique(np.linspace(0, len(clip_world) - 1, min(SAMPLES, len(clip_world))).astype(int))
        key = (margin, deep, clip_world[chosen].tobytes())
        return self._known.get(self.character, key, lambda: self._may_touch(clip_world[chosen], margin, deep))

    def _may_touch(self, sampled, margin, deep):
        rest, may = self.top.positions, np.zeros(len(self.top.positions), bool)
        sides = []
        for mine, other in ((self.is_first, self.is_second), (self.is_second, self.is_first)):
            own, against = np.flatnonzero(mine), self.top.triangles[other[self.top.triangles].all(1)]
            if len(against):
                sides.append((own, np.unique(against), ClosestPointQuery(Patch(rest, against), rest[own])))
        for world in sampled:
            positions = self.vertices(world)[self.one_of]
            for own, corners, query in sides:
                points = positions[own]
                distances, *_ = query.feel(positions, points, np.where(_within(points, positions[corners], deep), deep, 0.0))
                near = distances < margin + SLACK * deep
                # What rests as near as that, such as beside the seam of both sides, does not matter while it keeps its distance.
                may[own[near & (distances < query.closest - SLACK * margin)]] = True
        return may


def _within(points, others, reach):
    """Which points (n, 3) lie in the box around others, grown by ``reach``: bool (n,)."""
    found = np.ones(len(points), bool)
    # One axis after another: NumPy is slow at rows of three.
    for mine, its in zip(points.T, others.T, strict=True):
        found &= (mine >= its.min() - reach) & (mine <= its.max() + reach)
    return found
