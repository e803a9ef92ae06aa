"""What differs between two setups."""

from unittest import TestCase

from quiver.setup import edits
from quiver.setup.differences import differences
from quiver.setup.model import ChainPick, Setup


class DifferencesTest(TestCase):
    def setUp(self):
        self.setup = edits.with_new_chain(edits.with_new_chain(Setup(), ChainPick("tail"), "Tail"), ChainPick("ear"), "Ear")
        self.setup = edits.with_new_collider(self.setup, "ball", "Head", joint="head")

    def words(self, changed):
        return [f"{name}: {words}" for name, words in differences(self.setup, changed)]

    def test_alike_but_for_names(self):
        self.assertEqual(self.words(self.setup), [])
        self.assertEqual(self.words(edits.group_layers(edits.rename_layer(self.setup, "tail", "T"), ["tail"], "G")), [])

    def test_dials_switches_amounts_and_joints(self):
        changed = edits.set_dial(self.setup, ["tail"], "settle_time", 33.0)
        changed = edits.set_dial(changed, ["tail"], "held", "both")
        changed = edits.set_amount(edits.switch_layers(changed, ["ear"], False), ["ear"], ((0.0, 0.5),))
        self.assertEqual(
            self.words(changed),
            ["Tail: Settle time 24 → 33 frames", "Tail: Held at the root → at both ends", "Ear: off", "Ear: other amount keys"],
        )
        self.assertEqual(self.words(edits.with_chain(self.setup, "tail", ChainPick("tip"))), ["Tail: other joints"])

    def test_layers_scene_and_colliders(self):
        changed = edits.with_new_chain(edits.without_layers(self.setup, ["ear"]), ChainPick("fin"), "Fin")
        self.assertEqual(self.words(changed), ["Fin: new", "Ear: removed"])
        self.assertEqual(self.words(edits.move_layers(self.setup, ["ear"], "tail")), ["Layers: in another order"])
        self.assertEqual(self.words(edits.set_scene(self.setup, "frame_rate", 30.0)), ["Scene: Frame rate 24 → 30 1/s"])
        changed = edits.set_collider(edits.set_collider_dial(self.setup, "head", "margin", 5.0), "head", is_on=False, place=(1.0, 0.0, 0.0))
        self.assertEqual(self.words(changed), ["Head: Margin 2 → 5 mm", "Head: off", "Head: moved or sized"])
        self.assertEqual(self.words(edits.without_collider(self.setup, "head")), ["Colliders: removed: Head"])
