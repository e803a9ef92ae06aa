"""Shapes and point caches give the take's own positions back."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver import export
from quiver.bake import joints, meshes
from quiver.errors import BadFormat, BadInput
from quiver.formats import pointcache
from quiver.formats.gltf.accessors import read_accessor
from quiver.formats.gltf.container import parse
from quiver.formats.gltf.reading import read_character
from quiver.rig.skinning import skinned_positions
from tests.formats.makers import arm, glb_bytes
from tests.formats.validator import issues_of

FRAMES = np.arange(10)


def scene():
    """The test arm, its clip's world at ten frames, and made-up offsets of every third vertex."""
    character, document = read_character(glb_bytes(arm(z_up=True)), "arm")
    no_nodes = np.zeros(0, int)
    nothing = (no_nodes, no_nodes, np.zeros((10, 0, 4)), np.zeros((10, 0, 3)))
    world = meshes.take_world(character, character.clip("wave"), FRAMES, 24.0, *nothing)
    vertices = np.arange(0, len(character.meshes[0].positions), 3)
    ways = np.random.default_rng(1).normal(0.0, 0.03, (2, len(vertices), 3))
    swing = np.stack([np.sin(FRAMES), np.cos(2 * FRAMES)], 1)
    return character, document, world, vertices, np.einsum("fk,kvc->fvc", swing, ways)


def baked_file(character, document, shapes):
    still = np.zeros((10, 1, 4)) + character.skeleton.rest.rotations[1]
    baked = joints.bake(character, character.clip("wave"), 24.0, 0, [1], [], still, np.zeros((10, 0, 3)), 0, 9)
    return export.glb_with_clip(document, character, baked, "soft", shapes)


