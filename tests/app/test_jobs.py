"""A worker that is killed loses nothing but the take it was in."""

import os
import re
import signal
import time
from unittest import TestCase

from tests.browser.server import RunningApp


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
