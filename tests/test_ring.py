"""The ring test finds what the dials ask for, and says why where it does not."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.ring import ring_test, swing_of


class SwingTest(TestCase):
    def test_a_made_up_swing_is_measured(self):
        frames = np.arange(80)
        curve = np.exp(-np.log(20.0) * frames / 40.0) * np.sin(2 * np.pi * 2.0 * frames / 24.0 + 0.2)
        rate, settle = swing_of(curve, 24.0)
        self.assertAlmostEqual(rate, 2.0, delta=0.02)
        self.assertAlmostEqual(settle, 40.0, delta=2.5)

    def test_what_does_not_swing_has_no_rate(self):
        self.assertEqual(swing_of(np.exp(-np.arange(40) / 3.0), 24.0), (None, None))


class RingTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def ring(self, layer="belly", **dials):
        volume = self.setup.layer(layer)
        return ring_test(self.character, self.setup, replace(volume, values=volume.values | dials))

    def test_mudwicks_soft_parts_meet_their_dials(self):
        for layer, dials in (("belly", {}), ("belly", {"wobble_rate": 1.2, "settle_time": 60.0}), ("belly", {"firmness": 300.0})):
            ring = self.ring(layer, **dials)
            self.assertTrue(ring.is_met, (dials, ring.rate, ring.wanted_rate))
            self.assertEqual(ring.reason, "")
            self.assertLess(abs(ring.settle / ring.wanted_settle - 1.0), 0.2, (dials, ring.settle))

    def test_it_says_why_where_nothing_swings(self):
        ring = self.ring(settle_time=2.0)
        self.assertIsNone(ring.rate)
        self.assertIn("dies out", ring.reason)
        with self.assertRaisesRegex(BadInput, "held everywhere"):
            self.ring(hold_gain=0.0)
        with self.assertRaisesRegex(BadInput, "expected a volume"):
            ring_test(self.character, self.setup, self.setup.layer("bell"))
