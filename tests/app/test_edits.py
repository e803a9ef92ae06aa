"""Edits are commands: two at the same time both stand, or one is refused in words; what is stored of one is small."""

import random
import sqlite3
import threading
import time
from datetime import timedelta
from unittest import TestCase

from django.utils import timezone

from quiver.demo import mudwick
from quiver.setup import edits
from studio.characters.models import Blob, Character, SetupVersion
from studio.characters.services import bring_in, forget_removed
from studio.characters.tidying import forget_blobs, forget_old_versions
from studio.edits import services
from studio.jobs import housekeeping
from studio.takes.models import Take
from tests.app.helpers import DeskTest, RunningDeskTest, run_waiting_jobs
from tests.browser.server import RunningApp
from tests.formats.makers import arm, glb_bytes

PAIRS, LONGEST_GAP = 200, 0.4
DIALS = ("wobble_rate", "settle_time", "drag", "gravity")


class OverlappingEditsTest(TestCase):
    """Two clients of the running app, at gaps of 0 to 0.4 s, on different and on the same dials."""

    def test_of_200_pairs_none_is_lost(self):
        chance = random.Random(11)
        with RunningApp() as app:
            character = app.upload(glb_bytes(arm()), "arm.glb")
            app.post(f"/characters/{character}/motion/follow/")
            app.post(f"/characters/{character}/motion/add/", joints="upper, lower")
            clients = [app, app.another_client()]
            sent = 0
            for pair in range(PAIRS):
                names = chance.sample(DIALS, 2) if pair % 2 else [chance.choice(DIALS)] * 2
                values = [1.0 + (pair * 2 + k) / 100.0 for k in range(2)]
                threads = []
                for client, name, value in zip(clients, names, values, strict=True):
                    path = f"/characters/{character}/motion/upper/dial/"
                    threads.append(threading.Thread(target=client.post, args=(path,), kwargs={"dial": name, "value": f"{value:.2f}"}))
                threads[0].start()
                time.sleep(chance.choice((0.0, 0.0, 0.001, 0.003, 0.01, chance.uniform(0.0, LONGEST_GAP) if pair % 10 == 0 else 0.0)))
                threads[1].start()
                for thread in threads:
                    thread.join()
                sent += 2
                dials = app.setup(character)["layers"][0]["dials"]
                if names[0] != names[1]:
                    self.assertEqual([round(dials[name], 2) for name in names], [round(value, 2) for value in values], pair)
                else:
                    self.assertIn(round(dials[names[0]], 2), [round(value, 2) for value in values])
            # Each one that was acknowledged is a version, and each follows the one before.
            versions = app.query(f"SELECT count(*) FROM characters_setupversion WHERE character_id = {character}")
            self.assertEqual(versions, sent + 2)
            roots = app.query(f"SELECT count(DISTINCT parent_id) FROM characters_setupversion WHERE character_id = {character}")
            self.assertEqual(roots, versions - 1)


class CommandTest(DeskTest):
    def test_an_edit_is_applied_to_what_another_left(self):
        """The row was read before the other edit: both stand."""
        row = self.fresh
        _ = row.setup
        self.dial("wobble_rate", "4")
        services.edit(row, lambda setup: edits.set_dial(setup, ["arm"], "drag", 7.0), "Drag")
        layer = self.fresh.setup.layer("arm")
        self.assertEqual((layer.value("wobble_rate"), layer.value("drag")), (4.0, 7.0))

    def test_one_that_comes_between_reading_and_keeping_stands_too(self):
        row, between = self.fresh, [True]

        def command(setup):
            if between.pop():
                between.append(False)
                services.edit(self.fresh, lambda now: edits.set_dial(now, ["arm"], "wobble_rate", 5.0), "Other")
            else:
                between.append(False)
            return edits.set_dial(setup, ["arm"], "drag", 9.0)

        services.edit(row, command, "Drag")
        layer = self.fresh.setup.layer("arm")
        self.assertEqual((layer.value("wobble_rate"), layer.value("drag")), (5.0, 9.0))

    def test_what_makes_no_sense_any_more_says_what_came_first(self):
        seen = self.fresh.current_id
        self.post("motion/arm/change/", action="remove")
        headers = {"HX-Request": "true", "X-Setup-Version": str(seen)}
        response = self.client.post(self.url("motion/arm/dial/"), {"dial": "drag", "value": "3"}, headers=headers)
        self.assertContains(response, "“Arm: removed” came first", status_code=422)

    def test_amount_keys_of_two_pages_both_stand(self):
        seen = str(self.fresh.current_id)
        headers = {"HX-Request": "true", "HX-Target": "panel", "X-Setup-Version": seen}
        self.client.post(
            self.url("motion/arm/amount/"),
            {"frame": ["0"], "value": ["1"], "new_frame": "12", "new_value": "0", "add": "1"},
            headers=headers,
        )
        self.client.post(self.url("motion/arm/amount/"), {"frame": ["0"], "value": ["0.5"]}, headers=headers)
        self.assertEqual(self.fresh.setup.layer("arm").amount, ((0.0, 0.5), (12.0, 0.0)))

    def test_an_edit_that_changes_nothing_is_no_version(self):
        before = self.fresh.current_id
        self.dial("wobble_rate", "2")
        self.assertEqual(self.fresh.current_id, before)


