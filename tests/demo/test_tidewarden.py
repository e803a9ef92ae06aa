"""The tidewarden is what the demo promises: clothes that stay out of the body, and a satchel that hangs on its strap."""

from unittest import TestCase

import numpy as np

from quiver.demo import tidewarden
from quiver.formats.gltf.reading import read_character
from quiver.rig.pose import world_matrices
from quiver.run.spec import TakeSpec
from quiver.setup.document import dumps, loads
from tests.formats.validator import issues_of
from tests.makers import Run, clips_of


class TidewardenTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.glb, cls.setup = tidewarden.build()
        cls.character, _ = read_character(cls.glb, "Tidewarden")

    def test_size_joints_clips_and_no_findings(self):
        self.assertTrue(8_000 <= self.character.vertex_count <= 15_000, self.character.vertex_count)
        self.assertEqual([clip.name for clip in self.character.clips], ["walk", "wave down", "leap ashore", "idle"])
        self.assertEqual(self.character.findings, ())
        self.assertEqual(issues_of(self.glb)["numErrors"], 0)
        self.assertEqual(loads(dumps(self.setup)), self.setup)

    def test_walk_is_a_loop_and_feet_stay_on_the_ground(self):
        skeleton = self.character.skeleton
        pose = self.character.clip("walk").sample(skeleton, np.arange(28) / 24.0)
        np.testing.assert_allclose(pose.rotations[0], pose.rotations[-1], atol=1e-6)
        world = world_matrices(skeleton, pose)
        for foot in ("leg_foot_l", "leg_foot_r"):
            height = world[:, skeleton.index(foot), 1, 3]
            self.assertGreater(height.min(), 0.09, foot)
            self.assertGreater((height < 0.105).mean(), 0.45, foot)

    def test_clothes_move_on_every_clip_and_keep_out_of_the_body(self):
        for clip in self.character.clips:
            run = Run(TakeSpec(self.character, self.setup, clip.name))
            chunks = list(run.chunks())
            added = np.concatenate([chunk.added for chunk in chunks])
            clips = {name: clips_of(chunks, name)[0] for name in run.clip_depths}
            self.assertEqual(run.notes, ())
            self.assertTrue((added.max(0) > 0.01).all(), (clip.name, added.max(0)))
            self.assertLess(added.max(), 0.8)
            self.assertLess(max(depths[:, 0].max() for depths in clips.values()), 0.012, clip.name)
            if clip.name in ("walk", "leap ashore"):
                # As keyed, the legs go through the coat.
                self.assertGreater(clips["coat-skirt"][:, 1].max(), 0.05)
