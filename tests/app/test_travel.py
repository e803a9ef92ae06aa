"""Another character's setup is taken over in the Motion step."""

from dataclasses import replace

import numpy as np

from quiver.mesh import regions
from quiver.setup import edits
from quiver.setup.model import ChainPick, Region, Setup
from studio.characters.services import bring_in
from tests.app.helpers import JOINTS, DeskTest
from tests.formats.makers import arm, glb_bytes


class BringOverTest(DeskTest):
    options = {"with_chain": False}

    def setUp(self):
        super().setUp()
        setup = edits.with_new_chain(Setup(frame_rate=30.0), ChainPick("Oberarm", "Unterarm"), "Arm")
        setup = edits.with_new_chain(setup, ChainPick("Hand.L"), "Hand")
        names = ("root", "Oberarm", "Unterarm", "Hand.L", "Finger")
        self.other = bring_in(glb_bytes(arm(names)), "andere.glb", setup)

    def test_what_is_found_comes_over_the_rest_is_listed_and_matched_by_hand(self):
        self.assertContains(self.client.get(self.url("motion/")), "From another character")
        page = self.post("motion/over/", other=str(self.other.pk))
        # No name is like any here: nothing is lost.
        self.assertContains(page, "stays as it was")
        first = self.fresh.setup
        self.assertEqual(first, self.row.setup)
        pairs = dict(page.context["matched_joints"])
        self.assertIn("Oberarm", pairs)
        by_hand = {"Oberarm": "upper", "Unterarm": "lower", "Hand.L": "hand"}
        page = self.post("motion/over/", other=str(self.other.pk), old=list(by_hand), new=list(by_hand.values()))
        self.assertNotContains(page, "Left out")
        layers = self.fresh.setup.layers
        self.assertEqual([(layer.name, layer.chains[0].root) for layer in layers], [("Arm", "upper"), ("Hand", "hand")])
        # Size and rate are those of this character.
        self.assertEqual(self.fresh.setup.frame_rate, first.frame_rate)
        self.assertNotEqual(self.fresh.setup.frame_rate, 30.0)
        self.assertContains(page, "came over")
        self.post("motion/undo/")
        self.assertEqual(self.fresh.setup.layers, ())

    def test_only_others_of_the_library(self):
        for other in ("", "nobody", str(self.row.pk), "99999"):
            self.assertEqual(self.post("motion/over/", other=other).status_code, 422)


class RevisedModelTest(DeskTest):
    options = {"with_chain": False}

    def test_where_a_region_is_unsure_is_shown(self):
        """An older model of the arm ends a joint earlier: what is new lies off its skin."""
        for names, is_sure in ((JOINTS, True), (JOINTS[:-1], False)):
            with self.subTest(names=names):
                old = bring_in(glb_bytes(arm(names)), "older.glb")
                mesh = old.facts["meshes"][0]
                levels = np.full(mesh["vertices"], 200, np.uint8)
                chain = edits.with_new_chain(old.setup, ChainPick("upper"), "Arm")
                region = Region("soft", "Soft", mesh["name"], len(levels), regions.encode(levels))
                old.save_setup(replace(chain, regions=(region,)), "painted")
                page = self.post("motion/over/", other=str(old.pk)).content.decode()
                self.assertEqual("data:image/png;base64," in page, not is_sure)
                self.assertEqual("unsure at" in page, not is_sure)
                self.post("motion/undo/")
