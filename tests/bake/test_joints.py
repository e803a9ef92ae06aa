"""Baking onto joints, and the whole path by the command line."""

import contextlib
import io
import json
import pathlib
import tempfile
from unittest import TestCase

import numpy as np

from quiver import export
from quiver.__main__ import main
from quiver.bake import joints
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.rig import transforms
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_through
from quiver.run.spec import TakeSpec
from quiver.setup import document as setup_document
from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup
from tests.formats.makers import arm, glb_bytes
from tests.formats.validator import issues_of
from tests.makers import Run


def arm_take(**dials):
    """A take of a chain on the arm's lower joints: (character, document, run, rotations, translations)."""
    character, document = read_character(glb_bytes(arm()), "arm")
    stack = edits.with_new_chain(Setup(), ChainPick("upper"))
    object.__setattr__(stack.layers[0], "values", stack.layers[0].values | {"wobble_rate": 1.5, **dials})
    run = Run(TakeSpec(character, stack, "wave"))
    return character, document, run, *joints.gather(run.chunks())[:2]


class BakeTest(TestCase):
    def baked(self, take, first=0, last=None, **options):
        character, document, run, rotations, translations = take
        last = run.last_frame if last is None else last
        arrays = (run.rotated, run.translated, rotations, translations)
        baked = joints.bake(character, run.clip, 24.0, 0, *arrays, first, last, **options)
        data = export.glb_with_clip(document, character, baked, "springy")
        return baked, data, read_character(data)[0]

    def world(self, character, clip_name, frames):
        clip = character.clip(clip_name)
        return world_matrices(character.skeleton, clip.sample(character.skeleton, np.asarray(frames) / 24.0))

    def expected(self, take):
        character, _, run, rotations, translations = take
        pose = run.clip.sample(character.skeleton, np.arange(len(rotations)) / 24.0)
        pose.rotations[:, run.rotated] = rotations
        if len(run.translated):
            pose.translations[:, run.translated] = translations
        return world_matrices(character.skeleton, pose)

    def test_read_back_gives_the_take_s_joints_and_the_old_clip_is_untouched(self):
        for dials in ({}, {"stretch": 10.0, "gravity": 100.0}):
            take = arm_take(**dials)
            _, data, again = self.baked(take)
            frames = np.arange(take[2].last_frame + 1)
            np.testing.assert_allclose(self.world(again, "springy", frames), self.expected(take), atol=2e-6)
            np.testing.assert_allclose(self.world(again, "wave", frames), self.world(take[0], "wave", frames), atol=1e-7)
            self.assertEqual(issues_of(data)["numErrors"], 0)
        self.assertGreater(np.abs(self.world(again, "springy", frames) - self.world(again, "wave", frames)).max(), 0.02)

    def test_a_part_of_the_clip_begins_at_zero_and_is_whole(self):
        take = arm_take()
        baked, data, again = self.baked(take, first=8, last=20)
        np.testing.assert_allclose(self.world(again, "springy", np.arange(13)), self.expected(take)[8:21], atol=2e-6)
        self.assertEqual((baked.frames, again.clip("springy").start), (13, 0.0))
        self.assertEqual(issues_of(data)["numErrors"], 0)

    def test_a_step_keeps_its_frames_and_the_last(self):
        take = arm_take()
        baked, _, again = self.baked(take, step=5)
        frames = [0, 5, 10, 15, 20, 25, 30, 35, 36]
        self.assertEqual(baked.frames, len(frames))
        np.testing.assert_allclose(self.world(again, "springy", frames), self.expected(take)[frames], atol=2e-6)

    def test_thinning_moves_no_vertex_beyond_its_limit(self):
        take = arm_take()
        full, _, _ = self.baked(take)
        mesh = take[0].meshes[0]
        exact = skinned_through(mesh, self.expected(take))
        for limit, share in ((0.001, 0.95), (0.03, 0.5)):
            baked, _, again = self.baked(take, skin_limit=limit)
            self.assertLess(baked.keys, full.keys * share)
            self.assertGreater(baked.skin_error, 0.1 * limit)
            off = np.linalg.norm(skinned_through(mesh, self.world(again, "springy", np.arange(37))) - exact, axis=2).max()
            self.assertLessEqual(off, limit * 1.001 + 1e-6)
            self.assertAlmostEqual(off, baked.skin_error, delta=1e-5)
            pose = again.clip("springy").sample(again.skeleton, np.arange(37) / 24.0).rotations[:, take[2].rotated]
            turned = np.degrees(2 * np.arccos(np.clip(np.abs(np.sum(pose * transforms.normalised(take[3]), -1)), 0, 1)))
            self.assertAlmostEqual(turned.max(), baked.turn_error, delta=0.06)

    def test_a_name_that_is_taken_gets_a_number(self):
        character, document, run, rotations, translations = arm_take()
        baked = joints.bake(character, run.clip, 24.0, 0, run.rotated, run.translated, rotations, translations, 0, 36)
        again, _ = read_character(export.glb_with_clip(document, character, baked, "wave"))
        self.assertEqual([clip.name for clip in again.clips], ["wave", "wave 2"])

    def test_frames_outside_of_the_take_are_refused(self):
        take = arm_take()
        with self.assertRaisesRegex(BadInput, "between 0 and 36"):
            self.baked(take, last=99)
        with self.assertRaisesRegex(BadInput, "step"):
            self.baked(take, step=0)


class CommandLineTest(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = pathlib.Path(folder.name)

    def call(self, *arguments):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([str(argument) for argument in arguments])
        return code, out.getvalue(), err.getvalue()

    def write(self, name, data):
        (self.folder / name).write_bytes(data)
        return self.folder / name

    def test_inspect_prints_facts_as_json(self):
        code, out, _ = self.call("inspect", self.write("arm.glb", glb_bytes(arm(weights_sum=0.5))), "--json")
        facts = json.loads(out)
        self.assertEqual((code, facts["joints"], facts["vertices"], facts["meshes"]), (0, 4, 32, 1))
        self.assertEqual(facts["clips"], [{"name": "wave", "seconds": 1.5, "keys": 63}])
        self.assertEqual([finding["id"] for finding in facts["findings"]], ["weights"])

    def test_inspect_refuses_without_a_traceback(self):
        code, out, _ = self.call("inspect", self.write("x.glb", b"glTF nonsense that is long enough"), "--json")
        self.assertEqual((code, json.loads(out)["usable"]), (1, False))
        code, _, err = self.call("inspect", self.folder / "missing.glb")
        self.assertEqual(code, 1)
        self.assertIn("refused", err)

    def test_bake_does_the_whole_path(self):
        source = self.write("arm.glb", glb_bytes(arm()))
        stack = self.write("setup.json", setup_document.dumps(edits.with_new_chain(Setup(), ChainPick("upper"))).encode())
        target = self.folder / "out.glb"
        code, out, _ = self.call("bake", source, "--setup", stack, "--clip", "wave", "--out", target, "--thin", "0.5")
        self.assertEqual(code, 0)
        self.assertIn("37 frames", out)
        character, _ = read_character(target.read_bytes())
        self.assertEqual([clip.name for clip in character.clips], ["wave", "wave with motion"])
        code, _, err = self.call("bake", source, "--setup", stack, "--clip", "dance", "--out", target)
        self.assertEqual(code, 1)
        self.assertIn("“wave”", err)
