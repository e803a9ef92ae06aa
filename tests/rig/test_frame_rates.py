"""The rate that a clip was keyed at."""

from unittest import TestCase

import numpy as np

from quiver.rig.clip import Channel, Clip
from quiver.rig.frame_rates import keyed_rate


def clip(times):
    """A clip with keys at some times [s], as float32 files hold them."""
    times = np.asarray(times, np.float32).astype(float)
    values = np.zeros((len(times), 3))
    return Clip("c", (Channel(0, "translation", "LINEAR", times, values),), times[0], times[-1])


class KeyedRateTest(TestCase):
    def test_every_frame_keyed(self):
        for rate in (12.0, 15.0, 24.0, 24000 / 1001, 25.0, 30.0, 30000 / 1001, 48.0, 50.0, 60.0, 60000 / 1001, 120.0, 17.0, 33.0, 240.0):
            for start, count in ((0.0, 31), (0.0, 250), (1.0 / rate, 80), (7.5, 60)):
                self.assertAlmostEqual(keyed_rate(clip(start + np.arange(count) / rate)), rate, places=6, msg=(rate, start, count))

    def test_some_frames_keyed(self):
        rng = np.random.default_rng(3)
        for rate in (24.0, 25.0, 30.0, 60.0, 30000 / 1001, 24000 / 1001):
            chosen = np.sort(rng.choice(np.arange(1, 240), 40, replace=False))
            self.assertAlmostEqual(keyed_rate(clip(np.concatenate([[0], chosen]) / rate)), rate, places=6, msg=rate)

    def test_nothing_to_tell_by(self):
        for times in ([0.0], [0.0, 0.0], [0.0, 0.1234567, 0.31415926, 0.7182818, 1.41421]):
            self.assertIsNone(keyed_rate(clip(times)), times)
        self.assertIsNone(keyed_rate(Clip("none", (), 0.0, 0.0)))
        # What fits several is taken as the likeliest.
        self.assertEqual(keyed_rate(clip([0.0, 1.0, 2.0])), 24.0)
