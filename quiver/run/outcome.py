"""What the frames of a run come to: where the skin goes, and what is told of each layer."""

import time

import numpy as np

from quiver.bodies import fitting
from quiver.meeting.clipping import ClipDepth
from quiver.rig.pose import world_matrices
from quiver.setup import WHOLE_SKIN


class MovedSkin:
    """The vertices that a run moves, of all meshes in one row: ``vertices`` {mesh index: sorted vertices}, R in all."""

    def __init__(self, parts):
        """``parts`` are pairs of a mesh index and vertices."""
        found = {}
        for mesh, vertices in parts:
            found[mesh] = np.union1d(found.get(mesh, np.zeros(0, int)), vertices)
        self.vertices = dict(sorted(found.items()))
        ends = np.cumsum([0, *map(len, self.vertices.values())])
        self.count = int(ends[-1])
        self._spans = {mesh: slice(*ends[k : k + 2]) for k, mesh in enumerate(self.vertices)}

    def of_mesh(self, mesh, offsets):
        """The part of offsets (F, R, 3) that is a mesh's, in the order of its vertices."""
        return offsets[:, self._spans[mesh]]

    def of(self, mesh, vertices, offsets):
        """The offsets (F, n, 3) of some vertices of a mesh, zero where the run moves them not."""
        moved, out = self.vertices[mesh], np.zeros((len(offsets), len(vertices), 3), np.float32)
        known = np.flatnonzero(np.isin(vertices, moved))
        out[:, known] = self.of_mesh(mesh, offsets)[:, np.searchsorted(moved, vertices[known])]
        return out

    def add(self, offsets, mesh, vertices, moves):
        """Add moves (F, n, 3) of some vertices of a mesh to offsets (F, R, 3), in place."""
        self.of_mesh(mesh, offsets)[:, np.searchsorted(self.vertices[mesh], vertices)] += moves.astype(np.float32)


