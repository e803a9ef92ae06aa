"""The nearest place on a mesh against a plain search through all triangles."""

from unittest import TestCase

import numpy as np

from quiver.kernels import nearest
from quiver.mesh.nearest import NearestOn
from quiver.mesh.topology import welded


class NearestTest(TestCase):
    def setUp(self):
        rng = np.random.default_rng(5)
        self.points = rng.normal(size=(300, 3))
        self.triangles = rng.integers(0, 300, (700, 3)).astype(np.int32)
        self.queries = rng.normal(0.0, 1.5, (200, 3))

    def plain(self, points):
        each = [[nearest.nearest_on.py_func(*q, points, *t)[0] for t in self.triangles] for q in self.queries[:40]]
        return np.sqrt(np.min(each, axis=1))

    def distances(self, mesh, found, corner_weights):
        positions = np.einsum("qc,qck->qk", corner_weights, mesh.points[mesh.triangles[found]])
        return np.linalg.norm(self.queries - positions, axis=1)

    def test_it_is_the_nearest_also_after_a_move_and_with_guesses(self):
        mesh = NearestOn(self.points, self.triangles)
        found, corner_weights = mesh.find(self.queries, 100.0)
        np.testing.assert_allclose(self.distances(mesh, found, corner_weights)[:40], self.plain(self.points), atol=1e-9)
        mesh.move(self.points * [1.5, 0.5, 1.0] + 0.2)
        again, corner_weights = mesh.find(self.queries, 100.0, found)
        np.testing.assert_allclose(self.distances(mesh, again, corner_weights)[:40], self.plain(mesh.points), atol=1e-9)
        self.assertGreaterEqual(corner_weights.min(), -1e-12)

    def test_what_is_further_than_the_limit_is_not_found(self):
        mesh = NearestOn(self.points, self.triangles)
        found, corner_weights = mesh.find(self.queries, 100.0)
        away = self.distances(mesh, found, corner_weights)
        near, _ = mesh.find(self.queries, 0.2)
        np.testing.assert_array_equal(near >= 0, away <= 0.2)

    def test_one_triangle_and_flat_ones(self):
        mesh = NearestOn([[0, 0, 0], [1, 0, 0], [0, 1, 0], [2, 2, 2]], [[0, 1, 2]])
        found, corner_weights = mesh.find([[0.2, 0.2, 3.0], [-1.0, -1.0, 0.0]], 10.0)
        np.testing.assert_array_equal(found, 0)
        np.testing.assert_allclose(corner_weights, [[0.6, 0.2, 0.2], [1, 0, 0]], atol=1e-12)
        flat = NearestOn([[0, 0, 0], [1, 0, 0], [1, 0, 0]], [[0, 1, 2]])
        self.assertTrue(np.isfinite(flat.find([[0.5, 1.0, 0.0]], 10.0)[1]).all())

    def test_the_kernels_are_their_plain_copies(self):
        centres = self.points[self.triangles].mean(1)
        order, starts = nearest.build_tree(centres, 5)
        plain_order, plain_starts = nearest.build_tree.py_func(centres, 5)
        np.testing.assert_array_equal(order, plain_order)
        np.testing.assert_array_equal(starts, plain_starts)
        self.assertEqual(sorted(order), list(range(700)))
        boxes, plain = np.empty((63, 6)), np.empty((63, 6))
        nearest.refit(self.points, self.triangles, order, starts, boxes)
        nearest.refit.py_func(self.points, self.triangles, order, starts, plain)
        np.testing.assert_array_equal(boxes, plain)
        arrays = [(np.full(20, -1), np.empty((20, 3))) for _ in range(2)]
        for find, (found, corner_weights) in zip((nearest.find_nearest, nearest.find_nearest.py_func), arrays, strict=True):
            find(0, 20, self.queries, np.full(20, 9.0), self.points, self.triangles, order, starts, boxes, found, corner_weights)
        np.testing.assert_array_equal(arrays[0][0], arrays[1][0])


class WeldedTest(TestCase):
    def test_seams_do_not_cut_and_flat_triangles_go(self):
        positions = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
        found = welded(positions, np.array([[0, 1, 2], [3, 4, 5], [1, 3, 4]]))
        np.testing.assert_array_equal(found, [[0, 1, 2], [1, 4, 2]])
