"""What a region gives to a soft layer, whatever most of its dials say: particles, the vertices that they carry, what carries them."""

import numpy as np
from scipy.spatial import KDTree

from quiver.bodies import conforming, forms, proxies, sheet, volume
from quiver.bodies import lattice as lattices
from quiver.bodies.carried import carried
from quiver.cache import Cache
from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.mesh.nearest import NearestOn
from quiver.mesh.topology import distance_along, edges_of_triangles, pieces_of_pairs, topology
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions

CELLS_ACROSS = 12
"""Cells along the longest side of a part where the artist leaves their size to us."""
SEAM_CELLS = 1.5
"""Over so many cells from what is out the result fades in."""
FULL_INFLUENCE = 0.25
"""Influence from which on a vertex follows the solid entirely."""
WORTH_SAYING = 0.02
KEPT_PARTS = 12


class Part:
    """What a region gives to a solid, whatever the dials say but for how it is built: lattice, influence, fade, weights.

    cell_metres  0 leaves the size of the cells to us; scale [m] of one unit of the file
    apart        whether each piece of the mesh is a solid of its own
    built        "" for a lattice, or what bodies/conforming.py made of the whole mesh, in units of the file
    """

    def __init__(self, character, region, scale, cell_metres=0.0, apart=False, built=""):
        self.mesh, levels = character.painted(region)
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
        self.carried = carried(self.mesh, surface / scale, self.lattice.nodes / scale, rest_world)
        self.fade = fade_in(self.topology, chosen, self.lattice.vertices, SEAM_CELLS * self.edge)
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
            blend, loose = share * share * (3.0 - 2.0 * share), volume.loose_pieces(self.lattice, holds)
            self._bodies = {key: (body, loose, blend)}
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


def fade_in(top, chosen, vertices, reach):
    """How much of a result some vertices take, (R,) 0..1: it fades in over ``reach`` [m] from what is not ``chosen`` (bool (V,))."""
    border = np.flatnonzero(top.gathered((~chosen).astype(float)) > 0)
    if not len(border):
        return np.ones(len(vertices))
    away = np.minimum(distance_along(top, border, 2.0 * reach) / reach, 1.0)
    return top.spread(away)[vertices]


class SheetPart:
    """What a region gives to a sheet: its surface as particles, one for each place, and a rim of what is out, which is held.

    triangles int32 (F, 3) between the particles; edge the mean length of an edge [m]; fade (R,) how much of the result each vertex takes
    """

    is_proxy, _bodies = False, {}

    def __init__(self, character, region, scale):
        self.mesh, self.levels = character.painted(region)
        self.mesh_index = character.mesh_index(region.mesh)
        self.surface = surface_of(character, self.mesh, scale)
        self.topology = top = topology(self.surface, self.mesh.triangles)
        chosen = regions.is_in(self.levels)
        is_in = top.gathered(chosen.astype(float)) > 0.0
        faces = top.triangles[is_in[top.triangles].any(1)]
        if not len(faces):
            raise BadInput(f"expected a region with triangles in it, “{region.name}” has none")
        used = np.unique(faces)
        nodes = top.positions[used]
        order = lattices.along(nodes)
        number = np.full(len(top.positions), -1)
        number[used[order]] = np.arange(len(used))
        self.triangles = number[faces].astype(np.int32)
        self.node_positions = used[order]
        vertices = np.flatnonzero(chosen & (number[top.place_of] >= 0))
        corners = np.repeat(number[top.place_of[vertices]][:, None], 4, 1).astype(np.int32)
        corner_weights = np.tile([1.0, 0.0, 0.0, 0.0], (len(vertices), 1))
        rim, nodes = ~is_in[self.node_positions], nodes[order]
        self.edge = float(np.linalg.norm(nodes[self.triangles[:, 1]] - nodes[self.triangles[:, 0]], axis=1).mean())
        thin, none = np.zeros(len(vertices), bool), np.zeros((0, 4), np.int32)
        _, piece = np.unique(top.piece_of[self.node_positions], return_inverse=True)
        self.lattice = lattices.Lattice(nodes, none, rim, vertices, corners, corner_weights, thin, piece, self.edge)
        self.carried = carried(self.mesh, self.surface / scale, nodes / scale, rest_matrices(character.skeleton))
        self.fade = np.ones(len(vertices))

    def _holds(self, influence):
        """How firmly each node (N,) is held, from the influence of all vertices (V,)."""
        return np.where(self.lattice.is_inner, 1.0, 1.0 - self.topology.gathered(influence)[self.node_positions])

    def body(self, loose, gain, offset, give, bending_length, hold_rate):
        """The SheetBody that dials, in their own units, make of it, and how many of its pieces nothing holds; kept from the last time."""
        key = (loose, gain, offset, give, bending_length, hold_rate)
        if key not in self._bodies:
            influence = regions.adjusted(self.levels, gain, offset, loose == "inverted")
            made, holds = self.lattice, self._holds(influence)
            body = sheet.build(made.nodes, self.triangles, holds, give / 100.0, bending_length / 1000.0, hold_rate)
            most = np.zeros(made.pieces.max() + 1)
            np.maximum.at(most, made.pieces, holds)
            self._bodies = {key: (body, int((most <= 0.0).sum()))}
        return self._bodies[key]


