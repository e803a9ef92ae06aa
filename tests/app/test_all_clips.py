"""All clips of a character at once: run, told in one table, and baked into one file."""

import io
from unittest import mock

import numpy as np
from PIL import Image

from quiver.formats.gltf.reading import read_character
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_through
from studio.bakes.models import Bake
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.takes import sweeps
from studio.takes.models import Solve
from tests.app.helpers import DeskTest, body_of, run_waiting_jobs


class AllClipsTest(DeskTest):
    options = {"clips": ("wave", "run", "idle")}

    def test_they_run_are_told_and_go_into_one_file(self):
        self.post("takes/around/", around="on")
        run_waiting_jobs()
        page = self.post("takes/clips/", clip=["wave", "run"])
        self.assertContains(page, "All clips")
        before = self.fresh.takes.count()
        run_waiting_jobs()
        # What fits already is not run again.
        self.post("takes/clips/", clip=["wave", "run"])
        self.assertEqual(self.fresh.takes.count(), before)
        rows = self.client.get(self.url("takes/")).context["clip_rows"]
        told = {each["clip"]["name"]: each for each in rows}
        self.assertEqual([name for name, each in told.items() if each["take"]], ["wave", "run"])
        self.assertGreater(told["wave"]["worst"]["turn"], 0.1)
        self.assertLess(told["wave"]["worst"]["gap"][1], 0.1)
        self.assertNotIn("gap", told["run"]["worst"])
        page = self.client.get(self.url("bake/"))
        self.assertContains(page, "Bake into one file")
        takes = [each["take"] for each in page.context["finished"]]
        self.post("bake/clips/", take=[take.pk for take in takes])
        run_waiting_jobs()
        bake = Bake.objects.get()
        self.assertEqual((bake.job.state, bake.report["clips"]), ("finished", 2))
        again, _ = read_character(body_of(self.client.get(f"/bakes/{bake.pk}/download")), "again")
        self.assertEqual([clip.name for clip in again.clips], ["wave", "run", "idle", "wave with motion", "run with motion"])
        for take in takes:
            clip = again.clip(f"{take.clip_name} with motion")
            self.assertEqual(clip.frame_count(take.frame_rate), take.frame_count)
            baked, keyed = (skinned_through(again.meshes[0], world_of(again, each)) for each in (clip, again.clip(take.clip_name)))
            self.assertGreater(np.abs(baked - keyed).max(), 1e-4)

    def test_what_is_not_there_is_refused(self):
        for names in ([], ["fly"]):
            self.assertEqual(self.post("takes/clips/", clip=names).status_code, 422)
        self.assertEqual(self.post("bake/clips/", take=[]).status_code, 422)
        self.assertEqual(Bake.objects.count(), 0)


def world_of(character, clip):
    """Node matrices at some times of a clip."""
    return world_matrices(character.skeleton, clip.sample(character.skeleton, np.linspace(0.0, clip.seconds, 9)))


class SweepTest(DeskTest):
    def test_a_dial_goes_over_a_range_and_one_take_becomes_the_setup(self):
        page = self.client.get(self.url("takes/"))
        self.assertContains(page, "Sweep one dial or two")
        layer, before = self.row.setup.layers[0], self.fresh.current_id
        self.post("takes/sweep/", dial=f"{layer.id}:wobble_rate", low="1", high="8", count="4")
        self.assertEqual(self.fresh.current_id, before)
        self.assertIsNone(self.fresh.redo_version)
        run_waiting_jobs()
        takes = list(self.fresh.takes.order_by("pk"))
        self.assertEqual([take.version.setup.layer(layer.id).value("wobble_rate") for take in takes], [1.0, 2.0, 4.0, 8.0])
        self.assertEqual({take.job.state for take in takes}, {"finished"})
        self.assertIn("Wobble rate 2 Hz", takes[1].label)
        # What else was changed meanwhile stays.
        self.dial("drag", "7")
        changed = self.fresh.current_id
        self.client.post(f"/takes/{takes[2].pk}/use/")
        now = self.fresh.setup.layer(layer.id)
        self.assertEqual((now.value("wobble_rate"), now.value("drag")), (4.0, 7.0))
        self.post("motion/undo/")
        self.assertEqual(self.fresh.current_id, changed)

    def test_two_dials_make_a_sheet_of_moving_pictures_with_their_rings(self):
        layer = self.row.setup.layers[0].id
        dials = [f"{layer}:wobble_rate", f"{layer}:settle_time"]
        answer = self.post("takes/sweep/", dial=dials, low=["1", "10"], high=["3", "40"], count=["2", "3"])
        where = answer.headers["HX-Redirect"]
        self.assertContains(self.client.get(where), "waiting", count=6)
        run_waiting_jobs()
        page = self.client.get(where)
        rows = page.context["rows"]
        own = [[tuple(value for _, value, _ in cell["values"]) for cell in row] for row in rows]
        self.assertEqual(own, [[(1.0, 10.0), (1.0, 25.0), (1.0, 40.0)], [(3.0, 10.0), (3.0, 25.0), (3.0, 40.0)]])
        # The slower, the farther it lags; all lanes are at one scale.
        peaks = [row[0]["peak"] for row in rows]
        self.assertGreater(peaks[0], peaks[1])
        moving = rows[0][0]["moving"]
        image = Image.open(io.BytesIO(self.client.get(f"/takes/{rows[0][0]['take'].pk}/moving.webp").content))
        self.assertEqual(image.size, (sweeps.WIDTH, sweeps.HEIGHT * moving.pictures))
        pictures = np.asarray(image).reshape(moving.pictures, -1).astype(float)
        self.assertGreater(np.abs(pictures - pictures[0]).mean(1).max(), 0.1)
        self.assertLessEqual(moving.pictures, sweeps.MOST_PICTURES)
        self.assertRedirects(self.client.post(f"{where}ring/"), where)
        run_waiting_jobs()
        rung = self.client.get(where).context["rows"]
        self.assertEqual({cell["ring"].job.state for row in rung for cell in row}, {"finished"})
        self.assertContains(self.client.get(self.url("takes/")), "Sheets so far")

    def test_what_makes_no_sense_is_refused(self):
        layer = self.row.setup.layers[0].id
        for sent in (
            {"dial": f"{layer}:wobble_rate", "low": "1", "high": "8", "count": "40"},
            {"dial": f"{layer}:wobble_rate", "low": "1", "high": "far", "count": "4"},
            {"dial": f"{layer}:wobble_rate", "low": "1", "high": "1e9", "count": "4"},
            {"dial": f"{layer}:swing_axes", "low": "1", "high": "2", "count": "4"},
            {"dial": "nobody:drag", "low": "1", "high": "2", "count": "4"},
            {"dial": [f"{layer}:drag"] * 2, "low": ["1", "1"], "high": ["2", "2"], "count": ["2", "2"]},
            {"dial": [f"{layer}:drag", f"{layer}:wobble_rate"], "low": ["1", "1"], "high": ["2", "2"], "count": ["4", "4"]},
            {},
        ):
            self.assertEqual(self.post("takes/sweep/", **sent).status_code, 422)
        self.assertEqual(self.fresh.takes.count(), 0)


