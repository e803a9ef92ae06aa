"""The lane vectors: compiled and plain must agree to the bit."""

from unittest import TestCase

import numpy as np
from numba import njit

from quiver.kernels.compiling import kernel, on_stack
from quiver.kernels.lanes import (
    LANES,
    larger,
    least,
    less_bits,
    load,
    load_points,
    lowest,
    smaller,
    splat,
    sqrt,
    store,
    store_points,
    total_of,
    where_less,
)
from quiver.kernels.panels import sum_of_columns, times_square


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

    def test_points_that_follow_each_other(self):
        @kernel
        def turned(points, out, totals):
            for row in range(len(totals)):
                x, y, z, w = load_points(points, row)
                store_points(out, row, y, -x, z + w, w)
                totals[row] = total_of(z)

        points = np.random.default_rng(6).random((3 * LANES, 4)).astype(np.float32)
        (fast, plain), totals = np.zeros((2, *points.shape), np.float32), np.zeros((2, 3))
        turned(points, fast, totals[0])
        turned.py_func(points, plain, totals[1])
        x, y, z, w = points.T
        np.testing.assert_array_equal(fast, np.stack([y, -x, z + w, w], 1))
        np.testing.assert_array_equal(fast, plain)
        np.testing.assert_array_equal(*totals)
        np.testing.assert_allclose(totals[0], z.reshape(3, -1).sum(1), rtol=1e-6)


class PanelsTest(TestCase):
    """What sheets' solves are made of, against matrices."""

    def test_columns_and_squares(self):
        @kernel
        def of_both(first, end, ind, value, w, squares, panel, out):
            x, y, z = sum_of_columns(first, end, ind, value, w)
            store(out, 0, x)
            store(out, 1, y)
            store(out, 2, z)
            x, y, z = times_square(squares, panel, x, y, z)
            store(out, 3, x)
            store(out, 4, y)
            store(out, 5, z)

        rng = np.random.default_rng(7)
        value, w, squares = (rng.standard_normal(shape).astype(np.float32) for shape in ((40, LANES), (70, 4), (3 * LANES, LANES)))
        ind = rng.integers(0, 70, 40).astype(np.uint32)
        # Any number of columns: whole rounds, a rest, and none.
        for first, end in ((0, 40), (3, 10), (5, 8), (7, 7)):
            fast, plain = np.zeros((2, 6, LANES), np.float32)
            of_both(first, end, ind, value, w, squares, 1, fast)
            of_both.py_func(first, end, ind, value, w, squares, 1, plain)
            total = value[first:end].astype(float).T @ w[ind[first:end], :3]
            wanted = np.concatenate([total.T, (squares[LANES : 2 * LANES].astype(float).T @ total).T])
            np.testing.assert_allclose(fast, wanted, atol=2e-4)
            np.testing.assert_allclose(plain, wanted, atol=2e-4)


class StackTest(TestCase):
    """Small arrays that no one counts."""

    def test_they_are_arrays_of_their_own(self):
        @kernel
        def filled(n):
            rows, numbers, total = on_stack(np.float32, 3, LANES), on_stack(np.int64, 5), 0.0
            for i in range(5):
                numbers[i] = n + i
            for i in range(3):
                for lane in range(LANES):
                    rows[i, lane] = i * lane
            for i in range(3):
                total += rows[i, LANES - 1] * numbers[i]
            return total + numbers.sum() + rows.shape[0] + len(numbers)

        self.assertEqual(filled(2), filled.py_func(2))
        self.assertEqual(filled(2), 15 * 3 + 30 * 4 + 20 + 3 + 5)

    def test_a_kernel_that_makes_an_array_does_not_compile(self):
        @kernel
        def made(n):
            return np.zeros(n).sum()

        with self.assertRaisesRegex(Exception, "(?i)NRT required|array passed"):
            made(3)
