"""Props in a run: the bell and the mail bags swing, fall where they are let go, and show what they should where physics does not count."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.rig.character import Character, Mesh
from quiver.rig.pose import world_matrices
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, loads
from quiver.setup.model import ChainPick, Setup
from tests.makers import Run, clips_of, moving_clip, skeleton_of
from tests.solids import box_surface


class MudwickTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")
        cls.skeleton = cls.character.skeleton

    def layer(self, layer_id="bags", **values):
        layer = self.setup.layer(layer_id)
        return replace(layer, values=layer.values | values)

    def run_of(self, *layers, clip="hop and land", frames=20, colliders=()):
        setup = replace(self.setup, layers=layers, colliders=colliders, preroll_frames=4.0)
        run = Run(TakeSpec(self.character, setup, clip, 0, frames))
        return run, list(run.chunks())

    def world_of(self, run, chunks):
        count = sum(len(chunk.rotations) for chunk in chunks)
        pose = run.clip.sample(self.skeleton, np.arange(count) / 24.0)
        keyed = world_matrices(self.skeleton, pose.copy())
        pose.rotations[:, run.rotated] = np.concatenate([chunk.rotations for chunk in chunks])
        if len(run.translated):
            pose.translations[:, run.translated] = np.concatenate([chunk.translations for chunk in chunks])
        return world_matrices(self.skeleton, pose), keyed

    def test_bags_swing_about_where_they_hang_and_runs_repeat(self):
        run, chunks = self.run_of(self.layer())
        bag = self.skeleton.index("bag_l")
        world, keyed = self.world_of(run, chunks)
        np.testing.assert_allclose(world[:, bag, :, 3], keyed[:, bag, :, 3], atol=1e-6)
        self.assertGreater(np.abs(world[:, bag, :, :3] - keyed[:, bag, :, :3]).max(), 0.2)
        added = np.concatenate([chunk.added for chunk in chunks])
        self.assertTrue(0.05 < added.max() < 0.5, added.max())
        again = self.run_of(self.layer())[1]
        np.testing.assert_array_equal(chunks[-1].rotations, again[-1].rotations)

    def test_without_amount_it_is_as_keyed_or_hangs_down(self):
        bag = self.skeleton.index("bag_r")
        still = replace(self.layer(), amount=((0.0, 0.0),))
        world, keyed = self.world_of(*self.run_of(still))
        np.testing.assert_allclose(world[:, bag], keyed[:, bag], atol=1e-6)
        run, chunks = self.run_of(replace(still, values=still.values | {"aim": "down"}))
        world, _ = self.world_of(run, chunks)
        prop = next(each for each in run.props if each.node == bag)
        centre = prop.keyed(world)[:, :3] - world[:, bag, :, 3]
        self.assertLess(np.abs(centre[:, [0, 2]]).max(), 1e-4)
        self.assertLess(centre[:, 1].max(), 0.0)

    def test_let_go_it_falls_and_lies_on_the_ground(self):
        ground = edits.with_new_collider(self.setup, "ground", "Ground").colliders[-1:]
        run, chunks = self.run_of(self.layer(joint="free"), clip="idle", frames=60, colliders=ground)
        world, keyed = self.world_of(run, chunks)
        bag = self.skeleton.index("bag_l")
        self.assertIn(bag, run.translated)
        self.assertLess(world[-1, bag, 1, 3], keyed[-1, bag, 1, 3] - 0.3)
        depths = clips_of(chunks, "bags")[0][:, 0]
        self.assertLess(depths[-10:].max(), 2e-3)
        self.assertLess(np.abs(np.diff(world[-8:, bag, :, 3], axis=0)).max(), 2e-3)

    def test_what_hangs_on_a_prop_comes_after_it(self):
        run, _ = self.run_of(self.setup.layer("belly"), self.layer("bell"), frames=2)
        self.assertEqual(run.stage_kinds(), [(0, 1, 1)])
        chain = replace(self.setup.layer("tail"), chains=(ChainPick("bell_2", "bell_2"),))
        run, chunks = self.run_of(chain, self.layer("bell"), frames=4)
        self.assertEqual(run.stage_kinds(), [(0, 1, 0), (1, 0, 0)])
        self.assertTrue(np.isfinite(chunks[-1].rotations).all())

    def test_what_cannot_be_is_refused(self):
        twice = replace(self.setup.layer("tail"), chains=(ChainPick("bell_1", "bell_1"),))
        with self.assertRaisesRegex(BadInput, "bell_1"):
            self.run_of(twice, self.layer("bell"))
        nothing = replace(self.layer(), chains=(ChainPick("root", "root"),))
        bare = replace(self.character, meshes=())
        with self.assertRaisesRegex(BadInput, "moves no mesh"):
            Run(TakeSpec(bare, replace(self.setup, layers=(nothing,), colliders=(), regions=()), "idle"))

    def test_the_setup_comes_back(self):
        self.assertEqual(dumps(loads(dumps(self.setup))), dumps(self.setup))


class KnockTest(TestCase):
    def test_two_things_let_go_into_each_other_stay_apart_only_where_they_knock(self):
        """Two boxes fall free, the upper one quicker; where they knock it stays above."""
        skeleton = skeleton_of([(0, 1.0, 0), (0, 1.5, 0)], [-1, -1], names=("low", "high"))
        positions, triangles = box_surface((0.2, 0.2, 0.2), (1, 1, 1))
        meshes = tuple(Mesh(name, node, (positions - 0.1).astype(np.float32), triangles) for node, name in enumerate(("low", "high")))
        character = Character("boxes", skeleton, meshes, (moving_clip(0, [0.0, 1.0], [(0, 1, 0), (0, 1, 0)]),))
        heights = {}
        for collision in ("off", "on"):
            setup = replace(Setup(), preroll_frames=0.0)
            for name, gravity in (("low", 10.0), ("high", 100.0)):
                setup = edits.with_new_chain(setup, ChainPick(name, name), kind="prop")
                layer = setup.layers[-1]
                values = layer.values | {"joint": "free", "gravity": gravity, "prop_collision": collision}
                setup = edits.with_layer(setup, replace(layer, values=values))
            chunks = list(Run(TakeSpec(character, setup, "clip")).chunks())
            heights[collision] = np.concatenate([chunk.translations for chunk in chunks])[:14, :, 1]
        self.assertLess((heights["off"][:, 1] - heights["off"][:, 0]).min(), 0.0)
        self.assertGreater((heights["on"][:, 1] - heights["on"][:, 0]).min(), 0.19)
