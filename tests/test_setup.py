"""The setup document: checked, published as a schema, and the same after a round trip."""

import json
from dataclasses import replace
from unittest import TestCase

import jsonschema

from quiver import colliders
from quiver import layers as registry
from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.setup import document as setup_document
from quiver.setup import edits
from quiver.setup.model import SCENE_DIALS, ChainPick, Setup
from tests.makers import straight


def document(**changes):
    return setup_document.to_document(edits.with_new_chain(Setup(), ChainPick("tail"), "Tail")) | changes


class RoundTripTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.mudwick = mudwick.build()[1]

    def test_setup_is_the_same_after_writing_and_reading(self):
        stack = edits.with_new_chain(edits.with_new_chain(self.mudwick, ChainPick(picked=("a", "b"))), ChainPick("x", "y", (), True))
        stack = edits.with_layer(stack, replace(stack.layers[0], amount=((0.0, 0.0), (12.5, 1.0)), is_on=False))
        again = setup_document.loads(setup_document.dumps(stack))
        self.assertEqual(setup_document.to_document(again), setup_document.to_document(stack))
        self.assertEqual(again.layers[0].amount_at(6.25), 0.5)
        self.assertEqual(again.layers[0].amount_at(-3), 0.0)
        self.assertEqual(again.layers[0].amount_at(99), 1.0)

    def test_schema_accepts_what_the_core_writes_and_refuses_what_it_refuses(self):
        schema = setup_document.json_schema()
        jsonschema.Draft202012Validator.check_schema(schema)
        check = jsonschema.Draft202012Validator(schema)
        self.assertTrue(check.is_valid(setup_document.to_document(self.mudwick)))
        layer = document()["layers"][0]
        wrong = [
            document(version=3),
            document(extra=1),
            document(layers=[layer | {"dials": {"wobble_rate": 99}}]),
            document(layers=[layer | {"dials": {"springiness": 1}}]),
            document(layers=[layer | {"kind": "magic"}]),
            document(layers=[layer | {"chains": []}]),
            document(layers=[layer | {"amount": [[0, 2]]}]),
            document(frame_rate="fast"),
            document(layers=[{"id": "a", "kind": "volume", "region": "r", "chains": [{"root": "x"}]}]),
            document(regions=[{"id": "r", "mesh": "skin", "vertices": 0, "values": ""}]),
        ]
        for each in wrong:
            with self.subTest(each=str(each)[:200]):
                self.assertFalse(check.is_valid(each))
                with self.assertRaises(BadInput):
                    setup_document.from_document(json.loads(json.dumps(each)))


class RefusalTest(TestCase):
    def test_messages_say_where_what_was_expected_and_what_came(self):
        layer = document()["layers"][0]
        cases = {
            "layers\\[0\\].id: expected a-z": document(layers=[layer | {"id": "Not An Id"}]),
            "different id": document(layers=[layer, layer]),
            "no region “nowhere”": document(layers=[{"id": "a", "kind": "volume", "region": "nowhere"}]),
            "region of 9 vertices": document(regions=[{"id": "r", "mesh": "skin", "vertices": 9, "values": "eJwDAAAAAAE="}]),
            "rising order": document(layers=[layer | {"amount": [[5, 1], [5, 0]]}]),
            "either a root or picked": document(layers=[layer | {"chains": [{"root": "a", "picked": ["b"]}]}]),
            "dials.wobble_rate: expected a number from 0 to 12, got 'nan'": document(
                layers=[layer | {"dials": {"wobble_rate": float("nan")}}]
            ),
        }
        for message, each in cases.items():
            with self.assertRaisesRegex(BadInput, message):
                setup_document.from_document(each)
        for text in ("", "[1, 2", "[]", "null", '{"format": "other"}', "[" * 50_000):
            with self.assertRaises(BadInput):
                setup_document.loads(text)

    def test_names_that_a_character_lacks_are_listed(self):
        stack = edits.with_new_chain(edits.with_new_chain(Setup(), ChainPick("j0", "j9")), ChainPick("ghost"))
        self.assertEqual(stack.unknown_names(straight(3)), ["ghost", "j9"])


