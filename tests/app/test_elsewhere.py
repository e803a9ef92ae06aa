"""The app with its takes on a cluster: they go on when workers are killed, run beside each other, and can be stopped."""

import os
import signal
import unittest

from quiver import cluster
from tests.browser.server import RunningApp, parent_of, processes


@unittest.skipUnless(cluster.is_there(), "Dask's distributed is not installed")
class ElsewhereTest(unittest.TestCase):
    def test_takes_go_on_when_workers_are_killed_and_can_be_stopped(self):
        app = RunningApp()
        app.environment |= {"KEEN_CLUSTER": "2"}
        with app:
            character = app.bring_in_long_arm()
            first = app.bring_in_long_arm()
            app.post(f"/characters/{character}/takes/run/")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'running' AND done > 0"))
            # A second one is done while the first still runs.
            app.post(f"/characters/{first}/takes/run/", first="0", last="30")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'finished'"))
            running = "SELECT done FROM jobs_job WHERE state = 'running'"
            done = app.query(running)
            workers = [pid for pid, words in processes() if parent_of(pid) == app.worker and any("spawn_main" in word for word in words)]
            self.assertEqual(len(workers), 2)
            for pid in workers:
                os.kill(pid, signal.SIGKILL)
            app.wait_for(lambda: (app.query(running) or 0) > done)
            frames = app.rows("SELECT take_id, first_frame FROM takes_takechunk")
            self.assertEqual(len(frames), len(set(frames)))
            app.post(f"/takes/{app.query('SELECT min(id) FROM takes_take')}/stop/")
            app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'stopped'"))

    def test_where_no_scheduler_answers_the_take_says_so(self):
        app = RunningApp()
        app.environment |= {"KEEN_CLUSTER": "tcp://127.0.0.1:1"}
        with app:
            character = app.bring_in_long_arm()
            app.post(f"/characters/{character}/takes/run/")
            message = app.wait_for(lambda: app.query("SELECT message FROM jobs_job WHERE state = 'failed'"))
            self.assertIn("nothing answers there", message)
