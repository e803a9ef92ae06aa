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
        data = lattice.message(made.nodes, body.holds, 3, joints, weights, made.tets)
        nodes, edges, tets, fixed = struct.unpack_from("<IIII", data)
        self.assertEqual((nodes, tets, fixed), (len(made.nodes), len(made.tets), 3))
        self.assertEqual(len(data), 16 + 4 * (4 * nodes + 8 * nodes + 2 * edges))
        np.testing.assert_allclose(np.frombuffer(data, "<f4", 3 * nodes, 16).reshape(-1, 3), made.nodes, atol=1e-6)
        self.assertLess(np.frombuffer(data, "<u4", 2 * edges, len(data) - 8 * edges).max(), nodes)
