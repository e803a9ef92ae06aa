"""Takes: run, stream, stop, keep; and bakes made from them."""

import base64
from datetime import timedelta
from unittest import mock

import numpy as np
from django.utils import timezone

from quiver.errors import BadInput, Unstable
from quiver.formats.frames import read_messages
from quiver.formats.gltf.reading import read_character
from studio.jobs import forehand
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.takes import services
from studio.takes.models import Take
from tests.app.helpers import RunningDeskTest, body_of, run_waiting_jobs
from tests.formats.validator import issues_of


class TakeTest(RunningDeskTest):
    def run_take(self, **fields):
        self.post("takes/run/", **fields)
        run_waiting_jobs()
        return Take.objects.first()

    def test_a_take_streams_what_the_core_computes(self):
        take = self.run_take()
        self.assertEqual((take.job.state, take.job.done, len(take.added)), ("finished", 37, 37))
        header, chunks, end = read_messages(self.frames(take))
        self.assertEqual(end["state"], "finished")
        streamed = np.concatenate([rotations for _, rotations, *_ in chunks])
        stored = np.concatenate([services.unpack(take, chunk)[0] for chunk in take.chunks.all()])
        self.assertEqual(streamed.shape, (37, len(header["rotated"]), 4))
        self.assertLess(np.abs(streamed - stored).max(), 0.5 / 32767 + 1e-6)
        self.assertGreater(max(map(max, take.added)), 1.0)

    def test_the_score_shows_its_lane_and_the_worst_frame(self):
        take = self.run_take()
        worst = int(np.argmax([values[0] for values in take.added]))
        score = self.heard()["score"]
        self.assertIn(f'data-frame="{worst}"', score)
        self.assertIn('<path class="added"', score)
        self.dial("wobble_rate", "5")
        self.assertIn("is-stale", self.heard(take.pk)["score"])

    def test_a_range_of_frames(self):
        take = self.run_take(first="10", last="20")
        self.assertEqual((take.first_frame, len(take.added)), (10, 11))
        for first, last in (("5", "4"), ("0", "37"), ("-1", "4"), ("a", "b")):
            self.assertEqual(self.post("takes/run/", first=first, last=last).status_code, 422)

    def test_a_new_take_stops_the_one_that_waits(self):
        self.post("takes/run/")
        self.post("takes/run/")
        run_waiting_jobs()
        self.assertEqual([take.job.state for take in Take.objects.order_by("pk")], ["stopped", "finished"])

    def test_stopping_in_the_middle_keeps_what_was_done(self):
        self.post("takes/run/")
        take = Take.objects.get()
        going = iter([True, True])
        with mock.patch("studio.jobs.services.JobContext.keep_going", lambda context: next(going, False)):
            Job.objects.filter(pk=take.job_id).update(stop_asked=False)
            run_waiting_jobs()
        take.refresh_from_db()
        self.assertLess(len(take.added), 37)
        self.assertEqual(len(read_messages(self.frames(take))[1]), take.chunks.count())

    def test_run_again_brings_the_settings_back(self):
        self.dial("wobble_rate", "5")
        run_waiting_jobs()
        first = Take.objects.get()
        self.dial("wobble_rate", "1")
        run_waiting_jobs()
        self.client.post(f"/takes/{first.pk}/again/")
        run_waiting_jobs()
        self.assertEqual(self.fresh.setup.layer("arm").value("wobble_rate"), 5.0)
        self.assertEqual(Take.objects.first().added, first.__class__.objects.get(pk=first.pk).added)

    def test_kept_takes_stay_and_others_make_room(self):
        kept = self.run_take()
        self.client.post(f"/takes/{kept.pk}/keep/")
        for _ in range(services.PASSING_TAKES + 2):
            self.run_take(first="0", last="1")
        pks = list(Take.objects.values_list("pk", flat=True))
        self.assertIn(kept.pk, pks)
        self.assertLessEqual(len(pks), services.PASSING_TAKES + 2)

    def test_a_removed_take_is_brought_back_for_an_hour(self):
        first, second = self.run_take(last="3"), self.run_take(last="2")
        self.client.post(f"/takes/{first.pk}/remove/", HTTP_HX_REQUEST="true", HTTP_HX_TARGET="panel")
        self.assertEqual(list(self.fresh.takes.all()), [second])
        self.assertContains(self.client.get(self.url("takes/")), f"/takes/{first.pk}/restore/")
        self.client.post(f"/takes/{first.pk}/restore/")
        self.assertTrue(self.fresh.takes.get(pk=first.pk).chunks.exists())
        self.client.post(f"/takes/{first.pk}/remove/")
        services.forget_removed()
        self.assertTrue(Take.everything.filter(pk=first.pk).exists())
        Take.everything.filter(pk=first.pk).update(removed=timezone.now() - timedelta(seconds=services.REMOVED_SECONDS + 1))
        services.forget_removed()
        self.assertFalse(Take.everything.filter(pk=first.pk).exists())
        self.assertEqual(self.client.post(f"/takes/{first.pk}/restore/").status_code, 404)

    def test_what_fails_is_told_in_the_take(self):
        with mock.patch("quiver.batch.execute", side_effect=ZeroDivisionError("oh")), self.assertLogs("studio.faults") as log:
            self.run_take()
        self.assertIn("ZeroDivisionError: oh", log.output[0])
        job = Take.objects.first().job
        self.assertEqual(job.state, "failed")
        self.assertContains(self.client.get(self.url("takes/")), "Something went wrong on our side")

    def test_one_that_is_run_in_advance_gives_way_and_goes_on_after(self):
        early = services.start_take(self.row, priority=services.IN_ADVANCE)
        first, ran = jobs.claim_next(), []
        waited_for = services.start_take(self.row, 0, 5)
        # It is of another clip, so that the first one is not stopped by it.
        Job.objects.filter(pk=early.job_id).update(stop_asked=False)
        with mock.patch.object(jobs, "ASK_SECONDS", -1.0):
            jobs.run_job(first)
            self.assertEqual(Job.objects.get(pk=first).state, "queued")
            while (job_id := jobs.claim_next()) is not None:
                ran.append(job_id)
                jobs.run_job(job_id)
        self.assertEqual(ran, [waited_for.job_id, early.job_id])
        self.assertEqual([take.job.state for take in Take.objects.all()], ["finished"] * 2)

    def test_what_an_opened_page_may_ask_for_is_made_ready(self):
        told = []
        with mock.patch.object(jobs, "_wake", [told.append]):
            jobs.opened(self.row.pk)
        self.assertEqual(told, [f"open {self.row.pk}"])
        for failure in (None, BadInput("no")):
            with mock.patch("studio.takes.services.compile_plan", side_effect=failure) as compiled:
                for character in (self.row.pk, 9999, self.row.pk):
                    forehand.opened_here(character)
                self.assertEqual([forehand.make_ready() for _ in range(3)], [True, True, False])
            self.assertEqual([call.args[0].setup for call in compiled.call_args_list], [self.fresh.setup])
        self.assertFalse(Take.objects.exists())

    def test_the_last_good_take_stays_on_the_stage(self):
        good = self.run_take()
        with mock.patch("quiver.batch.execute", side_effect=Unstable("Arm", 3, "it ran away")):
            self.run_take()
        self.assertEqual(Take.objects.first().job.state, "failed")
        heard = self.heard()
        self.assertEqual(heard["take"], good.pk)
        self.assertIn("layer “Arm” stopped at frame 3", heard["status"])
        self.assertIn(f"Take {good.pk} finished", self.heard(good.pk)["status"])
        self.assertEqual(self.client.get(self.url("state.json")).json()["take"]["id"], good.pk)

    def test_a_bake_is_a_valid_file_with_the_takes_motion(self):
        take = self.run_take()
        self.post("bake/start/", take=take.pk, name="wave again", first="0", last="36", step="1", skin_limit="0")
        run_waiting_jobs()
        bake = take.bakes.get()
        data = body_of(self.client.get(f"/bakes/{bake.pk}/download"))
        self.assertEqual(issues_of(data)["numErrors"], 0)
        character, _ = read_character(data, "baked")
        self.assertEqual([clip.name for clip in character.clips], ["wave", "wave again"])
        pose = character.clip("wave again").sample(character.skeleton, np.arange(37) / 24.0)
        stored = np.concatenate([services.unpack(take, chunk)[0] for chunk in take.chunks.all()])
        np.testing.assert_allclose(np.abs(np.sum(pose.rotations[:, take.rotated] * stored, axis=2)), 1.0, atol=2e-6)
        self.client.post(f"/bakes/{bake.pk}/delete/")
        self.assertEqual(take.bakes.count(), 0)

    def test_a_bake_out_of_range_is_refused(self):
        take = self.run_take()
        good = {"take": take.pk, "name": "x", "first": "0", "last": "36", "step": "1", "skin_limit": "0"}
        for wrong in ({"last": "99"}, {"step": "0"}, {"skin_limit": "x"}, {"first": "9", "last": "3"}):
            self.assertEqual(self.post("bake/start/", **good | wrong).status_code, 422, wrong)
        self.assertEqual(take.bakes.count(), 0)


