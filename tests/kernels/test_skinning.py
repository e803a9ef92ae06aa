"""The skinning kernels against their own plain copies."""

from unittest import TestCase

import numpy as np

from quiver.kernels import skinning
from quiver.kernels.lanes import LANES
from quiver.rig.skinning import VERTICES_WORTH_A_THREAD, skin


def scene(vertices, influences=4, joints=9, seed=4):
    rng = np.random.default_rng(seed)
    weights = rng.random((vertices, influences)).astype(np.float32)
    return (
        rng.normal(size=(vertices, 3)).astype(np.float32),
        rng.integers(0, joints, (vertices, influences)).astype(np.int32),
        weights / weights.sum(1, keepdims=True),
        rng.normal(size=(joints, LANES)).astype(np.float32),
        rng.normal(size=(joints, LANES)).astype(np.float32),
    )


class PlainCopyTest(TestCase):
    def both(self, kernel, *arrays):
        fast, slow = np.zeros_like(arrays[0]), np.zeros_like(arrays[0])
        kernel(0, len(fast), *arrays, fast)
        kernel.py_func(0, len(slow), *arrays, slow)
        self.assertGreater(np.abs(fast).max(), 0.1)
        # Fused multiply-adds round once where the plain copy rounds twice; what cancels is left with a part of its size.
        np.testing.assert_allclose(fast, slow, rtol=1e-4, atol=2e-5)

    def test_compiled_is_plain(self):
        *arrays, rows, more = scene(50)
        self.both(skinning.skin_linear, *arrays, rows)
        self.both(skinning.skin_dual_quaternion, *arrays, rows, more)

    def test_one_influence(self):
        *arrays, rows, more = scene(20, influences=1)
        self.both(skinning.skin_linear, *arrays, rows)
        self.both(skinning.skin_dual_quaternion, *arrays, rows, more)

    def test_threads_change_no_bit(self):
        *arrays, rows, _ = scene(3 * VERTICES_WORTH_A_THREAD + 5)
        one, three = (skin(skinning.skin_linear, *arrays, rows, threads=threads) for threads in (1, 3))
        np.testing.assert_array_equal(one, three)