class Outcome:
    """Made of a run once its parts are there; touches and final_skins are those that move only the skin."""

    def __init__(self, run, touches, final_skins, clip_depths):
        self.run, self.touches, self.final_skins, self.clip_depths = run, touches, final_skins, clip_depths
        parts = [(part.mesh_index, part.vertices) for part in (*run.solids, *final_skins)]
        self.skin = MovedSkin(parts + [item for touch in touches for item in touch.vertices.items()])

    def chunk(self, first_frame, final, keyed_world, soft):
        """What a TakeChunk is made of, up to its measures, and the seconds that each touch took.

        final  Pose (F, J) as all joints are left, keyed_world (F, J, 3, 4); soft for each solid its vertices' offsets (F, n, 3)
        """
        run, final_world = self.run, world_matrices(self.run.skeleton, final)
        added = self._added(first_frame, keyed_world, final_world, soft)
        offsets = np.zeros((len(keyed_world), self.skin.count, 3), np.float32)
        for solid, moves in zip(run.solids, soft, strict=True):
            # Where two move one vertex, both count.
            self.skin.add(offsets, solid.mesh_index, solid.vertices, moves)
        touched, spent = self._keep_apart(first_frame, final_world, offsets, added)
        for skin in self.final_skins:
            mesh = skin.mesh_index
            skin.apply(self.skin.of_mesh(mesh, offsets), self.skin.vertices[mesh], keyed_world, final_world)
        clips, deepest = self._clips(keyed_world, final_world, offsets)
        for layer_id, (depths, where) in touched.items():
            column = run.layer_ids.index(layer_id)
            clips[:, column], deepest[:, column] = depths, where
        self._tell_limbs(first_frame, clips, 1)
        rotations = final.rotations[:, run.rotated].astype(np.float32)
        translations = final.translations[:, run.translated].astype(np.float32)
        return (first_frame, rotations, translations, offsets, added, clips, deepest), spent

    def _added(self, first_frame, keyed_world, final_world, soft):
        """How far each layer moved any of its points, (F, L) [m]; what touches moved is not there yet."""
        run = self.run
        added = np.zeros((len(keyed_world), len(run.layer_ids)), np.float32)
        told = []
        for wave in run.waves:
            told += zip(wave.layers, wave.added(keyed_world, final_world).T, strict=True)
        told += [(prop.layer, prop.added(prop.keyed(final_world), prop.keyed(keyed_world))) for prop in run.props]
        told += [(solid.layer, np.linalg.norm(moves, axis=2).max(1) * solid.scale) for solid, moves in zip(run.solids, soft, strict=True)]
        for layer, moved in told:
            column = run.layer_ids.index(layer.id)
            added[:, column] = np.maximum(added[:, column], moved)
        self._tell_limbs(first_frame, added, 0)
        return added

    def _tell_limbs(self, first_frame, columns, which):
        """Put what is told of the limbs, as `Limb.shown` counts it, into their layers' columns (F, L, ...), in place."""
        for limb in self.run.limbs:
            column = self.run.layer_ids.index(limb.layer.id)
            shown = limb.shown(range(first_frame, first_frame + len(columns)))[which]
            columns[:, column] = np.maximum(columns[:, column], shown)

    def _keep_apart(self, first_frame, final_world, offsets, added):
        """Let the touch layers move the skin, adding to offsets and ``added`` in place.

        Returns {layer id: (clip depths (F, 2) with and without it, mesh and vertex of the deepest (F, 2))} and the seconds that each took.
        """
        found, spent = {}, []
        for touch in self.touches:
            began = time.perf_counter()
            so_far = {mesh: self.skin.of(mesh, own, offsets) for mesh, own in touch.vertices.items()}
            amounts = np.array([touch.layer.amount_at(first_frame + frame) for frame in range(len(offsets))])
            moves, *measured = touch.advance(final_world, so_far, amounts)
            found[touch.layer.id] = measured
            column = self.run.layer_ids.index(touch.layer.id)
            for mesh, own in touch.vertices.items():
                self.skin.add(offsets, mesh, own, moves[mesh])
                lengths = np.linalg.norm(moves[mesh], axis=2).max(1, initial=0.0) * touch.scale
                added[:, column] = np.maximum(added[:, column], lengths)
            spent.append(time.perf_counter() - began)
        return found, spent

    def _clips(self, keyed_world, final_world, offsets):
        """Clip depths (F, L, 2) as simulated and as keyed [m], and mesh and vertex of the first (F, L, 2)."""
        clips = np.zeros((len(keyed_world), len(self.run.layer_ids), 2), np.float32)
        deepest = np.full((*clips.shape[:2], 2), -1)
        for layer_id, depth in self.clip_depths.items():
            column = self.run.layer_ids.index(layer_id)
            clips[:, column, 0], deepest[:, column] = depth.depths(final_world, self.moves_for(depth, offsets))
            clips[:, column, 1] = depth.depths(keyed_world, {})[0]
        return clips, deepest

    def moves_for(self, depth, offsets):
        """What a ClipDepth takes of offsets (F, R, 3): {mesh index: (F, n, 3)}."""
        return {mesh: self.skin.of(mesh, own, offsets) for mesh, own, _ in depth.parts if mesh in self.skin.vertices}


def clip_depths_of(run, layer_paths):
    """{layer id: ClipDepth} of the layers of a run that meet anything; layer_paths are pairs of a chain layer's id and indices of paths."""
    character, contacts, found = run.spec.character, run.contacts, {}
    for layer_id, own in layer_paths:
        met, skins = (run.met[own[0]], run.met_skins[own[0]]) if own else ([], [])
        if len(met) or skins:
            drivers = [node for k in own for node in run.paths[k].drivers]
            found[layer_id] = ClipDepth(character, contacts, fitting.skin_of_nodes(character, drivers), met, skins)
    for prop in run.props:
        if prop.touching and prop.layer.id not in found:
            nodes = [each.node for each in run.props if each.layer.id == prop.layer.id]
            found[prop.layer.id] = ClipDepth(character, contacts, fitting.skin_of_nodes(character, nodes), prop.met, prop.skins_met)
    if run.spec.setup.watches_skin:
        skin = {index: np.arange(len(mesh.positions)) for index, mesh in enumerate(character.meshes)}
        found[WHOLE_SKIN] = ClipDepth(character, contacts, skin, np.arange(len(contacts)), contacts.skins, apart=True)
    for solid in run.solids:
        if solid.touching:
            skin = {solid.mesh_index: solid.touching_vertices}
            found[solid.layer.id] = ClipDepth(character, contacts, skin, solid.met, solid.skins_met)
    return found
