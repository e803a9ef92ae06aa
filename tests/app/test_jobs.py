"""Workers and servers that are killed lose nothing but the take they were in, and leave nobody behind."""

import os
import pathlib
import re
import signal
import subprocess
import sys
import time
from unittest import TestCase

from studio.jobs.management.commands.work import News
from tests.browser.server import ROOT, RunningApp, processes

KILLS = 6
"""Of each kind in this run; more of them by KEEN_KILLS."""
COUNT = int(os.environ.get("KEEN_KILLS", KILLS))


class KilledWorkerTest(TestCase):
    def test_the_take_ends_as_interrupted_and_can_be_run_again(self):
        with RunningApp() as app:
            character = app.bring_in_long_arm()
            versions = app.query("SELECT count(*) FROM characters_setupversion")
            app.post(f"/characters/{character}/takes/run/")
            pid = app.wait_for(lambda: app.query("SELECT worker_pid FROM jobs_job WHERE state = 'running' AND done > 0"))
            os.kill(pid, signal.SIGKILL)
            killed = time.monotonic()
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'interrupted'"))
            self.assertLess(time.monotonic() - killed, 15.0)
            page = app.get(f"/characters/{character}/takes/")
            self.assertIn("Nothing else was lost", page)
            self.assertEqual(app.query("SELECT count(*) FROM characters_setupversion"), versions)
            take = re.search(r"/takes/(\d+)/again/", page)[1]
            app.post(f"/takes/{take}/again/")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'running' AND done > 0"))
            app.post(f"/takes/{int(take) + 1}/stop/")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'stopped'"))

    def test_killed_again_and_again_it_is_replaced_and_no_edit_is_lost(self):
        with RunningApp() as app:
            character = app.bring_in_long_arm()
            for kill in range(COUNT):
                app.post(f"/characters/{character}/takes/run/")
                app.post(f"/characters/{character}/motion/upper/dial/", dial="drag", value=str(kill + 1))
                time.sleep(0.05 * (kill % 7))
                app.kill_worker()
                self.assertEqual(app.setup(character)["layers"][0]["dials"]["drag"], kill + 1.0)
            app.post(f"/characters/{character}/takes/run/", first="0", last="30")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE kind = 'take' AND state = 'finished'"))


class KilledServerTest(TestCase):
    def test_a_worker_whose_server_died_ends_however_early_it_died(self):
        with RunningApp() as app:
            character = app.upload(_arm(), "arm.glb")
            app.post(f"/characters/{character}/motion/add/", joints="upper, lower")
            for kill in range(COUNT):
                app.post(f"/characters/{character}/motion/upper/dial/", dial="drag", value=str(kill + 1))
                app.kill_server()
                app.serve()
                # In the middle of its start, or of the worker's.
                time.sleep(0.15 + 0.35 * (kill % 7))
                app.kill_server()
                app.serve()
                app.wait_for(app._answers)
                self.assertEqual(app.setup(character)["layers"][0]["dials"]["drag"], kill + 1.0)
            own = app.wait_for(lambda: app.worker)
            app.wait_for(lambda: [pid for pid in _workers(app.folder) if pid != own] == [])


def _workers(folder):
    """The workers of one data folder that are alive."""
    found = []
    for pid, words in processes():
        if words[-2:] == ["manage.py", "work"]:
            try:
                environment = pathlib.Path(f"/proc/{pid}/environ").read_bytes()
            except OSError:
                continue
            if str(folder).encode() in environment:
                found.append(pid)
    return found


def _arm():
    from tests.formats.makers import arm, glb_bytes  # noqa: PLC0415

    return glb_bytes(arm())


class NewsTest(TestCase):
    def test_a_worker_ends_with_its_input_even_where_that_ended_before_it_looked(self):
        environment = os.environ | {"KEEN_DATA": os.environ.get("KEEN_DATA", str(ROOT / "var"))}
        with RunningApp() as app:
            environment["KEEN_DATA"] = str(app.folder)
            worker = subprocess.Popen([sys.executable, "manage.py", "work"], cwd=ROOT, env=environment, stdin=subprocess.DEVNULL)
            self.assertEqual(worker.wait(60), 0)
        self.assertTrue(callable(News.wait))


class FullDiskTest(TestCase):
    def test_a_full_disk_is_named_and_what_waits_goes_on_when_there_is_room(self):
        """No file may grow: what SQLite says then is what it says of a full disk."""
        with RunningApp() as app:
            character = app.bring_in_long_arm()
            app.may_write(False)
            status, text = app.post_for_status(f"/characters/{character}/motion/upper/dial/", dial="drag", value="3")
            self.assertEqual(status, 507, text)
            self.assertIn("The disk is full", text)
            app.may_write(True)
            # The worker has no room when the take comes, and it has some later.
            app.may_write(False, app.worker)
            app.post(f"/characters/{character}/motion/upper/dial/", dial="drag", value="4")
            app.post(f"/characters/{character}/takes/run/", first="0", last="20")
            time.sleep(1.0)
            self.assertEqual(app.query("SELECT state FROM jobs_job WHERE kind = 'take'"), "queued")
            app.may_write(True, app.worker)
            app.wait_for(lambda: app.query("SELECT state FROM jobs_job WHERE kind = 'take'") == "finished")
            self.assertEqual(app.setup(character)["layers"][0]["dials"]["drag"], 4.0)
