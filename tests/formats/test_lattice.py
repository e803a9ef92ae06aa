"""The lattice's message says what is drawn."""

import struct
from unittest import TestCase

import numpy as np

from quiver.formats import lattice
from tests.solids import bar


class LatticeMessageTest(TestCase):
    def test_the_outside_of_one_and_of_two_tetrahedra(self):
        one = lattice.outside(np.array([[0, 1, 2, 3]]))
        self.assertEqual(len(one), 6)
        two = lattice.outside(np.array([[0, 1, 2, 3], [1, 2, 3, 4]]))
        self.assertEqual(len(two), 9)

    def test_counts_and_arrays_are_where_the_stage_reads_them(self):
        made, body = bar(0.12)
        joints, weights = np.zeros((len(made.nodes), 1), int), np.ones((len(made.nodes), 1))
        data = lattice.message(made.nodes, body.holds, 3, joints, weights, made.tets, made.corners, made.corner_weights)
        nodes, edges, tets, fixed = struct.unpack_from("<IIII", data)
        self.assertEqual((nodes, tets, fixed), (len(made.nodes), len(made.tets), 3))
        carried = len(made.vertices)
        self.assertEqual(len(data), 16 + 4 * (4 * nodes + 8 * nodes + 2 * edges + 4 * tets + 1 + 8 * carried))
        np.testing.assert_allclose(np.frombuffer(data, "<f4", 3 * nodes, 16).reshape(-1, 3), made.nodes, atol=1e-6)
        start = 16 + 4 * 12 * nodes
        self.assertLess(np.frombuffer(data, "<u4", 2 * edges, start).max(), nodes)
        sent = np.frombuffer(data, "<u4", 4 * tets, start + 8 * edges).reshape(-1, 4)
        self.assertEqual({tuple(sorted(tet)) for tet in sent}, {tuple(sorted(tet)) for tet in made.tets})
        self.assertTrue((np.diff(made.nodes[sent, 0].mean(1)) > -1e-9).all())
        corners = np.frombuffer(data, "<u4", 4 * carried, start + 8 * edges + 16 * tets + 4).reshape(-1, 4)
        corner_weights = np.frombuffer(data, "<f4", 4 * carried, len(data) - 16 * carried).reshape(-1, 4)
        held = np.einsum("rc,rck->rk", corner_weights, made.nodes[corners])
        np.testing.assert_allclose(held, np.einsum("rc,rck->rk", made.corner_weights, made.nodes[made.corners]), atol=1e-5)
