"""Joints that turn segments: the compiled kernel against the same steps in NumPy."""

import numpy as np
from django.test import SimpleTestCase

from quiver.kernels.kinematics import _segment_rotations, segment_rotations
from quiver.rig import transforms


class SegmentRotationsTest(SimpleTestCase):
    def setUp(self):
        rng = np.random.default_rng(4)
        self.keyed, self.moved = rng.normal(size=(2, 5, 3, 4, 3))
        self.keyed[0, 0, 1] = 0.0
        self.points = [np.concatenate([np.zeros((5, 3, 1, 3)), np.cumsum(each, axis=2)], axis=2) for each in (self.keyed, self.moved)]
        frames = transforms.to_matrices(transforms.normalised(rng.normal(size=(5, 3, 4, 4))))
        frames[:, 1, :, :, 0] *= -1.0
        self.frames = frames
        self.found, _ = segment_rotations(*self.points, frames, np.array([(-1, -1)]))

    def test_segments_come_to_lie_where_they_should(self):
        world = np.array([transforms.IDENTITY] * 15).reshape(5, 3, 4)
        for i in range(4):
            axes = np.linalg.det(self.frames[:, :, i])[..., None] * np.einsum(
                "scij,scj->sci", self.frames[:, :, i], self.found[:, :, i, :3]
            )
            world = transforms.multiply(world, np.concatenate([axes, self.found[:, :, i, 3:]], -1))
            turned = transforms.rotate(world, self.keyed[:, :, i])
            lengths = [np.linalg.norm(each, axis=-1, keepdims=True) for each in (turned, self.moved[:, :, i])]
            goal = self.moved[:, :, i] / lengths[1]
            # One segment has no length: it turns nothing.
            has_length = lengths[0][..., 0] > 0.0
            np.testing.assert_allclose((turned / np.maximum(lengths[0], 1e-12))[has_length], goal[has_length], atol=1e-9)

    def test_compiled_and_plain_agree(self):
        for grows_on in ([(-1, -1)], [(-1, -1), (0, 2), (1, 0)]):
            with self.subTest(grows_on=grows_on):
                grows_on = np.array(grows_on)
                fast, slow = ([each.copy() for each in self.points] for _ in range(2))
                found = segment_rotations(*fast, self.frames, grows_on)
                for one, other in zip(found, _segment_rotations(*slow, self.frames, grows_on), strict=True):
                    np.testing.assert_allclose(one, other, atol=1e-12)
                np.testing.assert_allclose(fast[1], slow[1], atol=1e-12)
