"""What pulls and what moves in a tree of segments, against differences of its own energy and places."""

from unittest import TestCase

import numpy as np

from quiver.bodies.articulated import Articulated, across
from quiver.rig.tree import Tree

TREE = Tree((4, 3, 2), ((-1, -1), (0, 1), (1, 0)))
STEP = 1e-6


class TreeTest(TestCase):
    def test_each_segment_follows_the_one_before_but_for_those_that_ride(self):
        self.assertEqual(TREE.before.tolist(), [-1, 0, 1, 2, 1, 4, 5, 4, 7])
        self.assertEqual(np.flatnonzero(TREE.is_rider).tolist(), [4, 7])
        carries, dense = TREE.forks[:, 2], TREE.forks[:, 3]
        self.assertEqual(np.flatnonzero(carries).tolist(), [1, 4])
        self.assertEqual(np.flatnonzero(dense).tolist(), [0, 1, 4])

    def test_chains_are_merged_to_trees_and_come_apart_again(self):
        values = np.random.default_rng(1).normal(size=(5, 6, 4, 2))
        values[:, [1, 4], 3], values[:, [2, 5], 2:] = 0.0, 0.0
        merged = TREE.merged(values)
        self.assertEqual(merged.shape, (5, 2, 9, 2))
        np.testing.assert_array_equal(TREE.apart(merged), values)


class ArticulatedTest(TestCase):
    def setUp(self):
        rng, n = np.random.default_rng(3), TREE.segments
        self.body = Articulated(rng.normal(size=(n, 3)), np.where(TREE.is_rider[:, None], rng.normal(size=(n, 3)), 0.0), TREE)
        self.ways = self.as_long(self.body.segments + 0.7 * rng.normal(size=(n, 3)))
        self.frames = across(self.ways)
        self.stiff, self.forces = rng.uniform(0.5, 2.0, n), rng.normal(size=(n, 3))

    def as_long(self, ways):
        return ways * (self.body.lengths / np.linalg.norm(ways, axis=1))[:, None]

    def swung(self):
        """Ways a little forward and back along each of the axes."""
        for column in range(2 * TREE.segments):
            both = []
            for side in (STEP, -STEP):
                ways = self.ways.copy()
                ways[column // 2] += side * self.frames[column // 2, :, column % 2]
                both.append(self.as_long(ways))
            yield both

    def energy(self, ways):
        aims, _ = self.body.aims(ways[None])
        return 0.5 * np.sum(self.stiff[:, None] * (ways - aims[0]) ** 2) - np.sum(self.forces * self.body.places(ways))

    def test_pulls_are_the_derivative_of_the_energy_however_bent_it_is(self):
        pulls = self.body.pulled(self.ways[None], self.frames[None], self.stiff, self.forces)[0]
        slopes = [(self.energy(back) - self.energy(forward)) / (2.0 * STEP) for forward, back in self.swung()]
        np.testing.assert_allclose(pulls, slopes, atol=1e-7)

    def test_ends_and_bends_move_as_it_swings(self):
        ends, errors = self.body.moved(self.ways, self.frames)
        for column, (forward, back) in enumerate(self.swung()):
            moved = (self.body.places(forward) - self.body.places(back)).ravel() / (2.0 * STEP)
            bent = (forward - self.body.aims(forward[None])[0][0] - back + self.body.aims(back[None])[0][0]).ravel() / (2.0 * STEP)
            np.testing.assert_allclose(ends[:, column], moved, atol=1e-7)
            np.testing.assert_allclose(errors[:, column], bent, atol=1e-7)

    def test_a_hinge_lets_each_segment_swing_one_way_only(self):
        axes = np.tile([[0.0, 0.0, 0.0], [0.0, 0.0, 1.0]], (TREE.segments, 1, 1))
        hinged = Articulated(self.body.segments, self.body.offsets, TREE, axes)
        _, kept = hinged.across(self.body.segments)
        self.assertEqual(kept.shape[1], TREE.segments)
        ways = hinged.within_axes(self.ways)
        np.testing.assert_allclose(np.linalg.norm(ways, axis=1), hinged.lengths)
        np.testing.assert_allclose(hinged.within_axes(ways), ways, atol=1e-9)
        self.assertGreater(np.abs(ways - self.ways).max(), 0.1)
