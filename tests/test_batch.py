"""Many takes in one go: each is as if it were alone, one that fails stops no other, and dials are found that make a motion as wanted."""

import unittest
from dataclasses import replace

import numpy as np

from quiver import batch
from quiver.bake import joints
from quiver.errors import BadInput
from quiver.rig.character import Character
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.results import Results
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, loads
from tests.makers import chain_setup, straight, turning_clip


def swung():
    """A Character with a chain and two clips, and a setup with a layer on the chain."""
    skeleton = straight(4)
    clips = (
        turning_clip(0, [0.0, 0.2, 0.5, 1.5], np.radians([0.0, 40.0, 10.0, 10.0]), name="nod"),
        turning_clip(0, [0.0, 0.5, 1.0], np.radians([0.0, 30.0, 0.0]), name="rock"),
    )
    return Character("arm", skeleton, (), clips), chain_setup(wobble_rate=2.0, settle_time=30.0)


class BatchTests(unittest.TestCase):
    def test_a_sweep_s_members_are_single_takes_to_the_bit(self):
        character, setup = swung()
        layer, values = setup.layers[0].id, batch.spread(1.0, 8.0, 4)
        self.assertEqual([round(value, 6) for value in values], [1.0, 2.0, 4.0, 8.0])
        orders = batch.orders_of_sweep(character, setup, "nod", [(layer, "wobble_rate", values), (layer, "settle_time", [10.0, 40.0])])
        self.assertEqual(len(orders), 8)
        results = Results()
        for threads in (1, 2):
            for order, outcome in zip(orders, batch.run(orders, results, threads), strict=True):
                alone = joints.gather(execute(compile_plan(order.spec), threads=1))
                for own, single in zip(outcome.arrays, alone[:3], strict=True):
                    np.testing.assert_array_equal(own, single)
        self.assertIn("wobble_rate 8, ", orders[-1].name)
        # Slower and longer swings go farther.
        moved = [outcome.moved_mm for outcome in batch.run(orders)]
        self.assertGreater(moved[1], moved[-1])

    def test_one_that_fails_stops_no_other_and_all_can_be_stopped(self):
        character, setup = swung()
        broken = edits.with_new_chain(setup, replace(setup.layers[0].chains[0], root="gone"))
        orders = [batch.Order("a", TakeSpec(character, broken, "nod")), *batch.orders_of_clips(character, setup, ["nod", "rock"])]
        outcomes = list(batch.run(orders))
        self.assertIn("gone", outcomes[0].error)
        self.assertEqual([outcome.error for outcome in outcomes[1:]], ["", ""])
        self.assertGreater(outcomes[1].worst["turn"], 1.0)
        heard = []
        stopped = list(batch.run(orders[1:], keep_going=lambda: not heard, told=lambda *where: heard.append(where)))
        self.assertEqual([outcome.error for outcome in stopped], ["it was stopped"])

    def test_a_cycle_goes_around_as_the_setup_says(self):
        character, setup = swung()
        setup = edits.set_cycle(setup, "rock", True)
        nod, rock = batch.run(batch.orders_of_clips(character, setup, ["nod", "rock"]))
        self.assertEqual((nod.cycles, rock.frames), (0, 25))
        self.assertGreater(rock.cycles, 1)
        np.testing.assert_array_equal(rock.arrays[0][0], rock.arrays[0][-1])

    def test_a_sweep_turns_the_dial_that_the_clip_has_for_itself(self):
        character, setup = swung()
        layer = setup.layers[0].id
        own = edits.set_override(setup, "nod", [layer], "wobble_rate", 5.0)
        first, last = (batch.orders_of_sweep(character, each, "nod", [(layer, "wobble_rate", [1.0, 4.0])]) for each in (own, setup))
        for order, other in zip(first, last, strict=True):
            np.testing.assert_array_equal(next(batch.run([order])).arrays[0], next(batch.run([other])).arrays[0])
            # What holds for the other clips stays.
            self.assertEqual(order.spec.setup.layers[0].value("wobble_rate"), 2.0)

    def test_ranges_are_checked(self):
        character, setup = swung()
        layer = setup.layers[0].id
        for ranges in (
            [],
            [(layer, "wobble_rate", [])],
            [(layer, "wobble_rate", [1.0])] * 3,
            [(layer, "speed", [1.0])],
            [("x", "drag", [1.0])],
        ):
            with self.assertRaises(BadInput):
                batch.orders_of_sweep(character, setup, "nod", ranges)
        with self.assertRaises(BadInput):
            batch.spread(1.0, 2.0, 0)
        self.assertEqual(batch.spread(-1.0, 1.0, 3), [-1.0, 0.0, 1.0])

    def test_a_dial_may_have_another_value_on_one_clip(self):
        character, setup = swung()
        layer = setup.layers[0].id
        own = edits.set_override(setup, "nod", [layer], "wobble_rate", 5.0)
        other = edits.set_dial(setup, [layer], "wobble_rate", 5.0)
        nod, rock = batch.run(batch.orders_of_clips(character, own, ["nod", "rock"]))
        np.testing.assert_array_equal(nod.arrays[0], next(batch.run(batch.orders_of_clips(character, other, ["nod"]))).arrays[0])
        np.testing.assert_array_equal(rock.arrays[0], next(batch.run(batch.orders_of_clips(character, setup, ["rock"]))).arrays[0])
        self.assertTrue(own.moves_like(setup, "rock"))
        self.assertFalse(own.moves_like(setup, "nod"))
        self.assertEqual(loads(dumps(own)), own)
        self.assertEqual(edits.set_override(own, "nod", [layer], "wobble_rate", None), setup)
        for clip, dial, value in (("", "wobble_rate", 1.0), ("nod", "speed", 1.0), ("nod", "wobble_rate", 1e9)):
            with self.assertRaises(BadInput):
                edits.set_override(setup, clip, [layer], dial, value)
        with self.assertRaisesRegex(BadInput, "nobody"):
            loads(dumps(own).replace(f'"layer": "{layer}"', '"layer": "nobody"'))
