"""Conforming solids: built apart, kept as a text, taken by a region."""

import importlib.util
from unittest import TestCase, skipUnless

import numpy as np

from quiver.bodies import conforming, volume
from quiver.errors import BadInput
from tests.solids import box_surface, filled_bar

HAS_PACKAGE = importlib.util.find_spec("pytetwild") is not None


class KeptTest(TestCase):
    def setUp(self):
        made, _ = filled_bar((10, 4, 4), (1.0, 0.4, 0.4), lambda nodes: nodes[:, 0] < 0.01, 0.5)
        self.nodes, self.tets = made.nodes, made.tets
        self.positions, self.triangles = box_surface((1.0, 0.4, 0.4), (20, 8, 8))

    def test_a_text_keeps_it(self):
        nodes, tets = conforming.decode(conforming.encode(self.nodes, self.tets))
        np.testing.assert_allclose(nodes, self.nodes, atol=1e-7)
        np.testing.assert_array_equal(tets, self.tets)

    def test_texts_that_are_none_are_refused(self):
        good = conforming.encode(self.nodes, self.tets)
        wrong_node = conforming.encode(self.nodes, self.tets + 1)
        endless = conforming.encode(np.where(self.nodes > 0.9, np.inf, self.nodes), self.tets)
        for bad in ("", "?", good[: len(good) // 2], "AAAA", wrong_node, endless):
            with self.assertRaises(BadInput):
                conforming.decode(bad)

    def test_a_region_takes_its_part_and_the_rest_holds_it(self):
        made = conforming.build(self.positions, self.positions[:, 0] > 0.5, self.nodes, self.tets)
        self.assertTrue(0.45 < volume.build(made, np.zeros(len(made.nodes)), 0.5, 1.0).volumes.sum() / 0.16 < 0.6)
        self.assertTrue(made.is_inner.any())
        self.assertLess(made.nodes[made.is_inner, 0].max(), 0.61)
        held = np.einsum("rc,rck->rk", made.corner_weights, made.nodes[made.corners])
        np.testing.assert_allclose(held, self.positions[made.vertices], atol=1e-9)
        self.assertFalse(made.is_thin.any())
        far, is_far = np.concatenate([self.positions, [[0.5, 9.0, 0.0]]]), np.arange(len(self.positions) + 1) == len(self.positions)
        with self.assertRaises(BadInput):
            conforming.build(far, is_far, self.nodes, self.tets)


@skipUnless(HAS_PACKAGE, "the optional extra “conforming” is not installed")
class BuiltTest(TestCase):
    def test_a_surface_that_crosses_itself_is_filled(self):
        positions, triangles = box_surface((1.0, 0.4, 0.4), (6, 3, 3))
        twice = np.concatenate([positions, positions + np.array([0.5, 0.2, 0.1])])
        nodes, tets = conforming.tetrahedralise(twice, np.concatenate([triangles, triangles + len(positions)]), 0.2)
        volumes = np.abs(np.linalg.det(nodes[tets[:, 1:]] - nodes[tets[:, :1]])).sum() / 6.0
        # Both boxes, less what they share.
        self.assertLess(abs(volumes / (0.32 - 0.5 * 0.2 * 0.3) - 1.0), 0.05)

    def test_it_can_be_stopped_and_says_what_went_wrong(self):
        positions, triangles = box_surface((1.0, 0.4, 0.4), (6, 3, 3))
        self.assertIsNone(conforming.tetrahedralise(positions, triangles, 0.02, lambda: False))
        with self.assertRaisesRegex(BadInput, "expected tetrahedra that fill this mesh"):
            conforming.tetrahedralise(positions, triangles[:0], 0.2)
