"""Colliders made of the skin: hollows are filled where they are narrow, and nowhere else; a hull holds all that its joint moves."""

from unittest import TestCase

import numpy as np

from quiver.bodies import simplified
from quiver.colliders import Collider
from quiver.contact.skins import ClosestPointQuery, surface_of_collider
from quiver.errors import BadInput
from quiver.rig.character import Character, Mesh
from quiver.rig.pose import rest_matrices
from quiver.setup import edits
from quiver.setup.model import Setup
from tests.makers import skeleton_of
from tests.solids import box_surface

GAP = 0.1


def two_boxes():
    """Two boxes of 0.4 x 1 x 0.4 with a gap between them, as one surface."""
    positions, triangles = box_surface((0.4, 1.0, 0.4), (4, 10, 4))
    return np.concatenate([positions, positions + np.array((0.4 + GAP, 0.0, 0.0))]), np.concatenate([triangles, triangles + len(positions)])


def character():
    positions, triangles = two_boxes()
    skeleton = skeleton_of([(0.2, 0.0, 0.2), (0.5, 0.0, 0.0)], [-1, -1], names=("left", "right"))
    world = rest_matrices(skeleton)
    first = positions[:, 0] < 0.45
    joints = np.zeros((len(positions), 4), np.int32)
    joints[:, 0] = np.where(first, 0, 1)
    weights = np.tile(np.array([1.0, 0.0, 0.0, 0.0], np.float32), (len(positions), 1))
    full = np.tile(np.eye(4), (2, 1, 1))
    full[:, :3] = world
    mesh = Mesh("boxes", 0, positions.astype(np.float32), triangles, None, joints, weights, 0, np.arange(2), np.linalg.inv(full)[:, :3])
    return Character("boxes", skeleton, (mesh,), ())


class ClosedTest(TestCase):
    def inside(self, bridge, point):
        """How far inside of the closed surface a point is [m]."""
        vertices, faces = simplified.closed(*two_boxes(), bridge)
        return -float(simplified._signed_distances(vertices, faces, np.array([point]), 1.0)[0])

    def test_a_narrow_gap_is_filled_and_a_wide_one_is_not(self):
        middle = [0.4 + GAP / 2, 0.5, 0.2]
        self.assertGreater(self.inside(0.12, middle), 0.05)
        self.assertLess(self.inside(0.02, middle), 0.0)

    def test_the_outside_stays_where_it_is(self):
        for bridge in (0.02, 0.12):
            vertices, _ = simplified.closed(*two_boxes(), bridge)
            np.testing.assert_allclose(np.ptp(vertices, axis=0), [0.8 + GAP, 1.0, 0.4], atol=0.03)

    def test_the_surface_looks_outwards_and_is_closed(self):
        vertices, faces = simplified.closed(*two_boxes(), 0.12)
        a, b, c = (vertices[faces[:, k]] for k in range(3))
        volume = float(np.einsum("fk,fk->f", a, np.cross(b, c)).sum()) / 6.0
        self.assertAlmostEqual(volume, (0.8 + GAP) * 1.0 * 0.4, delta=0.03)
        edges = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
        self.assertEqual(set(np.unique(edges, axis=0, return_counts=True)[1]), {2})


class ColliderTest(TestCase):
    def surface(self, **fields):
        return surface_of_collider(character(), Collider("c", "c", **fields), 1.0)

    def test_a_body_goes_with_the_joints_that_carry_the_skin(self):
        surface = self.surface(shape="body", mesh="boxes", size=(0.02,))
        world = rest_matrices(character().skeleton)[None].copy()
        world[:, 1, 0, 3] += 0.3
        moved = surface.positions(world)[0] - surface.rest
        np.testing.assert_allclose(moved[surface.rest[:, 0] < 0.35], 0.0, atol=1e-5)
        np.testing.assert_allclose(moved[surface.rest[:, 0] > 0.6], np.tile([0.3, 0, 0], ((surface.rest[:, 0] > 0.6).sum(), 1)), atol=1e-5)

    def test_a_hull_holds_what_its_joint_moves(self):
        surface = self.surface(shape="hull", joint="right", size=())
        np.testing.assert_allclose(surface.rest.min(0), [0.4 + GAP, 0, 0], atol=1e-6)
        np.testing.assert_allclose(surface.rest.max(0), [0.8 + GAP, 1.0, 0.4], atol=1e-6)
        points = np.array([[0.7, 0.5, 0.2], [0.7, 1.05, 0.2]])
        distances, *_ = ClosestPointQuery(surface, points).feel(surface.rest, points, np.full(2, 1.0))
        np.testing.assert_allclose(distances, [-0.2, 0.05], atol=1e-6)
        self.assertEqual(surface.mesh.node, 1)

    def test_what_cannot_be_made_is_refused(self):
        for fields in ({"shape": "hull", "joint": "nobody", "size": ()}, {"shape": "body", "mesh": "none", "size": (0.1,)}):
            with self.assertRaises(BadInput):
                self.surface(**fields)
        flat = Mesh("flat", 0, np.zeros((3, 3), np.float32), np.array([[0, 1, 2]], np.int32))
        lone = Character("flat", skeleton_of([(0, 0, 0)], [-1], names=("left",)), (flat,), ())
        with self.assertRaisesRegex(BadInput, "with a volume"):
            surface_of_collider(lone, Collider("c", "c", shape="hull", joint="left", size=()), 1.0)
        with self.assertRaisesRegex(BadInput, "with triangles"):
            surface_of_collider(lone, Collider("c", "c", shape="body", mesh="flat", size=(0.1,)), 1.0)

    def test_a_setup_has_them(self):
        setup = edits.with_new_collider(
            edits.with_new_collider(Setup(), "body", "b", mesh="boxes", size=(0.1,)), "hull", "h", joint="right", size=()
        )
        self.assertEqual([each.shape for each in setup.colliders], ["body", "hull"])