class DepthTest(RunningDeskTest):
    def test_a_frame_says_how_deep_each_vertex_of_a_layer_that_meets_anything_is(self):
        self.post("contacts/add/", shape="ground")
        ground = self.fresh.setup.colliders[0].id
        # The ground comes up into the arm as it moves.
        self.post(f"contacts/{ground}/set/", field="place 1", value="400")
        take = self.fresh.takes.first()
        run_waiting_jobs()
        take.refresh_from_db()
        depth = take.measures["arm"]["clip"]
        worst = int(np.argmax(depth))
        sent = self.client.get(f"/takes/{take.pk}/depth?frame={take.first_frame + worst}").json()
        self.assertAlmostEqual(sent["worst"], depth[worst], delta=0.05)
        levels = np.frombuffer(base64.b64decode(sent["meshes"]["0"]), np.uint8)
        self.assertEqual(len(levels), self.fresh.facts["meshes"][0]["vertices"])
        self.assertGreater((levels == 255).sum(), 0)
        keyed = self.client.get(f"/takes/{take.pk}/depth?frame={take.first_frame + worst}&shown=keyed").json()
        self.assertAlmostEqual(keyed["worst"], take.measures["arm"]["keyed_clip"][worst], delta=0.05)
        for frame in ("9999", "x"):
            self.assertEqual(self.client.get(f"/takes/{take.pk}/depth?frame={frame}", headers={"HX-Request": "true"}).status_code, 422)
