"""What muscles of one solid are near to of each other, against every triangle asked one by one."""

import unittest

import igl
import numpy as np

from quiver.contact.between import DEEP, NEAR, BetweenMuscles
from quiver.kernels.between import push_apart
from quiver.kernels.lanes import aligned
from quiver.sim.packing import nobody, row_count
from tests.solids import ball_surface


def several(centres, radius, far=0.0, times=2):
    """BetweenMuscles of balls whose every vertex is a particle, and these (N, 3), triangles (F, 3), owners (N,)."""
    points, triangles = ball_surface(radius, times)
    rest = np.concatenate([points + centre for centre in np.asarray(centres)]) + far
    faces = np.concatenate([triangles + number * len(points) for number in range(len(centres))])
    owners = np.repeat(np.arange(len(centres)), len(points))
    corners, weights = np.repeat(np.arange(len(rest))[:, None], 4, axis=1), np.tile([1.0, 0.0, 0.0, 0.0], (len(rest), 1))
    made = BetweenMuscles(rest, np.full(len(rest), 2.0), faces, corners, weights, owners, np.ones(len(rest), bool))
    return made, rest, faces, owners


class NearestOfOthersTests(unittest.TestCase):
    def assert_nearest(self, centres, radius, far, times):
        made, rest, faces, owners = several(centres, radius, far, times)
        found, shares, distances, _ = made.at_rest
        whose = owners[faces[:, 0]]
        for owner in range(len(centres)):
            rows = np.flatnonzero(owners[made.rows] == owner)
            squares, *_ = igl.point_mesh_squared_distance(rest[made.rows[rows]], rest, faces[whose != owner].astype(np.int64))
            is_near = found[rows] >= 0
            np.testing.assert_array_equal(is_near, np.sqrt(squares) <= DEEP)
            if not is_near.any():
                continue
            corners = rest[made.forest.triangles[found[rows][is_near]]]
            v, w = shares[rows][is_near].T
            there = np.einsum("cr,rck->rk", [1.0 - v - w, v, w], corners)
            away = np.linalg.norm(there - rest[made.rows[rows]][is_near], axis=1)
            np.testing.assert_allclose(away, np.sqrt(squares[is_near]), atol=1e-6)
            # Inside of another ball by the plain rule, and so behind what was found.
            middles = np.asarray(centres)[np.arange(len(centres)) != owner] + far
            deep = radius - np.linalg.norm(rest[made.rows[rows]][is_near, None] - middles, axis=2).min(1)
            self.assertTrue((distances[rows][is_near][deep > 0.1 * radius] < 0.0).all())

    def test_of_every_triangle_of_others(self):
        for centres, radius, far, times in (
            ([[0.0, 0, 0], [0.09, 0, 0], [0.0, 0.085, 0.03]], 0.045, 0.0, 2),
            ([[0.0, 0, 0], [0.03, 0.01, 0.0]], 0.02, 40.0, 3),
            ([[0.0, 0, 0], [1.1, 0, 0], [0.0, 3.0, 0]], 0.56, -7.0, 1),
            ([[0.0, 0, 0], [0.5, 0, 0]], 0.04, 0.0, 0),
        ):
            with self.subTest(radius=radius, far=far, times=times):
                self.assert_nearest(centres, radius, far, times)

    def test_what_moves_past_is_left_out(self):
        made, rest, _, owners = several([[0.0, 0, 0], [0.1, 0, 0]], 0.045)
        still = np.zeros((2, *rest.shape))
        apart, along, together = still.copy(), still.copy(), still.copy()
        together[0, owners == 1, 0], apart[0, owners == 1, 0], along[0, :, 0] = -0.02, 0.02, 0.3
        counts = [len(made.touches(rest, ways)[2]) for ways in (still, apart, along, together)]
        # They are a centimetre apart, and what goes the same way does not come nearer.
        self.assertEqual(counts[:3], [0, 0, 0])
        self.assertGreater(counts[3], 0)
        self.assertLess(NEAR, 0.01)

    def test_pushed_apart_by_their_masses_and_no_farther(self):
        made, rest, _, owners = several([[0.0, 0, 0], [0.1, 0, 0]], 0.045)
        moved = rest.copy()
        moved[owners == 1, 0] -= 0.014
        ways = np.zeros((1, *rest.shape))
        ways[0, owners == 1, 0] = -0.014
        particles, carried, meetings = made.touches(moved, ways)
        self.assertGreater(len(meetings), 0)
        for push in (push_apart, push_apart.py_func):
            points = aligned((row_count(len(rest)), 16)).reshape(-1, 4)
            points[: len(rest), 3] = np.where(owners == 0, 2.0, 1.0)
            before = self.gaps(points, particles, carried, meetings).min()
            for _ in range(60):
                push(points, particles, carried, meetings)
            self.assertLess(before, -0.003)
            self.assertGreater(self.gaps(points, particles, carried, meetings).min(), -1e-5)
            # Nobody is pushed, momentum stays, and nothing is left of what they crossed by.
            np.testing.assert_array_equal(points[nobody(len(rest)), :3], 0.0)
            momentum = (points[: len(rest), :3] / points[: len(rest), 3:]).sum(0)
            np.testing.assert_allclose(momentum, 0.0, atol=1e-5)

    def gaps(self, points, particles, carried, meetings):
        """How far apart they are by the moves of their particles."""
        return meetings[:, 0] + np.einsum("mc,mck,mk->m", carried, points[particles, :3], meetings[:, 1:4])
