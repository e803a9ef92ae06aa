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
        frames = transforms.to_matrices(transforms.normalised(rng.normal(size=(5, 3, 4, 4))))
        frames[:, 1, :, :, 0] *= -1.0
        self.frames = frames
        self.found = segment_rotations(self.keyed, self.moved, frames)

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
        plain = _segment_rotations(self.keyed, self.moved, self.frames)
        np.testing.assert_allclose(self.found, plain, atol=1e-12)