class ShapesTest(TestCase):
    def positions(self, character, shapes, world):
        """Skin the mesh with its shapes as any reader would: first the shapes, then the joints."""
        mesh, out = character.meshes[0], []
        for row, placed in zip(shapes.weights, world, strict=True):
            positions = mesh.positions.copy()
            positions[shapes.vertices] += np.einsum("t,tvc->vc", row, shapes.deltas)
            out.append(skinned_positions(replace(mesh, positions=positions), placed))
        return np.array(out)

    def expected(self, character, world, vertices, offsets):
        positions = np.array([skinned_positions(character.meshes[0], placed) for placed in world])
        positions[:, vertices] += offsets
        return positions

    def test_a_shape_for_each_frame_is_exact(self):
        character, _, world, vertices, offsets = scene()
        shapes = meshes.shapes_of(0, character.meshes[0], vertices, offsets.copy(), world)
        self.assertEqual(len(shapes.deltas), 10)
        np.testing.assert_allclose(self.positions(character, shapes, world), self.expected(character, world, vertices, offsets), atol=2e-6)

    def test_few_shapes_stay_within_the_stated_error(self):
        character, _, world, vertices, offsets = scene()
        for tolerance in (0.02, 0.004):
            shapes = meshes.shapes_of(0, character.meshes[0], vertices, offsets.copy(), world, tolerance)
            off = self.positions(character, shapes, world) - self.expected(character, world, vertices, offsets)
            self.assertAlmostEqual(np.linalg.norm(off, axis=2).max(), shapes.error, delta=1e-5)
            self.assertLessEqual(shapes.error, tolerance)
            self.assertLess(len(shapes.deltas), 10)
            self.assertLessEqual(np.abs(shapes.weights).max(), 1.0 + 1e-6)

    def test_the_shapes_of_several_clips_stand_beside_each_other(self):
        character, document, world, vertices, offsets = scene()
        some = [meshes.shapes_of(0, character.meshes[0], vertices, size * offsets, world, 0.004) for size in (1.0, -2.0)]
        still = np.zeros((10, 1, 4)) + character.skeleton.rest.rotations[1]
        baked = joints.bake(character, character.clip("wave"), 24.0, 0, [1], [], still, np.zeros((10, 0, 3)), 0, 9)
        clips = [(baked, "one", [some[0]]), (baked, "none", []), (baked, "one", [some[1]])]
        data = b"".join(export.glb_parts(document, character, clips))
        self.assertEqual(issues_of(data)["numErrors"], 0)
        tree = parse(data).tree
        self.assertEqual([animation["name"] for animation in tree["animations"][-3:]], ["one", "none", "one 2"])
        counts = [len(shapes.deltas) for shapes in some]
        self.assertEqual(len(tree["meshes"][0]["primitives"][0]["targets"]), sum(counts))
        for animation, own, shapes in ((-3, slice(0, counts[0]), some[0]), (-1, slice(counts[0], None), some[1])):
            channel = next(each for each in tree["animations"][animation]["channels"] if each["target"]["path"] == "weights")
            sampler = tree["animations"][animation]["samplers"][channel["sampler"]]
            weights = read_accessor(parse(data), sampler["output"], "weights").reshape(10, -1)
            np.testing.assert_allclose(weights[:, own], shapes.weights, atol=1e-7)
            self.assertEqual(float(np.abs(np.delete(weights, np.arange(sum(counts))[own], axis=1)).max()), 0.0)
        self.assertNotIn("weights", [channel["target"]["path"] for channel in tree["animations"][-2]["channels"]])

    def test_the_file_is_valid_and_holds_them(self):
        character, document, world, vertices, offsets = scene()
        shapes = meshes.shapes_of(0, character.meshes[0], vertices, offsets.copy(), world)
        data = baked_file(character, document, [shapes])
        self.assertEqual(issues_of(data)["numErrors"], 0)
        read = parse(data)
        targets = read.tree["meshes"][0]["primitives"][0]["targets"]
        first = read_accessor(read, targets[4]["POSITION"], "target")
        np.testing.assert_allclose(first[vertices], shapes.deltas[4], atol=1e-7)
        animation = read.tree["animations"][-1]
        channel = next(each for each in animation["channels"] if each["target"]["path"] == "weights")
        weights = read_accessor(read, animation["samplers"][channel["sampler"]]["output"], "weights").reshape(10, 10)
        np.testing.assert_array_equal(weights, np.eye(10))
        again, _ = read_character(data, "again")
        self.assertEqual(again.vertex_count, character.vertex_count)

    def test_a_mesh_with_targets_of_its_own_is_refused(self):
        character, document, world, vertices, offsets = scene()
        shapes = meshes.shapes_of(0, character.meshes[0], vertices, offsets.copy(), world)
        document.tree["meshes"][0]["primitives"][0]["targets"] = [{"POSITION": 0}]
        with self.assertRaisesRegex(BadInput, "targets of its own"):
            baked_file(character, document, [shapes])


class PointCacheTest(TestCase):
    def setUp(self):
        self.positions = np.random.default_rng(2).normal(size=(4, 7, 3)).astype(np.float32)

    def test_pc2_comes_back(self):
        data = pointcache.pc2_head(7, 12, 4, 3) + b"".join(map(pointcache.pc2_frame, self.positions))
        start, step, positions = pointcache.read_pc2(data)
        self.assertEqual(step, 3)
        self.assertEqual(start, 12.0)
        np.testing.assert_array_equal(positions, self.positions)
        for bad in (data[:-1], data[:10], b"X" + data[1:]):
            with self.assertRaises(BadFormat):
                pointcache.read_pc2(bad)

    def test_mdd_comes_back(self):
        seconds = np.arange(4) / 24.0
        data = pointcache.mdd_head(7, seconds) + b"".join(map(pointcache.mdd_frame, self.positions))
        times, positions = pointcache.read_mdd(data)
        np.testing.assert_allclose(times, seconds, atol=1e-7)
        np.testing.assert_array_equal(positions, self.positions)
        with self.assertRaises(BadFormat):
            pointcache.read_mdd(data[:-4])
