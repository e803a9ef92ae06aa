"""Try-out motions in place of a clip, and carriers, from the clip's list and the Scene dials to the stage and the bake."""

import numpy as np

from quiver.setup.document import dumps, loads
from studio.takes.services import unpack
from tests.app.helpers import DeskTest, run_waiting_jobs


class TryOutTest(DeskTest):
    def choose(self, name):
        return self.client.post(self.url("clip/"), {"clip": name, "back": "motion"})

    def stage(self):
        return self.client.get(self.url("state.json")).json()["clip"]

    def test_one_is_chosen_tuned_run_and_baked(self):
        page = self.client.get(self.url("motion/"))
        self.assertContains(page, "Try-out motions")
        self.assertNotContains(page, "Try-out size")
        self.assertEqual(self.choose("try-out: fly").status_code, 422)
        self.choose("try-out: hop")
        page, before = self.client.get(self.url("motion/")), self.stage()
        self.assertContains(page, "Try-out size")
        self.assertGreater(before["frames"], 48)
        self.post("motion/scene/", dial="tryout_tempo", value="200")
        after = self.stage()
        self.assertLess(after["frames"], before["frames"])
        self.assertNotEqual(after["url"], before["url"])
        run_waiting_jobs()
        take = self.fresh.takes.first()
        self.assertEqual((take.clip_name, take.frame_count, take.job.state), ("try-out: hop", after["frames"], "finished"))
        rotations, _ = unpack(take, take.chunks.first())
        self.assertGreater(len(rotations), 1)
        self.assertGreater(len(self.client.get(after["url"]).content), 1000)
        self.post("motion/undo/")
        self.assertEqual(self.stage(), before)
        # What is said of try-out motions is nothing to a clip of the file.
        self.choose("wave")
        self.post("motion/scene/", dial="preroll_frames", value="12")
        run_waiting_jobs()
        takes = self.fresh.takes.count()
        self.post("motion/scene/", dial="tryout_size", value="50")
        run_waiting_jobs()
        self.assertEqual(self.fresh.takes.count(), takes)

    def test_a_carrier_moves_the_stage_and_leaves_the_bake(self):
        still = self.client.get(self.stage()["url"]).content
        page = self.post("motion/scene/", dial="carrier", value="cart")
        self.assertContains(page, "Carrier tempo")
        self.assertNotEqual(self.client.get(self.stage()["url"]).content, still)
        self.assertEqual(self.post("motion/scene/", dial="carrier", value="swan").status_code, 422)
        run_waiting_jobs()
        take = self.fresh.takes.first()
        rotations = np.concatenate([unpack(take, chunk)[0] for chunk in take.chunks.all()])
        self.assertGreater(np.ptp(rotations, axis=0).max(), 1e-3)
        self.assertNotIn(0, take.rotated)


class CycleTest(DeskTest):
    options = {"clips": ("wave",)}

    def test_a_clip_is_run_around_and_its_take_closes(self):
        page = self.client.get(self.url("takes/"))
        self.assertContains(page, "around until it closes")
        self.post("takes/around/", around="on")
        self.assertEqual(self.fresh.setup.cycles, ("wave",))
        run_waiting_jobs()
        take = self.fresh.takes.first()
        self.assertEqual(take.job.state, "finished")
        rotations = np.concatenate([unpack(take, chunk)[0] for chunk in take.chunks.all()])
        self.assertEqual(len(rotations), take.frame_count)
        np.testing.assert_array_equal(rotations[0], rotations[-1])
        self.assertGreater(take.loop["cycles"], 1)
        self.assertContains(self.client.get(self.url("takes/")), "closes exactly")
        # Undo runs it once again, and the setup's document knows of it.
        again = loads(dumps(self.fresh.setup))
        self.assertEqual(again.cycles, ("wave",))
        self.post("motion/undo/")
        self.assertEqual(self.fresh.setup.cycles, ())

    def test_the_rest_pose_is_no_cycle(self):
        self.client.post(self.url("clip/"), {"clip": ""})
        self.assertNotContains(self.client.get(self.url("takes/")), "around until it closes")
        self.assertEqual(self.post("takes/around/", around="on").status_code, 422)
