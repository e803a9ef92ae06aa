"""Reading and writing glTF: other tools' files, hostile files, and nothing lost."""

import base64
import json
import struct
from unittest import TestCase

import numpy as np
import pygltflib

from quiver.bake.joints import Track
from quiver.errors import BadFormat
from quiver.formats.gltf import container, mending, writing
from quiver.formats.gltf.accessors import append_accessor, read_accessor
from quiver.formats.gltf.reading import read_character
from quiver.rig.pose import world_matrices
from tests.formats.makers import arm, glb_bytes
from tests.formats.validator import issues_of


def changed(**changes):
    """The arm's GLB with top-level JSON keys replaced by functions of their old value."""
    document = container.parse(glb_bytes(arm()))
    for key, change in changes.items():
        document.tree[key] = change(document.tree.get(key))
    return document


def identifiers(findings):
    return {finding.id for finding in findings}


class OtherToolsTest(TestCase):
    def test_a_file_of_another_library_is_read_in_full(self):
        character, _ = read_character(glb_bytes(arm()), "arm")
        self.assertEqual(character.skeleton.names[:4], ("root", "upper", "lower", "hand"))
        self.assertEqual((character.joint_count, character.vertex_count), (4, 32))
        self.assertAlmostEqual(character.clips[0].seconds, 1.5)
        self.assertEqual([len(channel.times) for channel in character.clips[0].channels], [20, 21, 22])
        np.testing.assert_allclose(character.meshes[0].weights.sum(1), 1.0, atol=1e-6)
        self.assertEqual(character.findings, ())

    def test_one_animation_per_joint_becomes_one_clip(self):
        character, _ = read_character(glb_bytes(arm(per_joint=True)))
        self.assertEqual([clip.name for clip in character.clips], ["wave 1"])
        self.assertEqual(len(character.clips[0].channels), 3)
        self.assertIn("merged-clips", identifiers(character.findings))

    def test_weights_that_do_not_sum_to_one_are_scaled_with_a_warning(self):
        character, document = read_character(glb_bytes(arm(weights_sum=0.2)))
        np.testing.assert_allclose(character.meshes[0].weights.sum(1), 1.0, atol=1e-6)
        warning = next(finding for finding in character.findings if finding.id == "weights")
        self.assertEqual(warning.level, "warning")
        self.assertIn("0.20", warning.message)
        mending.mend(document)
        self.assertEqual(issues_of(container.write_glb(document))["numErrors"], 0)

    def test_weights_that_are_off_by_little_are_told_and_the_export_is_clean(self):
        for total in (0.9995, 1.0004, 1.000002):
            character, document = read_character(glb_bytes(arm(weights_sum=total)))
            self.assertIn("weights", identifiers(character.findings), total)
            self.assertGreater(issues_of(glb_bytes(arm(weights_sum=total)))["numErrors"], 0)
            mending.mend(document)
            self.assertEqual(issues_of(container.write_glb(document))["numErrors"], 0, total)
        # What adds up is left as it came, byte for byte.
        _, document = read_character(glb_bytes(arm()))
        self.assertEqual(mending.mend(document), 0)

    def test_what_a_strict_reader_refuses_is_listed_and_mended(self):
        made = arm(clips=("wave", "early"))
        positions, joints = (made.meshes[0].primitives[0].attributes.POSITION, made.meshes[0].primitives[0].attributes.JOINTS_0)
        document = container.parse(glb_bytes(made))
        tree, primitive = document.tree, document.tree["meshes"][0]["primitives"][0]
        count = tree["accessors"][positions]["count"]
        del tree["accessors"][positions]["min"]
        primitive["attributes"]["NORMAL"] = append_accessor(document, np.full((count, 3), 0.5, np.float32), "VEC3", target=34962)
        tangents = np.tile(np.array([2.0, 0.0, 0.0, 0.3], np.float32), (count, 1))
        primitive["attributes"]["TANGENT"] = append_accessor(document, tangents, "VEC4", target=34962)
        named = read_accessor(document, joints, "joints").copy()
        named[:, 1], named[:, 3] = named[:, 0], 200
        primitive["attributes"]["JOINTS_0"] = append_accessor(document, named, "VEC4", target=34962)
        samplers = tree["animations"][0]["samplers"]
        times = read_accessor(document, samplers[0]["input"], "times").copy()
        times[5] = times[4]
        samplers[0]["input"] = append_accessor(document, times, "SCALAR", bounds=True)
        turns = read_accessor(document, samplers[1]["output"], "turns") * np.float32(1.3)
        samplers[1]["output"] = append_accessor(document, turns, "VEC4")
        late = tree["animations"][1]["samplers"][2]
        late["input"] = append_accessor(document, read_accessor(document, late["input"], "times") - np.float32(0.25), "SCALAR", bounds=True)
        tree["nodes"][1]["rotation"] = [0.0, 0.0, 0.0, 1.1]
        binds = tree["skins"][0]["inverseBindMatrices"]
        matrices = read_accessor(document, binds, "binds").copy()
        matrices[:, 15] = 1.00001
        tree["skins"][0]["inverseBindMatrices"] = append_accessor(document, matrices, "MAT4")
        data = container.write_glb(document)
        self.assertGreater(issues_of(data)["numErrors"], 8)
        character, document = read_character(data)
        said = {"bounds", "unit", "influences", "same-time", "early", "non-unit", "bind-matrices"}
        self.assertEqual(said - identifiers(character.findings), set())
        mending.mend(document)
        mended = container.write_glb(document)
        self.assertEqual([issue for issue in issues_of(mended)["messages"] if issue["severity"] == 0], [])
        again, document = read_character(mended)
        self.assertEqual(again.findings, ())
        self.assertEqual(mending.mend(document), 0)
        # Nothing moves: weights of one joint are added, keys stand where they stood.
        np.testing.assert_allclose(again.meshes[0].weights.sum(1), 1.0, atol=1e-6)
        first, second = (each.clips[0].sample(each.skeleton, np.linspace(0, 1.5, 12)) for each in (character, again))
        np.testing.assert_allclose(world_matrices(character.skeleton, first), world_matrices(again.skeleton, second), atol=1e-5)

    def test_byte_weights_and_a_z_up_wrapper(self):
        character, _ = read_character(glb_bytes(arm(byte_weights=True, z_up=True)))
        np.testing.assert_allclose(character.meshes[0].weights.sum(1), 1.0, atol=1e-6)
        world = world_matrices(character.skeleton, character.skeleton.rest.repeated(1))[0]
        np.testing.assert_allclose(world[3, :, 3], [0.0, 0.0, -0.9], atol=1e-6)
        self.assertFalse(character.skeleton.is_joint[character.skeleton.index("Z up")])

    def test_same_names_are_told_apart(self):
        character, _ = read_character(glb_bytes(arm(names=("bone", "bone", "bone", "tip"))))
        self.assertEqual(character.skeleton.names[:4], ("bone", "bone #2", "bone #3", "tip"))
        self.assertIn("same-name", identifiers(character.findings))