class ProxyPart(SheetPart):
    """What a region gives to a sheet by way of another surface, which carries the region's vertices.

    make  (surface (V, 3), triangles (F, 3) of the region) → that other surface [m]: nodes (N, 3), triangles int32 (M, 3)
    """

    is_proxy = True

    def __init__(self, character, region, scale, make):
        self.mesh, self.levels = character.painted(region)
        self.mesh_index = character.mesh_index(region.mesh)
        self.surface = surface_of(character, self.mesh, scale)
        self.topology = topology(self.surface, self.mesh.triangles)
        chosen = regions.is_in(self.levels)
        nodes, faces = make(self.surface, self.mesh.triangles[chosen[self.mesh.triangles].all(1)])
        order = lattices.along(nodes)
        number = np.empty(len(order), int)
        number[order] = np.arange(len(order))
        nodes, self.triangles = nodes[order], number[faces].astype(np.int32)
        self.edge = float(np.linalg.norm(nodes[self.triangles[:, 1]] - nodes[self.triangles[:, 0]], axis=1).mean())
        vertices = np.flatnonzero(chosen)
        found, corner_weights = NearestOn(nodes, self.triangles).find(self.surface[vertices], np.inf)
        corners = self.triangles[found][:, [0, 1, 2, 2]].astype(np.int32)
        corner_weights = np.column_stack([corner_weights, np.zeros(len(corner_weights))])
        edges, _ = edges_of_triangles(self.triangles, len(nodes))
        piece = pieces_of_pairs(edges, len(nodes))
        nobody, thin, none = np.zeros(len(nodes), bool), np.zeros(len(vertices), bool), np.zeros((0, 4), np.int32)
        self.lattice = lattices.Lattice(nodes, none, nobody, vertices, corners, corner_weights, thin, piece, self.edge)
        self.carried = carried(self.mesh, self.surface / scale, nodes / scale, rest_matrices(character.skeleton))
        self.fade = fade_in(self.topology, chosen, vertices, SEAM_CELLS * self.edge)
        self.near = KDTree(self.surface[vertices]).query(nodes)[1]

    def _holds(self, influence):
        # As loose as the skin nearby, and held where that fades out.
        return 1.0 - (influence[self.lattice.vertices] * self.fade)[self.near]


def surface_of(character, mesh, scale):
    """The vertices (V, 3) of a mesh in the rest pose [m]."""
    return skinned_positions(mesh, rest_matrices(character.skeleton)) * scale


def usual_edge(surface, chosen):
    """The size of the cells that we take for the ``chosen`` (bool) vertices of a surface (V, 3)."""
    return float(np.ptp(surface[chosen], axis=0).max()) / CELLS_ACROSS


_parts = Cache(KEPT_PARTS)


def proxy_part_of(character, region, scale, *how):
    """The ProxyPart of a region by a proxy, made as bodies/proxies.py takes it [m], kept likewise. Raises BadInput."""
    key = ("proxy", region.mesh, region.values, scale, *how)
    return _parts.get(character, key, lambda: ProxyPart(character, region, scale, lambda *skin: proxies.make(*skin, *how)))


def form_part_of(character, region, scale, form, triangles):
    """The ProxyPart of a region by a Form of so many triangles, kept likewise. Raises BadInput."""

    def make(*_):
        points, faces = forms.made(form, triangles)
        return points * scale, faces

    return _parts.get(character, (form, region.mesh, region.values, scale, triangles), lambda: ProxyPart(character, region, scale, make))


def sheet_part_of(character, region, scale):
    """The SheetPart of a region, kept likewise. Raises BadInput."""
    return _parts.get(character, (SheetPart, region.mesh, region.values, scale), lambda: SheetPart(character, region, scale))


def part_of(character, region, scale, *how):
    """The Part of a region, built as Part says; kept from the last time while nothing that it is made of changed. Raises BadInput."""
    return _parts.get(character, (Part, region.mesh, region.values, scale, *how), lambda: Part(character, region, scale, *how))
