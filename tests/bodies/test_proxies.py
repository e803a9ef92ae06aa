"""Proxies: as light as asked, near the surface, outside of it by the offset, smooth, and refused where there is nothing."""

from unittest import TestCase

import numpy as np

from quiver.bodies import proxies
from quiver.bodies.simplified import _distances
from quiver.demo import shapes
from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.run.parts.sheet import rotations_of
from tests.solids import box_surface


def dome(rings=40, radius=0.5):
    """A half ball, open below: (positions, triangles), looking outwards."""
    angle = np.linspace(0.02, np.pi / 2, rings)
    positions, triangles, _, _ = shapes.turned(np.stack([radius * np.sin(angle), radius * np.cos(angle)], 1), 60, (0.0, 0.0, 0.0))
    outwards = np.einsum("vk,vk->v", shapes.vertex_normals(positions, triangles), positions).mean() > 0.0
    return positions, triangles if outwards else triangles[:, ::-1]


class MakeTest(TestCase):
    def test_it_is_as_light_as_asked_and_near_the_surface(self):
        positions, triangles = dome()
        made, faces = proxies.make(positions, triangles, 300, 0, 0.0, False)
        self.assertTrue(200 <= len(faces) <= 300, len(faces))
        self.assertLess(np.abs(np.linalg.norm(made, axis=1) - 0.5).max(), 0.02)
        self.assertEqual(faces.max() + 1, len(made))

    def test_without_need_nothing_is_taken_away(self):
        positions, triangles = box_surface((1.0, 1.0, 1.0), (4, 4, 4))
        made, faces = proxies.make(positions, triangles, 10_000, 0, 0.0, False)
        self.assertEqual(len(faces), len(triangles))
        np.testing.assert_allclose(np.ptp(made, axis=0), 1.0, atol=1e-6)

    def test_an_offset_lies_outside(self):
        made, _ = proxies.make(*dome(), 400, 0, 0.03, False)
        self.assertLess(np.abs(np.linalg.norm(made, axis=1) - 0.53).max(), 0.015)

    def test_smoothing_takes_what_is_rough_and_keeps_the_size(self):
        positions, triangles = dome()
        rough = positions + np.random.default_rng(3).normal(0.0, 0.006, positions.shape)
        plain, smooth = (np.linalg.norm(proxies.make(rough, triangles, 10**6, rounds, 0.0, False)[0], axis=1) for rounds in (0, 10))
        self.assertLess(smooth.std(), 0.6 * plain.std())
        self.assertAlmostEqual(smooth.mean(), 0.5, delta=0.005)

    def test_a_closed_one_is_a_shell_around_it(self):
        positions, triangles = dome()
        made, faces = proxies.make(positions, triangles, 800, 0, 0.05, True)
        edges = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
        self.assertEqual(set(np.unique(edges, axis=0, return_counts=True)[1]), {2})
        away = _distances(positions, triangles, made, 1.0)
        self.assertAlmostEqual(away.mean(), 0.05, delta=0.006)

    def test_nothing_and_too_little_are_refused(self):
        positions, triangles = dome()
        for faces, target in ((triangles[:2], 300), (np.zeros((0, 3), int), 300)):
            with self.assertRaisesRegex(BadInput, "some triangles"):
                proxies.make(positions, faces, target, 0, 0.0, False)


class TurnTest(TestCase):
    def test_a_surface_that_turns_says_by_how_much(self):
        positions, triangles = dome(12)
        made, faces = proxies.make(positions, triangles, 200, 0, 0.0, False)
        turn = transforms.from_axis_angle([0.2, 0.9, 0.4], 1.1)
        after = transforms.rotate(np.tile(turn, (len(made), 1)), made)
        found = rotations_of(faces, made[None], after[None])[0]
        np.testing.assert_allclose(np.abs(found @ turn), 1.0, atol=1e-9)
