"""All takes and baked files in one place."""

import pathlib
import tempfile
from unittest.mock import patch

from django.test import override_settings

from studio.bakes.models import Bake
from studio.jobs import handlers
from studio.jobs import services as jobs
from studio.takes import elsewhere
from tests.app.helpers import DeskTest, arm_in_library, run_waiting_jobs


class ResultsTest(DeskTest):
    options = {"clips": ("wave", "run")}

    def test_they_are_listed_with_their_size_and_removed_or_pinned_by_the_tick(self):
        self.assertContains(self.client.get("/results/"), "No takes or baked files yet")
        self.client.post("/results/", {"action": "run", "character": [self.row.pk]})
        self.assertEqual({take.clip_name for take in self.fresh.takes.all()}, {"wave", "run"})
        self.post("takes/clips/", clip=["wave", "run"])
        run_waiting_jobs()
        first, second = self.fresh.takes.order_by("pk")
        self.post("bake/start/", take=first.pk, form="glb", first="0", last="5", step="1", name="done")
        run_waiting_jobs()
        page = self.client.get("/results/")
        ((row, takes, bakes, total),) = page.context["found"]
        self.assertEqual((row.pk, len(takes), len(bakes)), (self.row.pk, 2, 1))
        self.assertEqual(total, sum(each.bytes for each in (*takes, *bakes)))
        self.assertTrue(all(each.bytes > 100 for each in (*takes, *bakes)))
        self.assertContains(page, "Download")
        self.client.post("/results/", {"action": "pin", "take": [first.pk, second.pk]})
        self.assertTrue(all(take.is_kept for take in self.fresh.takes.all()))
        self.client.post("/results/", {"action": "let go", "take": [second.pk]})
        self.client.post("/results/", {"action": "remove", "take": [second.pk], "bake": [Bake.objects.get().pk]})
        self.assertEqual([take.pk for take in self.fresh.takes.all()], [first.pk])
        self.assertEqual(Bake.objects.count(), 0)
        # It can be brought back.
        self.assertContains(self.client.get(self.url("takes/")), "was removed")
        self.client.post("/results/", {"action": "again", "take": [first.pk], "first": "3", "last": "7"})
        again = self.fresh.takes.order_by("-pk").first()
        self.assertEqual(
            (again.version_id, again.clip_name, again.first_frame, again.last_frame), (first.version_id, first.clip_name, 3, 7)
        )
        for sent in (
            {},
            {"action": "remove"},
            {"action": "burn", "take": [first.pk]},
            {"action": "remove", "take": ["x"]},
            {"action": "again", "take": [first.pk], "first": "7", "last": "3"},
            {"action": "run", "character": ["x"]},
        ):
            self.assertEqual(self.client.post("/results/", sent).status_code, 422)
        self.assertContains(self.client.get("/"), "All takes and baked files")

    def test_several_characters_are_run_and_baked_in_one_go(self):
        other = arm_in_library(clips=("wave",))
        both = [self.row.pk, other.pk]
        self.client.post("/results/", {"action": "run", "character": both})
        run_waiting_jobs()
        # What is there already is not run again.
        self.client.post("/results/", {"action": "run", "character": both})
        self.assertEqual(sorted(self.fresh.takes.values_list("clip_name", flat=True)), ["run", "wave"])
        self.client.post("/results/", {"action": "bake", "character": both})
        run_waiting_jobs()
        made = {bake.take.character_id: bake for bake in Bake.objects.select_related("take", "job")}
        self.assertEqual(set(made), set(both))
        self.assertEqual({bake.job.state for bake in made.values()}, {"finished"})
        self.assertEqual(len(made[self.row.pk].more), 1)
        takes = list(self.fresh.takes.values_list("pk", flat=True))
        self.post("bake/clips/", take=takes, each="on")
        run_waiting_jobs()
        self.assertEqual(Bake.objects.filter(take__in=takes, more=[]).count(), 2)

    def test_the_parts_that_are_kept_in_memory_are_told_and_let_go(self):
        # Other processes of tests say of theirs what they keep.
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.enterContext(override_settings(DATA_DIR=pathlib.Path(folder)))
        elsewhere.forget_parts()
        self.assertNotContains(self.client.get("/results/"), "Free the memory")
        self.client.post("/results/", {"action": "run", "character": [self.row.pk]})
        run_waiting_jobs()
        kept = elsewhere.results.bytes
        self.assertGreater(kept, 1000)
        page = self.client.get("/results/")
        self.assertEqual(page.context["kept"], kept)
        told = []
        with patch.object(jobs, "_wake", [told.append]):
            self.client.post("/results/", {"action": "forget"})
        self.assertEqual(told, ["forget"])
        handlers.forget_parts()
        self.assertEqual((elsewhere.results.bytes, elsewhere.kept_bytes()), (0, 0))
