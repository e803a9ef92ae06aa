"""Dials that are found from what the motion should be."""

import itertools
import unittest
from dataclasses import replace

from bench.characters import mudwick_as_shipped
from quiver import batch, solve
from quiver.errors import BadInput
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.model import ChainPick
from quiver.wanted import Goal, measured
from tests.test_batch import swung

ALL = ("moves", "lags", "settles")


class SolveTests(unittest.TestCase):
    def setUp(self):
        self.character, self.setup = swung()
        self.layer = self.setup.layers[0].id
        self.free = [solve.Free(self.layer, "wobble_rate", 0.5, 8.0), solve.Free(self.layer, "settle_time", 5.0, 60.0)]

    def found(self, what, **dials):
        setup = edits.set_dials(self.setup, [self.layer], dials) if dials else self.setup
        goals = (Goal(what, self.layer, 0.0),)
        (outcome,) = batch.run([batch.Order("", TakeSpec(self.character, setup, "nod"), goals=goals)])
        return outcome.found[0]

    def solved(self, goals, free=None, **more):
        return solve.solve(self.character, self.setup, "nod", goals, self.free if free is None else free, **more)

    def test_known_dials_come_back(self):
        for rate, settle in ((2.7, 18.0), (1.1, 44.0), (5.5, 11.0)):
            with self.subTest(rate=rate, settle=settle):
                goals = [Goal(what, self.layer, self.found(what, wobble_rate=rate, settle_time=settle), True) for what in ALL]
                solution = self.solved(goals)
                self.assertAlmostEqual(solution.values[0], rate, delta=0.02 * rate)
                self.assertAlmostEqual(solution.values[1], settle, delta=0.02 * settle)
                self.assertEqual(solution.unmet, [])

    def test_a_dial_of_the_clip_s_own_is_found_as_such(self):
        goals = [Goal(what, self.layer, self.found(what, wobble_rate=3.3), True) for what in ALL]
        self.setup = edits.set_override(self.setup, "nod", [self.layer], "wobble_rate", 6.0)
        solution = self.solved(goals, self.free[:1])
        self.assertAlmostEqual(solution.values[0], 3.3, delta=0.02)
        self.assertEqual(solution.setup.layers[0].value("wobble_rate"), 2.0)
        self.assertAlmostEqual(solution.setup.on("nod").layers[0].value("wobble_rate"), 3.3, delta=0.02)

    def test_what_is_below_at_most_already_stays_as_it_is(self):
        goal = Goal("moves", self.layer, 1.5 * self.found("moves"))
        solution = self.solved([goal])
        self.assertAlmostEqual(solution.values[0], 2.0, delta=0.01)
        self.assertAlmostEqual(solution.values[1], 30.0, delta=0.1)
        # What moves too far is made to move less, and no less than it takes.
        goal = Goal("moves", self.layer, 0.5 * self.found("moves"))
        solution = self.solved([goal])
        self.assertEqual(solution.unmet, [])
        self.assertGreater(solution.found[0], 0.4 * self.found("moves"))

    def test_what_cannot_be_is_told_with_what_comes_nearest(self):
        heard = []
        free = [solve.Free(self.layer, "wobble_rate", 1.0, 2.0)]
        solution = self.solved([Goal("moves", self.layer, 0.1)], free, told=lambda *where: heard.append(where))
        self.assertEqual(len(solution.unmet), 1)
        ends = [self.found("moves", wobble_rate=rate) for rate in (1.0, 1.5, 2.0)]
        self.assertLessEqual(solution.found[0], 1.001 * min(ends))
        self.assertLessEqual(solution.tries, solve.MOST_TRIES)
        self.assertEqual(heard[-1][0], solution.tries)
        # It gets no worse while it goes on.
        self.assertTrue(all(b[2] <= a[2] for a, b in itertools.pairwise(heard)))

    def test_a_lag_is_that_of_a_motion_that_comes_later(self):
        slow, quick = self.found("lags", wobble_rate=0.8), self.found("lags", wobble_rate=6.0)
        self.assertGreater(slow, quick + 1.0)
        self.assertGreater(quick, 0.0)

    def test_a_try_leaves_out_what_comes_after_and_finds_the_same_to_the_bit(self):
        character, setup = mudwick_as_shipped()
        wanted = {"tail": ("moves", "lags", "settles"), "barbels": ("moves", "lags"), "belly": ("moves", "settles")}
        for layer, whats in wanted.items():
            goals = tuple(Goal(what, layer, 0.0) for what in whats)
            order = batch.Order("", TakeSpec(character, setup, "walk", 0, 6), goals=goals)
            plan = compile_plan(order.spec)
            self.assertLess(len(plan.as_far_as({layer}).stages), len(plan.stages))
            found = [measured(plan, list(execute(plan)), goal) for goal in goals]
            self.assertEqual(list(next(batch.run([order])).found), found, layer)
        # What is deep in anything depends on all that moves the skin.
        deep = batch.Order("", TakeSpec(character, setup, "walk", 0, 3), goals=(Goal("clips", "bags", 0.0),))
        (whole,) = batch.run([replace(deep, goals=())])
        self.assertEqual(next(batch.run([deep])).worst, whole.worst)

    def test_stopped_it_gives_the_best_so_far(self):
        tries = []
        goals = [Goal("moves", self.layer, 20.0, True)]
        solution = self.solved(goals, keep_going=lambda: len(tries) < 5, told=lambda *where: tries.append(where))
        self.assertEqual(solution.tries, 5)
        with self.assertRaisesRegex(BadInput, "stopped"):
            self.solved(goals, keep_going=lambda: False)

    def test_it_is_checked_before_anything_runs(self):
        other = edits.with_new_chain(self.setup, ChainPick("j0"), "other").layers[-1].id
        for goals, free in (
            ([], self.free),
            ([Goal("moves", self.layer, 1.0)], []),
            ([Goal("sings", self.layer, 1.0)], self.free),
            ([Goal("moves", "nobody", 1.0)], self.free),
            ([Goal("moves", self.layer, float("nan"))], self.free),
            ([Goal("moves", self.layer, 1.0)], [replace(self.free[0], low=9.0)]),
            ([Goal("moves", self.layer, 1.0)], [replace(self.free[0], high=1e6)]),
            ([Goal("moves", self.layer, 1.0)], [replace(self.free[0], dial="swing_axes")]),
            ([Goal("moves", other, 1.0)], self.free),
        ):
            with self.subTest(goals=goals, free=free), self.assertRaises(BadInput):
                self.solved(goals, free)