class OverrideTest(DeskTest):
    options = {"clips": ("wave", "run")}

    def test_a_clip_has_a_dial_of_its_own_and_the_others_do_not_feel_it(self):
        layer = self.row.setup.layers[0].id
        self.post("takes/clips/", clip=["wave", "run"])
        run_waiting_jobs()
        before = {take.clip_name: take.pk for take in self.fresh.takes.all()}
        page = self.post(f"motion/{layer}/override/", dial="wobble_rate", value="6.5")
        self.assertContains(page, "On “wave” only")
        self.assertContains(page, "6.5")
        run_waiting_jobs()
        rows = {each["clip"]["name"]: each["take"].pk for each in self.client.get(self.url("takes/")).context["clip_rows"]}
        self.assertEqual(rows["run"], before["run"])
        self.assertNotEqual(rows["wave"], before["wave"])
        self.post(f"motion/{layer}/override/", dial="wobble_rate", drop="1")
        self.assertEqual(self.fresh.setup, self.row.setup)
        self.assertEqual(self.post(f"motion/{layer}/override/", dial="wobble_rate", value="quick").status_code, 422)


class SolveTest(DeskTest):
    def test_dials_are_found_shown_and_used(self):
        layer, before = self.row.setup.layers[0], self.fresh.current_id
        self.assertContains(self.client.get(self.url("takes/")), "Find dials")
        card = self.post("takes/solve/", turn=[f"{layer.id}:wobble_rate", f"{layer.id}:settle_time"], moves="60")
        self.assertContains(card, "Waiting")
        found = Solve.objects.get()
        run_waiting_jobs()
        found.refresh_from_db()
        self.assertEqual((found.job.state, found.report["unmet"]), ("finished", []))
        self.assertLessEqual(found.report["found"][0], 1.02 * 60.0)
        self.assertContains(self.client.get(f"/solves/{found.pk}/"), "Use these dials")
        self.assertEqual(self.fresh.current_id, before)
        self.client.post(f"/solves/{found.pk}/use/", HTTP_HX_REQUEST="true", HTTP_HX_TARGET="panel")
        self.assertAlmostEqual(self.fresh.setup.layers[0].value("wobble_rate"), found.report["values"][0], places=3)
        self.post("motion/undo/")
        self.assertEqual(self.fresh.current_id, before)

    def test_what_cannot_be_wanted_is_refused_and_a_search_can_be_stopped(self):
        layer = self.row.setup.layers[0].id
        for sent in (
            {},
            {"turn": [f"{layer}:wobble_rate"]},
            {"turn": [f"{layer}:wobble_rate"], "moves": "far"},
            {"turn": [f"{layer}:swing_axes"], "moves": "1"},
        ):
            self.assertEqual(self.post("takes/solve/", **sent).status_code, 422)
        self.post("takes/solve/", turn=[f"{layer}:wobble_rate"], moves="0.001")
        found = Solve.objects.get()
        self.client.post(f"/solves/{found.pk}/stop/")
        run_waiting_jobs()
        found.job.refresh_from_db()
        self.assertEqual(found.job.state, "stopped")
        # One that is stopped in its first try did not fail either.
        self.post("takes/solve/", turn=[f"{layer}:wobble_rate"], moves="0.001")
        running = Solve.objects.order_by("-pk").first()
        Job.objects.filter(pk=running.job_id).update(stop_asked=True)
        with mock.patch.object(jobs, "ASK_SECONDS", -1.0):
            run_waiting_jobs()
        running.job.refresh_from_db()
        self.assertEqual(running.job.state, "stopped")
        self.assertEqual(self.client.post(f"/solves/{found.pk}/use/", HTTP_HX_REQUEST="true").status_code, 422)
