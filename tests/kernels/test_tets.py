"""The tetrahedron kernel and the packing against their own plain copies."""

from unittest import TestCase

import numpy as np

from quiver.kernels import packing, tets
from quiver.kernels.lanes import LANES
from tests.solids import Run, bar


class PlainCopyTest(TestCase):
    def test_compiled_is_plain_to_the_bit(self):
        made, body = bar(0.12)
        rng = np.random.default_rng(0)
        start = (rng.normal(0.0, 0.02, (len(made.nodes), 3)) * body.is_free[:, None]).astype(np.float32)

        def scene():
            run = Run(made, body, 5e4)
            params = run.model.params.reshape(-1, LANES).copy()
            tets.measure_edges(made.nodes, made.tets, run.model.places, params)
            points = np.zeros((len(made.nodes) + 1, 4), np.float32)
            points[:-1, :3], points[:-1, 3] = start, run.model.inverse_masses
            still = np.zeros((4, len(made.nodes), 4), np.float32)
            velocities, old = np.zeros((2, len(made.nodes), 4), np.float32)
            shares = (np.float32(0.99), np.float32(0.999), np.float32(50.0))
            pull = np.array([0.0, -0.04, 0.0], np.float32)
            dt = np.float32(run.model.dt)
            return [4, dt, points, velocities, run.model.indices, params, still, still[0], run.model.hold_shares, pull, *shares, old]

        fast, slow = scene(), scene()
        tets.advance_tets(*fast)
        tets.advance_tets.py_func(*slow)
        self.assertGreater(np.abs(fast[3]).max(), 0.1)
        np.testing.assert_array_equal(fast[2], slow[2])
        np.testing.assert_array_equal(fast[3], slow[3])

    def test_measuring_is_plain(self):
        made, _ = bar(0.12)
        edges, lengths = np.array([[0, 1], [2, 5]], np.int32), np.array([0.1, 0.2])
        moved = made.nodes + np.random.default_rng(1).normal(0.0, 0.02, made.nodes.shape)
        fast, slow = tets.measure(moved, made.tets, edges, lengths), tets.measure.py_func(moved, made.tets, edges, lengths)
        np.testing.assert_allclose(fast, slow, rtol=1e-12)

    def test_blocks_name_no_particle_twice_and_every_tetrahedron_once(self):
        made, _ = bar(0.06)
        places = packing.pack_blocks(made.tets, len(made.nodes))
        np.testing.assert_array_equal(places[:300], packing.pack_blocks.py_func(made.tets, len(made.nodes))[:300])
        self.assertEqual(len(np.unique(places, axis=0)), len(made.tets))
        self.assertTrue((places[:, 1] < LANES).all())
        for block in np.unique(places[:, 0]):
            named = made.tets[places[:, 0] == block].ravel()
            self.assertEqual(len(np.unique(named)), len(named))
        self.assertGreater(len(made.tets) / (LANES * len(np.unique(places[:, 0]))), 0.85)
