"""All takes and baked files in one place."""

from studio.bakes.models import Bake
from tests.app.helpers import DeskTest, run_waiting_jobs


class ResultsTest(DeskTest):
    options = {"clips": ("wave", "run")}

    def test_they_are_listed_with_their_size_and_removed_or_pinned_by_the_tick(self):
        self.assertContains(self.client.get("/results/"), "No takes or baked files yet")
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
        for sent in ({}, {"action": "remove"}, {"action": "burn", "take": [first.pk]}, {"action": "remove", "take": ["x"]}):
            self.assertEqual(self.client.post("/results/", sent).status_code, 422)
        self.assertContains(self.client.get("/"), "All takes and baked files")
