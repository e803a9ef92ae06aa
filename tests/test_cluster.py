"""Takes on a real cluster on the loopback: the same bits as here, nothing twice, and what was on a worker that is killed is done again."""

import json
import os
import pathlib
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from quiver import batch, cluster, solve
from quiver.errors import BadInput, QuiverError
from quiver.run.spec import TakeChunk
from quiver.wanted import Goal
from tests.test_batch import swung

ROOT = pathlib.Path(__file__).resolve().parent.parent


@unittest.skipUnless(cluster.is_there(), "Dask's distributed is not installed")
class ClusterTests(unittest.TestCase):
    """One scheduler and two workers for all tests, each a process of its own that knows the core alone."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        folder = cls.enterClassContext(tempfile.TemporaryDirectory())
        cls.found = pathlib.Path(folder) / "scheduler.json"
        cls.processes = []
        cls.addClassCleanup(cls.end)
        cls.start("dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--scheduler-file", cls.found)
        while not cls.found.exists():
            time.sleep(0.1)
        for _ in range(2):
            cls.add_worker()
        cls.many = cls.enterClassContext(cluster.Cluster(cls.address()))
        cls.many.client.wait_for_workers(2, timeout=60)

    @classmethod
    def start(cls, command, *options):
        words = [sys.executable, "-m", f"distributed.cli.{command}", *map(str, options)]
        environment = os.environ | {"PYTHONPATH": str(ROOT), "DJANGO_SETTINGS_MODULE": ""}
        cls.processes.append(subprocess.Popen(words, cwd=pathlib.Path(tempfile.gettempdir()), env=environment, stderr=subprocess.DEVNULL))
        return cls.processes[-1]

    @classmethod
    def add_worker(cls):
        return cls.start(
            "dask_worker", "--scheduler-file", cls.found, "--host", "127.0.0.1", "--nthreads", "1", "--no-nanny", "--no-dashboard"
        )

    @classmethod
    def address(cls):
        return json_of(cls.found)["address"]

    @classmethod
    def end(cls):
        for process in cls.processes:
            process.kill()
            process.wait()

    def orders(self, count, low=1.0, high=3.9):
        character, setup = swung()
        return batch.orders_of_sweep(character, setup, "nod", [(setup.layers[0].id, "wobble_rate", batch.spread(low, high, count))])

    def assert_same(self, orders, found):
        for number, alone in enumerate(batch.run(orders)):
            self.assertEqual(found[number].error, "")
            self.assertEqual(found[number].name, alone.name)
            for own, single in zip(found[number].arrays, alone.arrays, strict=True):
                np.testing.assert_array_equal(own, single)

    def test_the_same_bits_in_any_order_and_how_far_they_are(self):
        orders, heard = self.orders(5), []
        self.assertEqual(self.many.workers, 2)
        found = dict(self.many.run(orders, told=lambda *far: heard.append(far)))
        self.assert_same(orders, found)
        self.assertTrue(heard and all(0 <= number < 5 and done <= total for number, done, total in heard))
        self.assertEqual([each.name for each in self.many.in_turn(orders)], [order.name for order in orders])

    def test_what_a_take_yields_comes_as_it_is_made(self):
        (order,) = self.orders(1, 8.1, 8.1)
        for each in (order, replace(order, is_loop=True)):
            here, there = list(batch.made(each)), list(self.many.made(each))
            self.assertEqual([type(item) for item in there], [type(item) for item in here])
            self.assertEqual((there[0].plan, there[0].layer_ids, there[0].rate), (None, here[0].plan.layer_ids, here[0].rate))
            self.assertEqual(there[-1], here[-1])
            for own, other in zip(here, there, strict=True):
                if isinstance(own, TakeChunk):
                    np.testing.assert_array_equal(own.rotations, other.rotations)
                    np.testing.assert_array_equal(own.added, other.added)
        wrong = replace(order, spec=replace(order.spec, clip_name="gone"))
        with self.assertRaisesRegex(QuiverError, "“gone”"):
            list(self.many.made(wrong))
        self.assertEqual(list(self.many.made(order, keep_going=lambda: False)), [])

    def test_dials_are_found_as_they_are_here(self):
        character, setup = swung()
        layer = setup.layers[0].id
        goals, free = [Goal("moves", layer, 20.0, True)], [solve.Free(layer, "wobble_rate", 1.0, 6.0)]
        here = solve.solve(character, setup, "nod", goals, free)
        there = solve.solve(character, setup, "nod", goals, free, take=self.many.in_turn)
        self.assertEqual((here.values, here.found, here.tries), (there.values, there.found, there.tries))

    def test_what_is_asked_of_a_take_is_part_of_its_name(self):
        (order,) = self.orders(1, 8.3, 8.3)
        layer = order.spec.setup.layers[0].id
        asked = [replace(order, goals=(Goal(what, layer, 0.0),)) for what in ("moves", "lags")]
        moves, lags, plain = (next(self.many.in_turn([each])) for each in (*asked, order))
        self.assertNotEqual(moves.found, lags.found)
        self.assertEqual((moves.arrays, plain.found), ((), ()))
        self.assertGreater(len(plain.arrays[0]), 0)

    def test_one_that_stops_takes_nothing_away_from_another(self):
        orders = self.orders(6, 8.4, 8.9)
        one, other = self.many.run(orders), self.many.run(orders)
        next(one), next(other)
        one.close()
        rest = dict(other)
        self.assertEqual((len(rest), {each.error for each in rest.values()}), (5, {""}))
        self.assertEqual(self.many._awaited, {})

    def test_what_is_there_is_not_computed_again_and_errors_come_back(self):
        orders = self.orders(3, 4.0, 5.0)
        first = dict(self.many.run(orders))
        began = time.perf_counter()
        again = dict(self.many.run([*orders[::-1], orders[0]]))
        self.assertLess(time.perf_counter() - began, 2.0)
        self.assertEqual([again[k].seconds for k in (0, 1, 2, 3)], [first[k].seconds for k in (2, 1, 0, 0)])
        spec = orders[0].spec
        wrong = batch.Order("gone", type(spec)(spec.character, spec.setup, "gone"))
        self.assertIn("“gone”", dict(self.many.run([wrong]))[0].error)

    def test_it_can_be_stopped(self):
        orders, heard = self.orders(6, 5.1, 6.0), []
        found = list(self.many.run(orders, keep_going=lambda: not heard, told=lambda *each: heard.append(each)))
        self.assertLess(len(found), 6)
        self.assert_same(orders, dict(self.many.run(orders)))

    def test_a_worker_that_is_killed_loses_nothing(self):
        orders, killed = self.orders(12, 6.1, 7.9), []

        def kill(*_):
            if not killed:
                worker = self.processes[-1]
                killed.append(worker.pid)
                os.kill(worker.pid, signal.SIGKILL)

        found = dict(self.many.run(orders, told=kill))
        self.assertEqual(len(killed), 1)
        self.assert_same(orders, found)
        self.add_worker()
        self.many.client.wait_for_workers(2, timeout=60)

    def test_a_take_whose_worker_is_killed_goes_on_elsewhere(self):
        (order,) = self.orders(1, 8.2, 8.2)
        order = replace(order, spec=replace(order.spec, setup=replace(order.spec.setup, preroll_frames=2.0)))
        here, there = list(batch.made(order)), []
        for item in self.many.made(order):
            there.append(item)
            if len(there) == 1:
                (busy,) = (name for name, own in self.many.client.processing().items() if own)
                pid = self.many.client.run(os.getpid, workers=[busy])[busy]
                os.kill(pid, signal.SIGKILL)
        self.assertEqual([type(item) for item in there], [type(item) for item in here])
        self.add_worker()
        self.many.client.wait_for_workers(2, timeout=60)

    def test_the_worker_has_neither_the_app_nor_its_database(self):
        loaded = self.many.client.run(lambda: [name for name in sys.modules if name.split(".")[0] in ("django", "studio", "channels")])
        self.assertEqual(set(map(tuple, loaded.values())), {()})

    def test_where_nothing_answers_it_says_so(self):
        with (
            mock.patch.object(cluster, "ANSWERS_WITHIN", 0.5),
            self.assertRaisesRegex(BadInput, "nothing answers"),
            cluster.Cluster("tcp://127.0.0.1:1"),
        ):
            pass


def json_of(path):
    """What a scheduler's file says, once it is whole."""

    for _ in range(100):
        try:
            return json.loads(path.read_text())
        except ValueError:
            time.sleep(0.05)
    raise AssertionError("the scheduler's file never came")
