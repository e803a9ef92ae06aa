"""The ring test of chains: the dials are met over their range."""

from dataclasses import replace
from unittest import TestCase

from quiver.errors import BadInput
from quiver.rig.character import Character
from quiver.ring import ring_test
from tests.makers import chain_setup, straight


class ChainRingTest(TestCase):
    def rung(self, joints=6, **dials):
        setup = chain_setup(frame_rate=dials.pop("frame_rate", 24.0), **dials)
        return ring_test(Character("c", straight(joints), (), ()), setup, setup.layers[0])

    def test_rate_and_settle_time_are_measured_as_the_dials_say(self):
        for rate, settle, joints, frame_rate in (
            (2.0, 24.0, 6, 24.0),
            (1.6, 100.0, 3, 24.0),
            (4.0, 30.0, 9, 30.0),
            (8.0, 20.0, 5, 60.0),
            (12.0, 9.0, 4, 24.0),
        ):
            ring = self.rung(joints, wobble_rate=rate, settle_time=settle, drag=0.0, gravity=80.0, frame_rate=frame_rate)
            self.assertAlmostEqual(ring.rate / rate, 1.0, delta=0.05, msg=(rate, joints))
            self.assertAlmostEqual(ring.settle / settle, 1.0, delta=0.05, msg=(settle, joints))
            self.assertTrue(ring.is_met)

    def test_what_swings_by_its_weight_alone_says_so(self):
        for gravity, rate in ((100.0, 0.4), (80.0, 0.5)):
            ring = self.rung(4, wobble_rate=rate, settle_time=60.0, gravity=gravity)
            self.assertFalse(ring.is_met)
            self.assertIn("its weight alone swings it at", ring.reason)
            said = float(ring.reason.split(" at ")[1].split(" ")[0])
            self.assertAlmostEqual(ring.rate / said, 1.0, delta=0.05)

    def test_both_dials_are_judged(self):
        ring = self.rung(5, wobble_rate=9.0, settle_time=200.0)
        self.assertAlmostEqual(ring.rate / 9.0, 1.0, delta=0.05)
        self.assertFalse(ring.is_met)
        said = float(ring.reason.split("settles in ")[1].split(" ")[0])
        self.assertAlmostEqual(ring.settle / said, 1.0, delta=0.05)

    def test_one_axis_is_enough_and_none_is_too_few(self):
        self.assertTrue(self.rung(wobble_rate=2.0, settle_time=24.0, swing_axes="z").is_met)
        for dials in ({"swing_axes": ""}, {"wobble_rate": 0.0}):
            with self.assertRaisesRegex(BadInput, "no rate of its own"):
                self.rung(**{"wobble_rate": 2.0} | dials)

    def test_other_kinds_do_not_ring(self):
        setup = chain_setup()
        with self.assertRaisesRegex(BadInput, "to ring"):
            ring_test(Character("c", straight(3), (), ()), setup, replace(setup.layers[0], kind="prop"))
