"""Chains that hang on solids, solids that hang on chains, what comes first, and what the final skin shows of it."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.rig.character import Character
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_through
from quiver.run.parts.riding import FleshRide
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, loads
from quiver.setup.model import ChainPick
from tests.makers import Run, chain_setup, skeleton_of, still_clip


class RidingTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")
        # In the demo the bell is a prop.
        bell = replace(cls.setup.layer("tail"), id="bell", name="Bell", chains=(ChainPick("bell_1", "bell_1"),))
        cls.setup = edits.with_layer(cls.setup, bell)

    def setup_of(self, *layers):
        return replace(self.setup, layers=layers, preroll_frames=6.0)

    def run_of(self, *layers):
        return Run(TakeSpec(self.character, self.setup_of(*layers), "hop and land", 0, 20))

    def test_a_chain_on_a_solid_goes_where_the_flesh_goes(self):
        belly = self.setup.layer("belly")
        stiff = {"wobble_rate": 8.0, "settle_time": 4.0}
        bell = replace(self.setup.layer("bell"), rides="belly")
        bell = replace(bell, values=bell.values | stiff)
        run = self.run_of(bell, belly)
        self.assertEqual(run.stage_kinds(), [(0, 0, 1), (1, 0, 0)])
        root = int(run.chains[0].paths[0].point_nodes[0])
        self.assertIn(root, run.translated)
        self.assertIn("Bell: the points it is attached to do not move, so it stays on its joints", run.notes)
        # The bell is nearest to flesh that is held; hang it where it is loosest.
        solid = run.soft_bodies[0]
        tets = solid.part.lattice.tets
        ride = FleshRide(solid, solid.part.lattice.nodes[tets[np.argmin(solid.body.holds[tets].sum(1))]].mean(0) / solid.scale)
        corners, corner_weights = ride.point
        np.testing.assert_allclose(corner_weights, 0.25, atol=1e-6)
        run.plan.stages[1].rides[root] = ride
        chunks = list(run.chunks())
        skeleton = self.character.skeleton
        keyed = run.keyed(np.arange(21))
        moved = keyed.copy()
        moved.rotations[:, run.rotated] = np.concatenate([chunk.rotations for chunk in chunks])
        moved.translations[:, run.translated] = np.concatenate([chunk.translations for chunk in chunks])
        shift = world_matrices(skeleton, moved)[:, root, :, 3] - world_matrices(skeleton, keyed)[:, root, :, 3]
        self.assertGreater(np.linalg.norm(shift, axis=1).max(), 0.005)
        # The latest piece's displacements are still known: there the root went with its place in the flesh.
        _, at, _ = list(run.pieces())[-1]
        flesh = np.einsum("c,fck->fk", corner_weights, solid.moves[1:, corners].astype(float)) / solid.scale
        np.testing.assert_allclose(shift[at:], flesh[: 21 - at], atol=1e-5)

    def test_nothing_rides_where_the_solid_is_off_or_its_amount_is_zero(self):
        bell = replace(self.setup.layer("bell"), rides="belly")
        for belly in (replace(self.setup.layer("belly"), is_on=False), replace(self.setup.layer("belly"), amount=((0.0, 0.0),))):
            riding, alone = self.run_of(bell, belly), self.run_of(replace(bell, rides=""))
            rotations = [np.concatenate([chunk.rotations for chunk in run.chunks()]) for run in (riding, alone)]
            np.testing.assert_allclose(*rotations, atol=1e-6)

    def test_a_circle_is_refused_with_its_path(self):
        pick = ChainPick("hips", "chest")
        back = replace(self.setup.layer("bell"), id="back", name="Back", chains=(pick,), rides="belly")
        with self.assertRaisesRegex(BadInput, "in a circle: “Back” follows “Flesh”, “Flesh” follows “Back”"):
            self.run_of(replace(self.setup.layer("belly"), name="Flesh"), back)

    def test_the_document_keeps_what_rides_and_refuses_what_is_no_volume(self):
        setup = edits.with_layer(self.setup, replace(self.setup.layer("bell"), rides="belly"))
        self.assertEqual(loads(dumps(setup)).layer("bell").rides, "belly")
        self.assertEqual(edits.without_layers(setup, ["belly"]).layer("bell").rides, "")
        with self.assertRaisesRegex(BadInput, "rides: expected the id of a soft volume"):
            loads(dumps(setup).replace('"rides": "belly"', '"rides": "barbels"'))


class FinalSkinTest(TestCase):
    """What the final skin holds back is the keyed skin again, whether chains or solids moved it."""

    @classmethod
    def setUpClass(cls):
        glb, setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")
        cls.setup = replace(setup, preroll_frames=4.0)
        cls.mesh = cls.character.mesh("skin")

    def skin(self, levels):
        """The final skin's positions (F, V, 3) and the keyed ones, with a final skin of these levels; None for none."""
        setup = self.setup
        if levels is not None:
            setup = edits.with_new_region(setup, "Shown", "skin", len(levels), regions.encode(levels), True)
        run = Run(TakeSpec(self.character, setup, "hop and land", 8, 14))
        pose = run.keyed(np.arange(8, 15))
        keyed = skinned_through(self.mesh, world_matrices(self.character.skeleton, pose))
        chunks = list(run.chunks())
        pose.rotations[:, run.rotated] = np.concatenate([chunk.rotations for chunk in chunks])
        pose.translations[:, run.translated] = np.concatenate([chunk.translations for chunk in chunks])
        final = skinned_through(self.mesh, world_matrices(self.character.skeleton, pose))
        index = self.character.meshes.index(self.mesh)
        start = sum(len(vertices) for mesh, vertices in run.moved.items() if mesh < index)
        moved = run.moved[index]
        final[:, moved] += np.concatenate([chunk.offsets for chunk in chunks])[:, start : start + len(moved)]
        return final, keyed

    def test_all_shown_changes_nothing_and_nothing_shown_is_the_clip(self):
        plain, keyed = self.skin(None)
        count = len(self.mesh.positions)
        shown, _ = self.skin(regions.fill(regions.nothing(count)))
        np.testing.assert_allclose(shown, plain, atol=1e-6)
        self.assertGreater(np.abs(plain - keyed).max(), 0.1)
        for nothing in (regions.nothing(count), regions.fill(regions.nothing(count), 0.0)):
            hidden, _ = self.skin(nothing)
            np.testing.assert_allclose(hidden, keyed, atol=2e-5)

    def test_half_shown_is_half_way_and_the_border_is_smooth(self):
        plain, keyed = self.skin(None)
        front = self.mesh.positions[:, 2] > 0.0
        mixed, _ = self.skin(np.where(front, regions.IN_FULL // 2, regions.OUT).astype(np.uint8))
        added = plain - keyed
        share = np.einsum("fvk,fvk->v", mixed - keyed, added) / np.maximum(np.einsum("fvk,fvk->v", added, added), 1e-12)
        felt = np.linalg.norm(plain - keyed, axis=2).max(0) > 0.01
        self.assertAlmostEqual(float(np.median(share[front & felt])), 0.5, delta=0.01)
        self.assertAlmostEqual(float(np.median(share[~front & felt])), 0.0, delta=0.01)
        between = felt & (share > 0.05) & (share < 0.45)
        self.assertGreater(int(between.sum()), 20)

    def test_two_for_one_mesh_and_a_volume_of_one_are_refused(self):
        levels = regions.encode(regions.nothing(len(self.mesh.positions)))
        setup = edits.with_new_region(self.setup, "Shown", "skin", len(self.mesh.positions), levels, True)
        self.assertTrue(loads(dumps(setup)).region("shown").is_final)
        with self.assertRaisesRegex(BadInput, "one final skin"):
            edits.with_new_region(setup, "Twice", "skin", len(self.mesh.positions), levels, True)
        with self.assertRaisesRegex(BadInput, "expected a region that is soft"):
            edits.with_new_soft(setup, "volume", "shown")
        self.assertFalse(setup.moves_like(self.setup))


class TreesTest(TestCase):
    """Which chains are one tree: those of a layer that grow on each other, with no joint between them that another layer turns."""

    def setUp(self):
        names = ["base", "t0", "t1", "t2", "b0", "b1", "c0", "c1"]
        parents = [-1, 0, 1, 2, 2, 4, 5, 6]
        self.skeleton = skeleton_of([np.zeros(3), np.zeros(3), *np.tile([0.1, 0.02, 0.0], (6, 1))], parents, names)
        self.layer = chain_setup("t0", "t2").layers[0]

    def trees_of(self, *layers):
        setup = replace(chain_setup("t0", "t2"), layers=layers)
        character = Character("test", self.skeleton, (), (still_clip(self.skeleton),))
        run = Run(TakeSpec(character, setup, "clip", 0, 2))
        list(run.chunks())
        return [unit.tree for batch in run.chains for unit in batch.units]

    def of(self, *ends, layer_id="one"):
        return replace(self.layer, id=layer_id, chains=tuple(ChainPick(*each) for each in ends))

    def test_branches_and_what_grows_on_them_are_one_with_their_trunk(self):
        found = self.trees_of(self.of(("c0", "c1"), ("t0", "t2"), ("b0", "b0")))
        self.assertEqual([(tree.counts, tree.grows_on) for tree in found], [((3, 1, 2), ((-1, -1), (0, 1), (1, 0)))])

    def test_a_keyed_joint_between_carries_a_branch_as_the_trunk_does(self):
        found = self.trees_of(self.of(("t0", "t1"), ("b1", "c1")))
        self.assertEqual([(tree.counts, tree.grows_on) for tree in found], [((2, 3), ((-1, -1), (0, 1)))])

    def test_what_another_layer_turns_parts_them(self):
        found = self.trees_of(self.of(("t0", "t2"), ("c0", "c1")), self.of(("b0", "b1"), layer_id="two"))
        self.assertEqual(sorted(tree.counts for tree in found), [(2,), (2,), (3,)])
