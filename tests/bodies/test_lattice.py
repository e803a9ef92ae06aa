"""Lattices: closed, open and crossing surfaces; every vertex has its place."""

from unittest import TestCase

import numpy as np

from quiver.bodies import lattice, volume
from quiver.errors import BadInput
from tests.solids import bar, box_surface


class LatticeTest(TestCase):
    def check(self, made, positions):
        corners = made.nodes[made.tets]
        sixfold = np.linalg.det(corners[:, 1:] - corners[:, :1])
        # All tetrahedra of this lattice are alike: a twelfth of a cell each.
        np.testing.assert_allclose(sixfold / 6.0, made.edge**3 / 12.0, rtol=1e-9)
        self.assertEqual(len(np.unique(np.sort(made.tets, 1), axis=0)), len(made.tets))
        held = np.einsum("rc,rck->rk", made.corner_weights, made.nodes[made.corners])
        np.testing.assert_allclose(held, positions[made.vertices], atol=1e-9)
        self.assertGreater(made.corner_weights.min(), -1e-9)

    def test_a_closed_body_is_filled(self):
        positions, triangles = box_surface((1.0, 0.5, 0.4), (20, 10, 8))
        for edge in (0.1, 0.05):
            made = lattice.build(positions, triangles, np.ones(len(positions), bool), edge)
            self.check(made, positions)
            filled = made.edge**3 / 12.0 * len(made.tets)
            # It reaches over the surface by a part of a cell.
            self.assertTrue(0.95 < filled / 0.2 < (1 + 1.0 * edge) * (1 + 2 * edge) * (1 + 2.5 * edge), filled)
            self.assertFalse(made.is_inner.any())

    def test_an_open_surface_and_one_that_crosses_itself(self):
        positions, triangles = box_surface((1.0, 0.5, 0.4), (20, 10, 8))
        kept = triangles[positions[triangles].mean(1)[:, 0] < 0.999]
        open_lattice = lattice.build(positions, kept, np.ones(len(positions), bool), 0.08)
        self.check(open_lattice, positions)
        twice = np.concatenate([positions, positions + np.array([0.3, 0.2, 0.1])])
        both, piece_of = np.concatenate([triangles, triangles + len(positions)]), np.repeat([0, 1], len(positions))
        apart = lattice.build_apart(twice, both, np.ones(len(twice), bool), 0.08, piece_of)
        self.check(apart, twice)
        self.assertEqual(apart.pieces.max(), 1)
        self.assertEqual(len(np.unique(apart.pieces[apart.corners[: len(positions)]])), 1)
        crossing = lattice.build(twice, np.concatenate([triangles, triangles + len(positions)]), np.ones(len(twice), bool), 0.08)
        self.check(crossing, twice)
        self.assertEqual(crossing.pieces.max(), 0)

    def test_a_part_of_a_body_is_held_where_it_meets_the_rest(self):
        positions, triangles = box_surface((1.0, 0.5, 0.4), (20, 10, 8))
        made = lattice.build(positions, triangles, positions[:, 0] > 0.6, 0.08)
        self.check(made, positions)
        self.assertTrue(made.is_inner.any())
        self.assertLess(np.abs(made.nodes[made.is_inner, 0] - 0.6).max(), 0.12)
        body = volume.build(made, np.zeros(len(made.nodes)), 0.5, 1.0)
        self.assertTrue((body.holds[made.is_inner] >= volume.PINNED).all())

    def test_a_piece_that_nothing_holds_is_held_a_little(self):
        made, body = bar(0.1, held=lambda nodes: np.zeros(len(nodes)))
        self.assertEqual(volume.loose_pieces(made, np.zeros(len(made.nodes))), 1)
        np.testing.assert_array_equal(body.holds, volume.LEAST_HOLD)

    def test_too_many_cells_and_an_empty_region_are_refused(self):
        positions, triangles = box_surface((1, 1, 1), (2, 2, 2))
        with self.assertRaisesRegex(BadInput, "cells of at least about [0-9]+ mm"):
            lattice.build(positions, triangles, np.ones(len(positions), bool), 0.001)
        with self.assertRaisesRegex(BadInput, "empty"):
            lattice.build(positions, triangles, np.zeros(len(positions), bool), 0.1)

    def test_the_slowest_mode_hardly_depends_on_the_cells(self):
        coarse, fine = (bar(edge)[1].lowest for edge in (0.09, 0.04))
        # The stiffer coarse lattice is also a little thicker; rates go with the root.
        self.assertLess(abs((coarse / fine) ** 0.5 - 1.0), 0.3)

    def test_what_is_thinner_than_a_cell_is_known(self):
        positions, triangles = box_surface((1.0, 0.5, 0.4), (20, 10, 8))
        flap = np.array([[1.0, 0.2, 0.2], [1.6, 0.2, 0.2], [1.6, 0.3, 0.2]])
        made = lattice.build(np.concatenate([positions, flap]), triangles, np.ones(len(positions) + 3, bool), 0.08)
        np.testing.assert_array_equal(made.is_thin[-2:], True)
        self.assertFalse(made.is_thin[:-3].any())