class AccessorTest(TestCase):
    def test_sparse_normalised_and_strided(self):
        document = container.Document({"asset": {"version": "2.0"}})
        base = append_accessor(document, np.zeros((6, 3), np.float32), "VEC3")
        positions = append_accessor(document, np.array([[1], [4]], np.uint16), "SCALAR")
        values = append_accessor(document, np.array([[1, 2, 3], [4, 5, 6]], np.float32), "VEC3")
        views = [document.tree["accessors"][index]["bufferView"] for index in (positions, values)]
        indices = {"bufferView": views[0], "componentType": 5123}
        document.tree["accessors"][base]["sparse"] = {"count": 2, "indices": indices, "values": {"bufferView": views[1]}}
        document.check()
        read = read_accessor(document, base, "test")
        np.testing.assert_array_equal(read[[0, 1, 4]], [[0, 0, 0], [1, 2, 3], [4, 5, 6]])
        packed = append_accessor(document, np.array([[-127, 0, 127, 64]], np.int8), "VEC4")
        document.tree["accessors"][packed]["normalized"] = True
        document.check()
        np.testing.assert_allclose(read_accessor(document, packed, "test"), [[-1, 0, 1, 64 / 127]], atol=1e-6)
        wide = append_accessor(document, np.arange(24, dtype=np.float32).reshape(4, 6), "SCALAR")
        document.tree["accessors"][wide].update(type="VEC3", count=4)
        document.tree["bufferViews"][document.tree["accessors"][wide]["bufferView"]]["byteStride"] = 24
        document.check()
        np.testing.assert_array_equal(read_accessor(document, wide, "test")[:, 0], [0, 6, 12, 18])

    def test_bytes_beyond_the_buffer_are_refused(self):
        document = container.parse(glb_bytes(arm()))
        document.tree["accessors"][0]["count"] = 10_000
        document.buffers[0] += bytes(200_000)
        document.check()
        with self.assertRaises(BadFormat) as caught:
            read_accessor(document, 0, "test")
        self.assertEqual(caught.exception.findings[0].id, "missing-bytes")


