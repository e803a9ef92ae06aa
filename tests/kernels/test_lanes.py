"""The lane vectors: compiled and plain must agree to the bit."""

from unittest import TestCase

import numpy as np
from numba import njit

from quiver.kernels.lanes import LANES, larger, least, less_bits, load, lowest, smaller, splat, sqrt, store, where_less


@njit
def mixed(a, b, rows):
    for row in range(rows):
        x, y = load(a, row), load(b, row)
        z = sqrt(x * x + y * y) / (1.0 + larger(x, 0.25)) - smaller(y, splat(0.5))
        store(b, row, where_less(x, y, -z, z + 2 * x))


class LanesTest(TestCase):
    def test_compiled_is_plain_to_the_bit(self):
        rng = np.random.default_rng(3)
        a, b = rng.random((2, 40, LANES)).astype(np.float32)
        plain = b.copy()
        mixed(a, b, 40)
        mixed.py_func(a, plain, 40)
        np.testing.assert_array_equal(b, plain)

    def test_a_product_less_itself_is_exactly_zero(self):
        @njit
        def cross(a):
            x, y = load(a, 0), load(a, 1)
            store(a, 2, x * y - y * x)

        a = np.random.default_rng(4).random((3, LANES)).astype(np.float32)
        cross(a)
        np.testing.assert_array_equal(a[2], 0.0)

    def test_bits_and_the_least_lane_are_those_of_the_plain_copies(self):
        @njit
        def told(a, b, out):
            for row in range(len(a)):
                x, y = load(a, row), load(b, row)
                out[row, 0], out[row, 1] = less_bits(x, y), lowest(less_bits(x, y) | (1 << LANES))
                out[row, 2] = lowest(~less_bits(least(x), x))

        a, b = np.random.default_rng(5).random((2, 30, LANES)).astype(np.float32)
        a[3], b[4], a[5, 7] = 2.0, 2.0, -1.0
        fast, plain = np.zeros((2, 30, 3), np.int64)
        told(a, b, fast)
        told.py_func(a, b, plain)
        np.testing.assert_array_equal(fast, plain)
        np.testing.assert_array_equal(fast[:, 2], a.argmin(1))
        self.assertEqual(fast[3].tolist(), [0, LANES, 0])
        self.assertEqual(fast[4, 0], 2**LANES - 1)
