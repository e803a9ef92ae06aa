"""Skeletons, clips, forward kinematics and skinning against plain copies."""

from unittest import TestCase

import numpy as np

from quiver.errors import BadInput
from quiver.kernels.kinematics import _forward_kinematics
from quiver.rig import transforms
from quiver.rig.character import Mesh
from quiver.rig.clip import Channel
from quiver.rig.pose import world_matrices
from quiver.rig.skeleton import parents_first
from quiver.rig.skinning import skin_matrices, skinned_positions
from tests.makers import skeleton_of


def random_rig(rng, joints=9, scales=None):
    parents = [-1, *(int(rng.integers(0, k)) for k in range(1, joints))]
    return skeleton_of(
        rng.normal(0, 0.3, (joints, 3)), parents, rotations=transforms.normalised(rng.normal(size=(joints, 4))), scales=scales
    )


def bound_mesh(rng, skeleton, vertices=200):
    world = world_matrices(skeleton, skeleton.rest.repeated(1))[0]
    full = np.concatenate([world, np.tile([[[0, 0, 0, 1.0]]], (len(world), 1, 1))], 1)
    slots = rng.integers(0, len(skeleton), (vertices, 4)).astype(np.int32)
    weights = rng.random((vertices, 4)).astype(np.float32)
    weights /= weights.sum(1, keepdims=True)
    positions = rng.normal(0, 1, (vertices, 3)).astype(np.float32)
    nodes = np.arange(len(skeleton), dtype=np.int32)
    triangles = np.zeros((1, 3), np.int32)
    return Mesh("m", 0, positions, triangles, None, slots, weights, 0, nodes, np.linalg.inv(full)[:, :3])


def posed(rng, skeleton):
    pose = skeleton.rest.repeated(1)
    pose.rotations[0] = transforms.multiply(pose.rotations[0], transforms.from_axis_angle(rng.normal(size=(len(skeleton), 3)), 0.7))
    return world_matrices(skeleton, pose)[0]


def plain_linear(mesh, matrices):
    ones = np.concatenate([mesh.positions.astype(float), np.ones((len(mesh.positions), 1))], 1)
    return np.einsum("vi,vijk,vk->vj", mesh.weights.astype(float), matrices[mesh.joints], ones)


class TransformTest(TestCase):
    def test_matrices_and_quaternions_say_the_same(self):
        rng = np.random.default_rng(0)
        quaternions = transforms.normalised(rng.normal(size=(200, 4)))
        back = transforms.from_matrices(transforms.to_matrices(quaternions))
        np.testing.assert_allclose(np.abs(np.sum(back * quaternions, 1)), 1.0, atol=1e-12)
        vectors = rng.normal(size=(200, 3))
        np.testing.assert_allclose(
            transforms.rotate(quaternions, vectors), np.einsum("nij,nj->ni", transforms.to_matrices(quaternions), vectors), atol=1e-12
        )

    def test_mirrored_matrix_comes_apart_and_together(self):
        matrix = transforms.compose([[1.0, 2, 3]], transforms.from_axis_angle([[1.0, 2, 0.5]], [0.8]), [[-2.0, 1.5, 0.5]])
        parts = transforms.decompose(matrix)
        np.testing.assert_allclose(transforms.compose(*parts), matrix, atol=1e-12)
        self.assertLess(parts[2][0, 0], 0.0)

    def test_shortest_turn_of_opposite_directions_is_finite(self):
        turn = transforms.shortest_turn(np.array([[1.0, 0, 0]]), np.array([[-1.0, 1e-9, 0]]))
        self.assertTrue(np.isfinite(turn).all())


class KinematicsTest(TestCase):
    def test_kernel_is_its_plain_copy_and_matrix_products(self):
        rng = np.random.default_rng(1)
        skeleton = random_rig(rng, scales=rng.uniform(-1.5, 1.5, (9, 3)))
        pose = skeleton.rest.repeated(3)
        world = world_matrices(skeleton, pose)
        np.testing.assert_allclose(
            world, _forward_kinematics(skeleton.order, skeleton.parents, pose.translations, pose.rotations, pose.scales), atol=1e-12
        )
        local = transforms.compose(skeleton.rest.translations, skeleton.rest.rotations, skeleton.rest.scales)
        full = np.concatenate([local, np.tile([[[0, 0, 0, 1.0]]], (9, 1, 1))], 1)
        for node in range(9):
            matrix = full[node]
            for above in skeleton.ancestors(node):
                matrix = full[above] @ matrix
            np.testing.assert_allclose(world[0, node], matrix[:3], atol=1e-10)

    def test_circle_of_parents_is_refused(self):
        with self.assertRaisesRegex(BadInput, "circle"):
            parents_first([2, 0, 1])