class LargeArrayTest(TestCase):
    def test_a_large_array_is_written_where_its_view_says(self):
        _, document = read_character(glb_bytes(arm()), "arm")
        large = np.random.default_rng(0).normal(size=(400_000, 3)).astype(np.float32)
        small = np.arange(9, dtype=np.float32).reshape(3, 3)
        numbers = [append_accessor(document, values, "VEC3") for values in (small, large, small + 1.0)]
        self.assertTrue(document.tail)
        for written in (container.write_glb(document), container.write_gltf(document)):
            again = container.parse(written)
            for number, values in zip(numbers, (small, large, small + 1.0), strict=True):
                np.testing.assert_array_equal(read_accessor(again, number, "test"), values)


class LosslessTest(TestCase):
    def test_what_is_not_touched_goes_out_as_it_came_in(self):
        document = changed(
            extensionsUsed=lambda _: ["ACME_unknown"],
            extensions=lambda _: {"ACME_unknown": {"deep": [1, 2, {"x": "é"}]}},
            cameras=lambda _: [{"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.1}}],
            extras=lambda _: {"note": "kept"},
        )
        document.tree["meshes"][0]["primitives"][0]["targets"] = [{"POSITION": 0}]
        document.tree["meshes"][0]["weights"] = [0.0]
        for write in (container.write_glb, container.write_gltf):
            with self.subTest(write=write.__name__):
                again = container.parse(write(document))
                for buffer in (*again.tree["buffers"], *document.tree["buffers"]):
                    buffer.pop("uri", None)
                self.assertEqual(again.tree, document.tree)
                self.assertEqual(again.buffers, document.buffers)

    def test_a_second_buffer_and_skin_stay(self):
        document = changed(skins=lambda skins: [*skins, {"joints": [2, 3], "name": "second"}])
        document.tree["buffers"].append({"byteLength": 5})
        document.buffers.append(b"hello")
        again = container.parse(container.write_glb(document))
        self.assertEqual(again.buffers[1], b"hello")
        self.assertEqual(again.tree["skins"][1], {"joints": [2, 3], "name": "second"})

    def test_added_clip_reads_back_here_and_elsewhere_and_is_valid(self):
        character, document = read_character(glb_bytes(arm()))
        before = json.dumps(document.tree["animations"][0])
        times = np.arange(10) / 24.0
        values = np.tile([0.0, 0.0, np.sin(0.2), np.cos(0.2)], (10, 1))
        writing.add_clip(document, "new", [Track(2, "rotation", times, values)], character.skeleton, (0,))
        data = container.write_glb(document)
        self.assertEqual(json.dumps(container.parse(data).tree["animations"][0]), before)
        other = pygltflib.GLTF2().load_from_bytes(data)
        self.assertEqual([animation.name for animation in other.animations], ["wave", "new"])
        self.assertEqual(len(other.animations[1].channels), 3)
        again, _ = read_character(data)
        channel = next(c for c in again.clip("new").channels if c.node == 2)
        np.testing.assert_allclose(channel.values, values, atol=1e-7)
        self.assertEqual(issues_of(data)["numErrors"], 0)

    def test_baked_node_with_a_matrix_is_written_in_parts(self):
        document = changed()
        document.tree["nodes"][2].pop("translation")
        document.tree["nodes"][2]["matrix"] = [0, 1, 0, 0, -1, 0, 0, 0, 0, 0, 1, 0, 0, 0.3, 0, 1]
        document.tree.pop("animations")
        character, document = read_character(container.write_glb(document))
        world = world_matrices(character.skeleton, character.skeleton.rest.repeated(1))
        writing.add_clip(
            document, "new", [Track(2, "rotation", np.zeros(1), character.skeleton.rest.rotations[2][None])], character.skeleton
        )
        data = container.write_glb(document)
        again, _ = read_character(data)
        np.testing.assert_allclose(world_matrices(again.skeleton, again.skeleton.rest.repeated(1)), world, atol=1e-6)
        self.assertEqual(issues_of(data)["numErrors"], 0)


class HostileTest(TestCase):
    def refuse(self, data, identifier):
        with self.assertRaises(BadFormat) as caught:
            read_character(data)
        self.assertIn(identifier, identifiers(caught.exception.findings), caught.exception.findings)
        return caught.exception.findings

    def test_broken_files_are_refused_by_name(self):
        glb = glb_bytes(arm())
        self.refuse(b"PK\x03\x04 not a character", "not-gltf")
        self.refuse(b"", "not-gltf")
        self.refuse(glb[:100], "cut-short")
        self.refuse(glb[: len(glb) // 2], "cut-short")
        self.refuse(b'{"asset": {"version": "1.0"}}', "version")
        self.refuse(b'{"asset": {"version": "2.0"}', "broken-json")
        self.refuse(b'{"asset": {"version": "2.0"}, "nodes": [{"scale": [NaN, 1, 1]}]}', "broken-json")
        self.refuse(b"[" * 100_000, "not-gltf")
        self.refuse(b'{"a":' + b"[" * 100_000, "broken-json")

    def test_outside_references_are_refused(self):
        for uri in ("skin.bin", "../../../etc/passwd", "https://example.org/x.bin", "file:///etc/passwd"):
            tree = {"asset": {"version": "2.0"}, "nodes": [{}], "buffers": [{"byteLength": 4, "uri": uri}]}
            self.refuse(json.dumps(tree).encode(), "outside-uri")
        tree = {"asset": {"version": "2.0"}, "nodes": [{}], "images": [{"uri": "texture.png"}]}
        self.refuse(json.dumps(tree).encode(), "outside-uri")

    def test_absurd_sizes_are_refused_before_memory_is_taken(self):
        document = changed()
        document.tree["accessors"][0]["count"] = 2**40
        self.refuse(container.write_glb(document), "absurd-size")
        tree = {"asset": {"version": "2.0"}, "nodes": [{}], "buffers": [{"byteLength": 2**50}]}
        self.refuse(json.dumps(tree).encode(), "absurd-size")

    def test_cycles_and_missing_nodes_are_refused(self):
        self.refuse(container.write_glb(changed(nodes=lambda n: [*n[:3], {**n[3], "children": [0]}, *n[4:]])), "cycle")
        self.refuse(container.write_glb(changed(nodes=lambda n: [{**n[0], "children": [99]}, *n[1:]])), "missing-node")
        self.refuse(container.write_glb(changed(skins=lambda s: [{**s[0], "joints": [0, 1, 77]}])), "missing-node")

    def test_numbers_that_are_not_finite_are_refused_all_at_once(self):
        document = changed()
        primitive = document.tree["meshes"][0]["primitives"][0]
        positions = read_accessor(document, primitive["attributes"]["POSITION"], "positions").copy()
        positions[3, 1] = np.inf
        primitive["attributes"]["POSITION"] = append_accessor(document, positions, "VEC3")
        sampler = document.tree["animations"][0]["samplers"][0]
        sampler["output"] = append_accessor(document, np.full((20, 4), np.nan, np.float32), "VEC4")
        findings = self.refuse(container.write_glb(document), "non-finite")
        self.assertEqual(len([finding for finding in findings if finding.level == "refused"]), 2)

    def test_random_damage_never_ends_in_another_error(self):
        rng = np.random.default_rng(11)
        glb = glb_bytes(arm())
        length = struct.unpack_from("<I", glb, 12)[0]
        for _ in range(300):
            data = bytearray(glb)
            for place in rng.integers(20, 20 + length, 3):
                data[place] = rng.integers(32, 127)
            try:
                read_character(bytes(data))
            except BadFormat:
                continue

    def test_needed_compression_is_named(self):
        document = changed(
            extensionsRequired=lambda _: ["KHR_draco_mesh_compression"], extensionsUsed=lambda _: ["KHR_draco_mesh_compression"]
        )
        findings = self.refuse(container.write_glb(document), "extension")
        self.assertIn("KHR_draco_mesh_compression", findings[0].message)

    def test_data_uri_is_read(self):
        payload = base64.b64encode(np.zeros(3, np.float32).tobytes()).decode()
        tree = {"asset": {"version": "2.0"}, "nodes": [{"name": "only"}], "buffers": [{"byteLength": 12, "uri": f"data:;base64,{payload}"}]}
        character, _ = read_character(json.dumps(tree).encode())
        self.assertLessEqual({"no-skin", "no-clip"}, identifiers(character.findings))