class TakesOfEditsTest(RunningDeskTest):
    def test_names_unused_regions_and_undo_start_no_take_that_would_show_the_same(self):
        self.dial("wobble_rate", "3")
        run_waiting_jobs()
        first = Take.objects.get()
        self.post("motion/arm/change/", action="rename", name="Forearm")
        self.post("regions/add/", name="spare", mesh="strip")
        self.dial("wobble_rate", "4")
        run_waiting_jobs()
        self.assertEqual(Take.objects.count(), 2)
        response = self.post("motion/undo/")
        self.assertEqual(Take.objects.count(), 2)
        self.assertIn(f'"take": {first.pk}', response.headers["HX-Trigger"])
        self.assertEqual(self.client.get(self.url("state.json")).json()["take"]["id"], first.pk)
        self.assertNotIn("is-stale", self.heard()["score"])

    def test_run_again_can_be_undone_like_any_edit(self):
        self.dial("wobble_rate", "5")
        run_waiting_jobs()
        take = Take.objects.get()
        for value in ("1", "2", "3"):
            self.dial("wobble_rate", value)
        self.client.post(f"/takes/{take.pk}/again/")
        self.assertEqual(self.fresh.setup.layer("arm").value("wobble_rate"), 5.0)
        self.post("motion/undo/")
        self.assertEqual(self.fresh.setup.layer("arm").value("wobble_rate"), 3.0)


class StorageTest(RunningDeskTest):
    def test_a_nudge_of_one_of_mudwicks_dials_is_small_and_regions_are_stored_once(self):
        glb, setup = mudwick.build()
        row = bring_in(glb, "Mudwick.glb", setup)
        row.follows_changes = False
        row.save()
        blobs, before = Blob.objects.count(), _pages()
        services.edit(row, lambda now: edits.set_dial(now, ["tail"], "wobble_rate", 1.5), "Tail")
        self.assertEqual(Blob.objects.count(), blobs)
        version = SetupVersion.objects.get(pk=row.current_id)
        self.assertLess(len(version.data), 3000)
        self.assertLessEqual(_pages() - before, 8192)
        self.assertEqual(version.setup.region("belly").values, setup.region("belly").values)
        self.assertTrue(SetupVersion.objects.get(pk=version.parent_id).setup.moves_like(setup))

    def test_what_nothing_refers_to_goes_and_its_room_with_it(self):
        glb, setup = mudwick.build()
        row = bring_in(glb, "Mudwick.glb", setup)
        size = _pages()
        self.client.post(f"/characters/{row.pk}/delete/")
        self.assertIn("can be brought back", self.client.get("/").content.decode())
        forget_removed()
        self.assertTrue(Character.everything.filter(pk=row.pk).exists())
        Character.everything.update(removed=timezone.now() - timedelta(hours=2))
        forget_removed()
        forget_old_versions()
        forget_blobs()
        self.assertEqual(Blob.objects.count(), 0)
        housekeeping.give_back()
        self.assertLess(_pages(), size - len(glb) // 4)

    def test_old_versions_out_of_reach_go_but_those_of_takes_stay(self):
        self.dial("wobble_rate", "3")
        run_waiting_jobs()
        kept = Take.objects.get().version_id
        self.post("motion/follow/")
        with self.settings():
            for k in range(6):
                self.dial("drag", f"{k + 1}")
        from studio.characters import tidying  # noqa: PLC0415

        before, tidying.KEPT_VERSIONS = tidying.KEPT_VERSIONS, 3
        try:
            forget_old_versions()
        finally:
            tidying.KEPT_VERSIONS = before
        left = set(self.fresh.versions.values_list("pk", flat=True))
        self.assertIn(kept, left)
        self.assertEqual(len(left), 4)


def _pages():
    """Bytes of the database in use."""
    from django.db import connection  # noqa: PLC0415

    with connection.cursor() as cursor:
        count, free, size = (cursor.execute(f"PRAGMA {name}").fetchone()[0] for name in ("page_count", "freelist_count", "page_size"))
    return (count - free) * size


class LockedTest(TestCase):
    def test_a_lock_of_the_database_ends_neither_the_watch_nor_the_worker_and_an_edit_is_refused_in_words(self):
        with RunningApp() as app:
            character = app.bring_in_long_arm()
            lock = sqlite3.connect(app.folder / "quiver.sqlite3", timeout=5, isolation_level=None)
            lock.execute("BEGIN IMMEDIATE")
            status, text = app.post_for_status(f"/characters/{character}/motion/upper/dial/", dial="drag", value="3")
            self.assertEqual(status, 503)
            self.assertIn("database is busy", text)
            app.kill_worker()
            time.sleep(2.0)
            lock.execute("ROLLBACK")
            lock.close()
            app.post(f"/characters/{character}/motion/upper/dial/", dial="drag", value="4")
            app.post(f"/characters/{character}/takes/run/", first="0", last="40")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE kind = 'take' AND state = 'finished'"))
            self.assertEqual(app.setup(character)["layers"][0]["dials"]["drag"], 4.0)
