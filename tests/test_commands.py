"""The command line of the core: the whole path without the app, and refusals without tracebacks."""

import contextlib
import io
import json
import pathlib
import tempfile
from unittest import TestCase

import numpy as np

from quiver.__main__ import main
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.rig.pose import rest_matrices
from quiver.setup import document as setup_document
from quiver.setup import edits, muscles
from quiver.setup import model as setups
from tests.formats.makers import arm, glb_bytes
from tests.formats.validator import issues_of


class CommandTest(TestCase):
    def setUp(self):
        self.folder = pathlib.Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.file = self.folder / "arm.glb"
        self.file.write_bytes(glb_bytes(arm()))

    def run_command(self, *words):
        """(exit code, what was printed, what was complained)."""
        said, complained = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(complained):
            code = main([str(word) for word in words])
        return code, said.getvalue(), complained.getvalue()

    def test_inspect_says_what_is_there(self):
        code, said, _ = self.run_command("inspect", self.file, "--json")
        facts = json.loads(said)
        self.assertEqual(code, 0)
        self.assertEqual((facts["joints"], facts["vertices"], facts["meshes"]), (4, 32, 1))
        self.assertEqual([(clip["name"], clip["seconds"], clip["keys"]) for clip in facts["clips"]], [("wave", 1.5, 63)])

    def test_inspect_refuses_with_findings_and_no_traceback(self):
        self.file.write_bytes(self.file.read_bytes()[:-2000])
        for path in (self.file, self.folder / "nothing.glb", self.folder):
            code, said, complained = self.run_command("inspect", path, "--json")
            self.assertEqual(code, 1)
            self.assertTrue(json.loads(said)["findings"][0]["message"])
            self.assertEqual(complained, "")
            code, said, complained = self.run_command("inspect", path)
            self.assertEqual((code, said), (1, ""))
            self.assertIn("refused", complained)

    def test_bake_goes_the_whole_path(self):
        setup, out = self.folder / "setup.json", self.folder / "out.glb"
        setup.write_text(setup_document.dumps(edits.with_new_chain(setups.Setup(), setups.ChainPick("upper"))))
        code, said, _ = self.run_command("bake", self.file, "--setup", setup, "--clip", "wave", "--out", out)
        self.assertEqual(code, 0)
        self.assertIn("37 frames", said)
        self.assertEqual(issues_of(out.read_bytes())["numErrors"], 0)
        character, _ = read_character(out.read_bytes(), "out")
        times = np.arange(37) / 24.0
        keyed, baked = (character.clip(name).sample(character.skeleton, times).rotations for name in ("wave", "wave with motion"))
        self.assertGreater(np.abs(keyed - baked).max(), 0.02)

    def test_bake_takes_soft_parts_along(self):
        setup, out = self.folder / "setup.json", self.folder / "out.glb"
        levels = regions.fill(regions.nothing(32))
        soft = edits.with_new_soft(edits.with_new_region(setups.Setup(), "Flesh", "strip", 32, regions.encode(levels)), "volume", "flesh")
        setup.write_text(setup_document.dumps(soft))
        code, said, complained = self.run_command("bake", self.file, "--setup", setup, "--clip", "wave", "--out", out, "--shapes", "0.5")
        self.assertEqual(code, 0, complained)
        self.assertIn("shapes for the soft parts", said)
        self.assertEqual(issues_of(out.read_bytes())["numErrors"], 0)

    def test_bake_adds_the_muscles_that_a_setup_makes(self):
        setup, out = self.folder / "setup.json", self.folder / "out.glb"
        character, _ = read_character(self.file.read_bytes(), "arm")
        names = character.skeleton.names
        places = rest_matrices(character.skeleton)[[names.index(name) for name in ("upper", "lower")], :, 3]
        line = tuple(map(tuple, (places[0] + np.outer([0.2, 0.8, 1.4], places[1] - places[0])).tolist()))
        own = setups.Muscle(
            "m", "Flexor", "", 0, *map(setups.Attachment, ("upper", "lower")), form=setups.MuscleForm(line, "spindle", 0.1, 0.1)
        )
        with_one = muscles.with_new_muscles(setups.Setup(), "Muscles", (own,), ())
        setup.write_text(setup_document.dumps(with_one))
        for words, meshes in (((), ["strip"]), (("--muscles",), ["strip", "Flexor"])):
            code, _, complained = self.run_command(
                "bake", self.file, "--setup", setup, "--clip", "wave", "--out", out, "--shapes", 1, *words
            )
            self.assertEqual(code, 0, complained)
            self.assertEqual(issues_of(out.read_bytes())["numErrors"], 0)
            self.assertEqual([mesh.name for mesh in read_character(out.read_bytes(), "out")[0].meshes], meshes)

    def test_bake_refuses_what_does_not_fit(self):
        setup, out = self.folder / "setup.json", self.folder / "out.glb"
        setup.write_text(setup_document.dumps(edits.with_new_chain(setups.Setup(), setups.ChainPick("wing"))))
        for words in (("--setup", setup, "--clip", "wave"), ("--setup", setup, "--clip", "swim"), ("--setup", self.file, "--clip", "wave")):
            code, _, complained = self.run_command("bake", self.file, *words, "--out", out)
            self.assertEqual(code, 1, complained)
            self.assertIn("refused", complained)
        self.assertFalse(out.exists())

    def test_schema_is_json(self):
        self.assertEqual(json.loads(self.run_command("schema")[1])["title"], "Keen Quiver setup")

    def test_run_goes_over_all_clips_and_dials_and_tells_them(self):
        setup, out, folder = self.folder / "setup.json", self.folder / "all.glb", self.folder / "each"
        setup.write_text(setup_document.dumps(edits.with_new_chain(setups.Setup(), setups.ChainPick("upper"), "Arm")))
        self.file.write_bytes(glb_bytes(arm(clips=("wave", "walk"))))
        both = ("run", self.file, "--setup", setup)
        code, said, _ = self.run_command(*both, "--all-clips", "--around", "--out", out, "--json")
        takes = json.loads(said)["takes"]
        self.assertEqual((code, [take["name"] for take in takes]), (0, ["wave", "walk"]))
        self.assertTrue(all(take["cycles"] > 1 for take in takes))
        character, _ = read_character(out.read_bytes(), "all")
        self.assertEqual([clip.name for clip in character.clips][2:], ["wave with motion", "walk with motion"])
        first, last = character.clip("walk with motion").sample(character.skeleton, np.array([0.0, 1.5])).rotations
        np.testing.assert_allclose(first, last, atol=1e-6)
        code, said, _ = self.run_command(*both, "--clip", "walk", "--sweep", "Arm.wobble_rate=1:2:3", "--out", folder, "--each")
        self.assertEqual((code, len(said.splitlines()), len(list(folder.glob("*.glb")))), (0, 3, 3))
        code, said, _ = self.run_command(*both, "--clip", "walk", "--clip", "fly")
        self.assertEqual(code, 2)
        self.assertIn("fly: failed", said)
        for wrong in (
            (),
            ("--clip", "walk", "--sweep", "Arm.wobble_rate=1"),
            ("--all-clips", "--sweep", "Arm.drag=1:2:3"),
            ("--clip", "fly"),
        ):
            code, *_ = self.run_command(*both, *wrong)
            self.assertEqual(code, 1)

    def test_solve_writes_the_setup_with_the_dials_it_found(self):
        setup, out = self.folder / "setup.json", self.folder / "solved.json"
        setup.write_text(setup_document.dumps(edits.with_new_chain(setups.Setup(), setups.ChainPick("upper"), "Arm")))
        both = ("solve", self.file, "--setup", setup, "--clip", "wave", "--out", out, "--turn", "Arm.wobble_rate=0.5:8")
        code, said, _ = self.run_command(*both, "--want", "Arm.moves<=40")
        self.assertEqual(code, 0)
        self.assertIn("wanted at most 40 mm", said)
        self.assertNotEqual(setup_document.loads(out.read_text()).layers[0].value("wobble_rate"), 2.0)
        code, said, _ = self.run_command(*both, "--want", "Arm.moves<=0.001", "--json")
        self.assertEqual((code, json.loads(said)["unmet"]), (2, ["moves"]))
        for wrong in ("Arm.moves", "Arm.moves<=far", "Leg.moves<=1", "Arm.sings=1"):
            self.assertEqual(self.run_command(*both, "--want", wrong)[0], 1)

    def test_travel_brings_a_setup_over_and_lists_what_stays(self):
        setup, out, to = self.folder / "setup.json", self.folder / "over.json", self.folder / "other.glb"
        setup.write_text(setup_document.dumps(edits.with_new_chain(setups.Setup(), setups.ChainPick("upper"), "Arm")))
        to.write_bytes(glb_bytes(arm(("base", "Upper.001", "Lower", "Hand"))))
        code, said, _ = self.run_command("travel", self.file, to, "--setup", setup, "--out", out, "--match", "upper=Upper.001")
        self.assertEqual(code, 0)
        self.assertIn("upper → Upper.001", said)
        self.assertEqual(setup_document.loads(out.read_text()).layers[0].chains[0].root, "Upper.001")
        to.write_bytes(glb_bytes(arm(("one", "two", "three", "four"))))
        code, said, _ = self.run_command("travel", self.file, to, "--setup", setup, "--out", out, "--match", "upper=nowhere")
        self.assertEqual(code, 2)
        self.assertIn("left out: Arm", said)
