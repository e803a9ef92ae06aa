"""What is measured of a solid is what was done to it."""

from unittest import TestCase

import numpy as np

from quiver.run.measures.volume_change import SolidMeasure
from tests.solids import bar


class SolidMeasureTest(TestCase):
    def setUp(self):
        self.made, _ = bar(0.12)
        self.measure = SolidMeasure(self.made.nodes, self.made.tets)

    def test_rest_is_nothing(self):
        np.testing.assert_allclose(self.measure(self.made.nodes), 0.0, atol=1e-9)

    def test_a_known_stretch(self):
        volume, stretch = self.measure(self.made.nodes * np.array([1.5, 0.9, 1.0]))
        self.assertAlmostEqual(volume, 35.0, places=6)
        self.assertAlmostEqual(stretch, 50.0, places=6)

    def test_turning_it_changes_nothing(self):
        turned = self.made.nodes @ np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]) + 3.0
        np.testing.assert_allclose(self.measure(turned), 0.0, atol=1e-9)
