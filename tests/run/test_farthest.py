"""A layer that moves farther than its character is large is told; one that does not is not."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.rig.character import Character
from quiver.run.execute import execute
from quiver.run.measures.farthest import far_notes
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from tests.makers import chain_setup, still_clip, straight


class FarthestTest(TestCase):
    def notes(self, setup):
        skeleton = straight(3)
        character = Character("test", skeleton, (), (still_clip(skeleton, 4.0),))
        plan = compile_plan(TakeSpec(character, setup, "clip"))
        return far_notes(plan, np.max([chunk.added.max(0) for chunk in execute(plan)], axis=0))

    def test_it_is_told_with_what_to_do(self):
        self.assertEqual(self.notes(chain_setup(gravity=100.0, wobble_rate=2.0)), [])
        tiny = replace(chain_setup(gravity=200.0, wobble_rate=0.1, stretch=50.0), metres_per_unit=1e-4)
        plan_note = far_notes(_plan(tiny), [1.0])
        self.assertEqual(len(plan_note), 1)
        self.assertRegex(plan_note[0], r"moves \d+ times the character's size; raise the wobble rate")
        self.assertIn("0.02 mm large: check Metres per unit", plan_note[0])
        self.assertNotIn("Metres", far_notes(_plan(chain_setup()), [1.0])[0])


def _plan(setup):
    skeleton = straight(3)
    return compile_plan(TakeSpec(Character("test", skeleton, (), (still_clip(skeleton),)), setup, "clip"))
