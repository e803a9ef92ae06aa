"""What keeps points in front of a moving surface: single points, sixteen at a time, and the plain copies do the same."""

from unittest import TestCase

import numpy as np

from quiver.kernels import contacts, surface_contacts
from quiver.sim.packing import row_count, surface_contacts_in_lanes

COUNT, SUBSTEPS = 37, 6


def scene(rng):
    """Points around a floor that rises and tilts: points, old (P, 4), and spots as `push_surface_contacts` takes them."""
    points, old = np.zeros((40, 4), np.float32), np.zeros((40, 4), np.float32)
    points[:COUNT, :3], points[:COUNT, 3] = rng.normal(0.0, 0.02, (COUNT, 3)), 1.0
    points[5, 3] = 0.0
    bases = rng.normal(0.0, 0.03, (COUNT, 3))
    near = np.zeros((COUNT, 12))
    near[:, 3:6], near[:, 7], near[:, 10], near[:, 9] = [0.02, 0.03, 0.0], 1.0, 0.98, 0.2
    corners = np.repeat(np.arange(COUNT, dtype=np.int32)[:, None], 4, 1)
    corner_weights = np.tile([1.0, 0.0, 0.0, 0.0], (COUNT, 1))
    return points, old, (bases, corners, corner_weights, near, np.full(COUNT, 0.004), np.full(COUNT, 0.4))


class SpotTest(TestCase):
    def pushed(self, how):
        points, old, single = scene(np.random.default_rng(6))
        arrays = (
            surface_contacts_in_lanes(single, COUNT)
            if how in (surface_contacts.push_surface_contact_lanes, surface_contacts.push_surface_contact_lanes.py_func)
            else single
        )
        alone = (0, 1, contacts.NO_PIECES) if arrays is single else ()
        for step in range(SUBSTEPS):
            how(*alone, step, SUBSTEPS, points, old, *arrays)
            old[:] = points
        return points, single

    def test_all_four_ways_give_the_same(self):
        first, _ = self.pushed(contacts.push_surface_contacts)
        begun = scene(np.random.default_rng(6))[0]
        self.assertGreater(np.abs(first - begun).max(), 0.01)
        np.testing.assert_array_equal(first[5], begun[5])
        for how in (
            contacts.push_surface_contacts.py_func,
            surface_contacts.push_surface_contact_lanes,
            surface_contacts.push_surface_contact_lanes.py_func,
        ):
            np.testing.assert_allclose(self.pushed(how)[0][:COUNT], first[:COUNT], atol=2e-6)

    def test_what_begins_in_front_ends_in_front(self):
        points, (bases, *_, near, reaches, _) = self.pushed(surface_contacts.push_surface_contact_lanes)
        look = near[:, 9:] / np.linalg.norm(near[:, 9:], axis=1, keepdims=True)
        began = bases[:, 1] > reaches
        gap = np.einsum("nk,nk->n", bases + points[:COUNT, :3] - near[:, 3:6], look) - reaches
        free = began & (np.arange(COUNT) != 5)
        self.assertGreater(free.sum(), 8)
        self.assertGreater(gap[free].min(), -2e-3)

    def test_lanes_without_a_point_name_the_row_that_is_nobodys(self):
        """What an index names is read and written, so none may lie outside of the points."""
        _, _, single = scene(np.random.default_rng(6))
        indices, _ = surface_contacts_in_lanes(single, COUNT)
        empty = indices.ravel()[COUNT:]
        self.assertGreater(len(empty), 0)
        self.assertTrue(((empty >= COUNT) & (empty < 4 * row_count(COUNT))).all(), empty)
