"""The bench's scenes, small and not timed: that they still call the kernels as these are."""

from unittest import TestCase

import numpy as np

from bench.core import ChainScene, PlainSolid, SolidRun, bar
from bench.touch import SheetScene
from quiver.kernels.lanes import LANES


class BenchTest(TestCase):
    def test_chains_run_in_both_ways(self):
        scene = ChainScene(LANES)
        plain = scene.plain(LANES)
        plain()
        scene.ours()
        self.assertGreater(np.abs(scene.state.rows).max(), 1e-3)

    def test_a_substep_of_a_solid_in_both_plain_ways(self):
        run = SolidRun(*bar(400))
        run.frame()
        self.assertTrue(np.isfinite(run.state.positions).all())
        ends = []
        for way in ("scalar", "by_colour"):
            plain = PlainSolid(run)
            getattr(plain, way)()
            ends.append(plain.points)
        # One after another, and colour by colour: the order is another, what is solved is the same.
        self.assertTrue(all(np.isfinite(each).all() for each in ends))
        np.testing.assert_allclose(*ends, atol=2e-3)

    def test_a_cloth_stays_on_its_ball(self):
        scene = SheetScene(12)
        for _ in range(3):
            scene.ours()
        scene.plain()
        self.assertGreater(np.linalg.norm(scene.state.positions, axis=1).min(), 0.99)
