"""The lane vectors: compiled and plain must agree to the bit."""

from unittest import TestCase

import numpy as np
from numba import njit

from quiver.kernels.lanes import LANES, larger, load, smaller, splat, sqrt, store, where_less


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