class EditTest(TestCase):
    def test_layers_are_named_moved_changed_and_removed(self):
        stack = edits.with_new_chain(
            edits.with_new_chain(edits.with_new_chain(Setup(), ChainPick("tail")), ChainPick("tail")), ChainPick("Ear L")
        )
        self.assertEqual([layer.id for layer in stack.layers], ["tail", "tail-2", "ear-l"])
        self.assertEqual([layer.id for layer in edits.move_layers(stack, ["ear-l"], "tail").layers], ["ear-l", "tail", "tail-2"])
        self.assertEqual([layer.id for layer in edits.shift_layers(stack, ["tail"], -1).layers], ["tail", "tail-2", "ear-l"])
        self.assertEqual([layer.id for layer in edits.without_layers(stack, ["tail-2"]).layers], ["tail", "ear-l"])
        with self.assertRaises(BadInput):
            edits.without_layers(stack, ["nothing"])

    def three(self):
        setup = Setup()
        for name in ("a", "b", "c"):
            setup = edits.with_new_chain(setup, ChainPick(name))
        return setup

    def ids(self, setup):
        return [layer.id for layer in setup.layers]

    def test_several_layers_are_moved_together(self):
        setup = self.three()
        self.assertEqual(self.ids(edits.move_layers(setup, ["a", "b"])), ["c", "a", "b"])
        self.assertEqual(self.ids(edits.move_layers(setup, ["c", "a"], "b")), ["a", "c", "b"])
        self.assertEqual(self.ids(edits.move_layers(setup, ["a"], "a")), ["a", "b", "c"])
        self.assertEqual(self.ids(edits.shift_layers(setup, ["b", "c"], -1)), ["b", "c", "a"])
        self.assertEqual(self.ids(edits.shift_layers(setup, ["a"], 1)), ["b", "a", "c"])
        self.assertEqual(self.ids(edits.shift_layers(setup, ["c"], 1)), ["a", "b", "c"])

    def test_groups_stand_together_and_what_is_moved_inside_joins(self):
        setup = edits.group_layers(self.three(), ["a", "c"], " Head ")
        self.assertEqual([(layer.id, layer.group) for layer in setup.layers], [("a", "Head"), ("c", "Head"), ("b", "")])
        inside = edits.move_layers(setup, ["b"], "c")
        self.assertEqual([(layer.id, layer.group) for layer in inside.layers], [("a", "Head"), ("b", "Head"), ("c", "Head")])
        self.assertEqual(setup_document.loads(setup_document.dumps(inside)), inside)
        self.assertTrue(setup.moves_like(edits.group_layers(setup, ["a"], "")))

    def test_switches_solo_and_copies(self):
        setup = edits.solo(self.three(), ["b"])
        self.assertEqual([layer.is_on for layer in setup.layers], [False, True, False])
        self.assertTrue(all(layer.is_on for layer in edits.switch_layers(setup, ["a", "b", "c"]).layers))
        self.assertFalse(any(layer.is_on for layer in edits.switch_layers(setup, ["b"]).layers))
        copied = edits.duplicate(setup, ["b"])
        self.assertEqual([(layer.name, layer.is_on) for layer in copied.layers], [("a", False), ("b", True), ("b 2", False), ("c", False)])

    def test_linked_layers_change_together_until_they_are_unlinked(self):
        setup = edits.set_dial(self.three(), ["a"], "drag", 9.0)
        setup = edits.link_layers(setup, ["a", "b"])
        self.assertEqual(setup.layer("b").value("drag"), 9.0)
        setup = edits.set_dial(setup, ["b"], "drag", 5.0)
        setup = edits.set_amount(edits.switch_layers(setup, ["a"], False), ["a"], ((0.0, 0.5),))
        for layer in (setup.layer("a"), setup.layer("b")):
            self.assertEqual((layer.value("drag"), layer.is_on, layer.amount), (5.0, False, ((0.0, 0.5),)))
        self.assertEqual(setup.layer("c").value("drag"), self.three().layer("c").value("drag"))
        self.assertEqual(setup_document.loads(setup_document.dumps(setup)), setup)
        apart = edits.set_dial(edits.unlink_layers(setup, ["b"]), ["a"], "drag", 1.0)
        self.assertEqual((apart.layer("a").value("drag"), apart.layer("b").value("drag")), (1.0, 5.0))
        other = edits.with_new_chain(setup, ChainPick("d"), kind="prop")
        with self.assertRaisesRegex(BadInput, "different kinds"):
            edits.link_layers(other, ["a", "d"])

    def test_every_dial_says_what_it_is(self):
        every = [dial for kind in registry.kinds() for dial in kind.dials]
        for dial in (*every, *colliders.DIALS, *SCENE_DIALS):
            self.assertTrue(dial.label[0].isupper(), dial.name)
            self.assertTrue(dial.help.endswith("."), dial.name)
            self.assertTrue(not dial.words or dial.words.endswith("."), dial.name)
            self.assertEqual(dial.checked(dial.default), dial.default)
            with self.assertRaises(BadInput):
                dial.checked("much")