class ClipTest(TestCase):
    def test_linear_step_and_cubic_keys(self):
        times = np.array([0.0, 1.0, 3.0])
        values = np.array([[0.0, 0, 0], [2.0, 0, 0], [0.0, 4, 0]])
        at = np.array([-1.0, 0.5, 1.0, 2.0, 9.0])
        linear = Channel(0, "translation", "LINEAR", times, values).sample(at)
        np.testing.assert_allclose(linear, [[0, 0, 0], [1, 0, 0], [2, 0, 0], [1, 2, 0], [0, 4, 0]])
        step = Channel(0, "translation", "STEP", times, values).sample(at)
        np.testing.assert_allclose(step, [[0, 0, 0], [0, 0, 0], [2, 0, 0], [2, 0, 0], [0, 4, 0]])
        flat = np.stack([0 * values, values, 0 * values], 1)
        cubic = Channel(0, "translation", "CUBICSPLINE", times, flat).sample(at)
        np.testing.assert_allclose(cubic, [[0, 0, 0], [1, 0, 0], [2, 0, 0], [1, 2, 0], [0, 4, 0]])
        # A cubic whose tangents are its true slope gives the cubic back.
        x = np.array([0.0, 2.0])
        keys = np.stack([np.stack([3 * x**2] * 3, 1), np.stack([x**3] * 3, 1), np.stack([3 * x**2] * 3, 1)], 1)
        np.testing.assert_allclose(Channel(0, "translation", "CUBICSPLINE", x, keys).sample(np.array([0.7]))[0], 0.343, atol=1e-12)


class SkinningTest(TestCase):
    def test_linear_skinning_is_the_plain_sum(self):
        rng = np.random.default_rng(2)
        skeleton = random_rig(rng, scales=rng.uniform(0.5, 1.5, (9, 3)) * np.where(rng.random((9, 1)) < 0.2, -1, 1))
        mesh = bound_mesh(rng, skeleton)
        world = posed(rng, skeleton)
        expected = plain_linear(mesh, skin_matrices(mesh, world))
        np.testing.assert_allclose(skinned_positions(mesh, world), expected, atol=2e-5, rtol=1e-4)

    def test_both_methods_agree_on_the_rest_pose_and_on_single_weights(self):
        rng = np.random.default_rng(3)
        skeleton = random_rig(rng)
        mesh = bound_mesh(rng, skeleton)
        rest = world_matrices(skeleton, skeleton.rest.repeated(1))[0]
        for method in ("linear", "dual quaternion"):
            np.testing.assert_allclose(skinned_positions(mesh, rest, method), mesh.positions, atol=2e-5)
        mesh.weights[:] = [1.0, 0.0, 0.0, 0.0]
        world = posed(rng, skeleton)
        np.testing.assert_allclose(skinned_positions(mesh, world, "dual quaternion"), skinned_positions(mesh, world), atol=5e-5)

    def test_dual_quaternions_keep_the_volume_where_linear_collapses(self):
        skeleton = skeleton_of([[0, 0, 0], [1, 0, 0]], [-1, 0])
        mesh = bound_mesh(np.random.default_rng(4), skeleton, 1)
        mesh.positions[:], mesh.joints[:], mesh.weights[:] = [1.0, 0.2, 0.0], [0, 1, 0, 0], [0.5, 0.5, 0, 0]
        pose = skeleton.rest.repeated(1)
        pose.rotations[0, 1] = transforms.from_axis_angle([1.0, 0, 0], np.array(np.pi * 0.98))
        world = world_matrices(skeleton, pose)[0]
        self.assertLess(np.linalg.norm(skinned_positions(mesh, world)[0, 1:]), 0.02)
        self.assertAlmostEqual(float(np.linalg.norm(skinned_positions(mesh, world, "dual quaternion")[0, 1:])), 0.2, places=4)

    def test_mirrored_joints_stay_mirrored_in_both_methods(self):
        rng = np.random.default_rng(5)
        skeleton = random_rig(rng, scales=np.tile([[-1.0, 1, 1]], (9, 1)) ** np.arange(1, 10)[:, None])
        mesh = bound_mesh(rng, skeleton)
        mesh.weights[:] = [1.0, 0.0, 0.0, 0.0]
        world = posed(rng, skeleton)
        np.testing.assert_allclose(
            skinned_positions(mesh, world, "dual quaternion"), plain_linear(mesh, skin_matrices(mesh, world)), atol=1e-4
        )


class SeenInTest(TestCase):
    def test_a_turn_of_the_world_in_a_frame_even_a_mirrored_one(self):
        frame = transforms.to_matrices(transforms.from_axis_angle(np.array([0.4, 0.2, 0.9]), 0.8))
        turn = transforms.from_axis_angle(np.array([0.1, 0.7, -0.3]), 1.2)
        for each in (frame, frame * [-1.0, 1.0, 1.0]):
            local = transforms.to_matrices(transforms.seen_in(turn, each))
            np.testing.assert_allclose(each @ local @ each.T, transforms.to_matrices(turn), atol=1e-12)
