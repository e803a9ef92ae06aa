"""The Rig step: sizes in metres, units, and the frame rates that clips were keyed at."""

from quiver.setup.model import Setup
from studio.characters.services import bring_in, forget_loaded
from tests.app.helpers import JOINTS, DeskTest
from tests.formats.makers import arm, glb_bytes

RATES = {"run": 30.0, "walk": 25.0, "film": 24000 / 1001}


class RateTest(DeskTest):
    def setUp(self):
        forget_loaded()
        self.row = bring_in(glb_bytes(arm(JOINTS, clips=tuple(RATES), rates=RATES)), "arm.glb")

    def test_a_clip_s_own_rate_is_found_used_and_said(self):
        self.assertEqual(self.row.setup.frame_rate, 30.0)
        self.assertEqual([round(clip["rate"], 3) for clip in self.row.facts["clips"]], [30.0, 25.0, 23.976])
        self.assertEqual(self.row.clips[0]["frames"], 46)
        page = self.client.get(self.url("rig/"))
        self.assertContains(page, "Simulated and baked at 30 frames a second")
        self.assertContains(page, "23.976")

    def test_another_clip_brings_its_own_rate_by_an_edit(self):
        self.client.post(self.url("clip/"), {"clip": "film", "back": "rig"})
        self.assertAlmostEqual(self.fresh.setup.frame_rate, 24000 / 1001)
        self.assertIn("as “film” is keyed", self.fresh.current.label)
        self.post("motion/undo/")
        self.assertEqual(self.fresh.setup.frame_rate, 30.0)
        # The lengths of clips go with the rate, also by undo.
        self.assertEqual(self.fresh.clip_facts()["frames"], 46)
        # A rate that was chosen by hand stays.
        self.post("motion/scene/", dial="frame_rate", value="48")
        self.client.post(self.url("clip/"), {"clip": "walk"})
        self.assertEqual(self.fresh.setup.frame_rate, 48.0)
        self.assertContains(self.client.get(self.url("rig/")), ">Use</button>", 3)
        self.post("rig/rate/", rate="25.0")
        self.assertEqual((self.fresh.setup.frame_rate, self.fresh.clips[1]["frames"]), (25.0, 39))
        self.assertEqual(self.client.post(self.url("clip/"), {"clip": "nowhere"}).status_code, 422)


class SizeTest(DeskTest):
    def test_the_size_stands_in_metres_and_a_unit_is_one_click(self):
        self.assertContains(self.client.get(self.url("rig/")), "<b>1.50 m</b> high")
        page = self.post("rig/unit/", metres="0.01")
        self.assertContains(page, "<b>0.02 m</b> high")
        self.assertEqual(self.fresh.setup.metres_per_unit, 0.01)
        for wrong in ("0", "a foot", ""):
            self.assertEqual(self.post("rig/unit/", metres=wrong).status_code, 422)
            self.assertEqual(self.post("rig/rate/", rate=wrong).status_code, 422)


class LoneJointTest(DeskTest):
    options = {"with_chain": False}

    def test_a_joint_alone_begins_with_a_limit_and_without_its_own_axis(self):
        self.assertEqual(self.row.setup, Setup())
        self.post("motion/add/", joints="finger")
        layer = self.fresh.setup.layers[0]
        self.assertEqual((layer.value("bend_limit"), layer.value("swing_axes")), (40.0, "xz"))
        self.post("motion/add/", joints="upper, lower")
        self.assertEqual(self.fresh.setup.layers[1].value("bend_limit"), 180.0)
