"""Mudwick is what the demo promises."""

from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.demo.surface import Cone, Ellipsoid, blend, mesh_of
from quiver.formats.gltf.reading import read_character
from quiver.picture import picture
from quiver.rig.pose import world_matrices
from quiver.run.spec import TakeSpec
from tests.formats.validator import issues_of
from tests.makers import Run


class MudwickTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(cls.glb, "Mudwick")

    def test_size_joints_clips_and_no_findings(self):
        self.assertTrue(20_000 <= self.character.vertex_count <= 26_000, self.character.vertex_count)
        self.assertEqual(self.character.joint_count, 51)
        self.assertEqual([clip.name for clip in self.character.clips], ["walk", "hop and land", "shake dry", "idle"])
        self.assertEqual(self.character.findings, ())
        self.assertEqual(issues_of(self.glb)["numErrors"], 0)

    def test_same_bytes_every_time(self):
        self.assertEqual(mudwick.build()[0], self.glb)

    def test_walk_is_a_loop_and_feet_stay_on_the_ground(self):
        clip = self.character.clip("walk")
        skeleton = self.character.skeleton
        pose = clip.sample(skeleton, np.arange(28) / 24.0)
        np.testing.assert_allclose(pose.rotations[0], pose.rotations[-1], atol=1e-6)
        world = world_matrices(skeleton, pose)
        for foot in ("fore_foot_l", "fore_foot_r", "hind_foot_l", "hind_foot_r"):
            height = world[:, skeleton.index(foot), 1, 3]
            self.assertGreater(height.min(), 0.107, foot)
            self.assertGreater((height < 0.112).mean(), 0.5, foot)

    def test_setup_moves_every_layer_on_every_clip(self):
        for clip in self.character.clips:
            run = Run(TakeSpec(self.character, self.setup, clip.name))
            added = np.concatenate([chunk.added for chunk in run.chunks()])
            self.assertEqual(run.notes, ())
            self.assertTrue((added.max(0) > 0.0005).all(), (clip.name, added.max(0)))
            self.assertLess(added.max(), 1.5)

    def test_picture_shows_a_character_on_its_ground(self):
        image = picture(self.character, 120, 80)
        self.assertEqual(image.shape, (80, 120, 3))
        self.assertGreater(image[20:60, 30:90].std(), 25.0)


class SurfaceTest(TestCase):
    def test_mesh_is_closed_even_and_on_the_surface(self):
        distance = blend([Ellipsoid((0, 0, 0), (0.4, 0.3, 0.5)), Cone((0, 0, 0.3), (0, 0.2, 0.8), 0.15, 0.08)], 0.1)
        vertices, triangles = mesh_of(distance, (-0.6, -0.5, -0.7), (0.6, 0.6, 1.1), 0.05)
        self.assertLess(np.abs(distance(vertices)).max(), 0.004)
        edges = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
        _, counts = np.unique(edges, axis=0, return_counts=True)
        self.assertTrue((counts == 2).all())
        a, b, c = (vertices[triangles[:, k]] for k in range(3))
        volume = np.sum(a * np.cross(b, c)) / 6.0
        self.assertGreater(volume, 0.2)
