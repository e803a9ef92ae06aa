"""Results by digest: what is known is not simulated again, what depends on a change is, and every bit is as if nothing had been known."""

from dataclasses import replace
from unittest import TestCase, mock

import numpy as np

from quiver.demo import mudwick
from quiver.digests import digest_of
from quiver.formats.gltf.reading import read_character
from quiver.run.execute import Execution, execute
from quiver.run.plan import compile_plan
from quiver.run.results import Results, bytes_of
from quiver.run.spec import TakeSpec
from quiver.setup import edits

CLIP = "hop and land"


class ResultsTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")
        cls.results = Results()
        cls.whole = cls.take(cls.setup, cls.results)

    @classmethod
    def take(cls, setup, results=None, **frames):
        return list(execute(compile_plan(TakeSpec(cls.character, setup, CLIP, **frames)), results))

    def assert_same(self, chunks, others):
        for chunk, other in zip(chunks, others, strict=True):
            for name in ("first_frame", "rotations", "translations", "offsets", "added"):
                np.testing.assert_array_equal(getattr(chunk, name), getattr(other, name), name)
            self.assertEqual(chunk.measures.keys(), other.measures.keys())
            for layer_id, measured in chunk.measures.items():
                for name, values in measured.items():
                    np.testing.assert_array_equal(values, other.measures[layer_id][name], f"{layer_id} {name}")

    def simulated(self, setup, **frames):
        """The layers of which something was simulated, with what is known of the whole take, and the take."""
        plan, ran = compile_plan(TakeSpec(self.character, setup, CLIP, **frames)), set()
        execution = Execution(plan, self.results)
        for node, part in execution.running.items():
            plain = part.simulate
            names = {layer.id for layer in node.part.layers}
            part.simulate = lambda *args, plain=plain, names=names: ran.update(names) or plain(*args)
        return ran, list(execution.chunks())

    def test_what_is_known_is_not_simulated_again(self):
        ran, again = self.simulated(self.setup)
        self.assertEqual(ran, set())
        self.assert_same(again, self.whole)

    def test_a_dial_runs_its_layer_and_what_follows_it(self):
        for layer_id, expected in (
            ("frill", {"frill"}),
            ("bell", {"bell"}),
            ("tail", {"tail", "belly", "tail-muscles", "tissue"}),
            ("tissue", {"tissue"}),
            ("saddle-blanket", {"saddle-blanket"}),
        ):
            changed = edits.set_dial(self.setup, [layer_id], "settle_time", self.setup.layer(layer_id).value("settle_time") + 5.0)
            ran, chunks = self.simulated(changed)
            self.assertEqual(ran, expected)
            self.assert_same(chunks, self.take(changed))

    def test_an_amount_runs_nothing_but_what_follows_its_layer(self):
        half = edits.set_amount(self.setup, ["tail"], ((0.0, 0.5),))
        ran, chunks = self.simulated(half)
        self.assertEqual(ran, {"belly", "tail-muscles", "tissue"})
        self.assert_same(chunks, self.take(half))

    def test_names_and_unused_regions_run_nothing(self):
        region = self.setup.regions[0]
        changed = edits.rename_layer(edits.rename_region(self.setup, region.id, "Another name"), "tail", "Rudder")
        changed = edits.with_new_region(changed, "Unused", region.mesh, region.vertices, region.values)
        self.assertEqual(self.simulated(changed)[0], set())

    def test_a_part_of_a_take_is_as_in_the_whole_and_goes_on_where_it_is_known(self):
        whole = np.concatenate([chunk.offsets for chunk in self.whole])
        for first, last in ((20, 40), (0, 3), (33, 33)):
            ran, chunks = self.simulated(self.setup, first_frame=first, last_frame=last)
            self.assertEqual(ran, set())
            self.assertEqual(chunks[0].first_frame, first)
            np.testing.assert_array_equal(np.concatenate([chunk.offsets for chunk in chunks]), whole[first : last + 1])
            alone = self.take(self.setup, None, first_frame=first, last_frame=last)
            np.testing.assert_array_equal(np.concatenate([chunk.offsets for chunk in alone]), whole[first : last + 1])

    def test_a_longer_take_goes_on_from_the_state_of_a_shorter_one(self):
        known = Results()
        self.take(self.setup, known, last_frame=12)
        self.assert_same(self.take(self.setup, known), self.whole)
        self.assertGreater(known.hits, 0)

    def test_frame_rate_clip_and_scale_are_other_results(self):
        first = compile_plan(TakeSpec(self.character, self.setup, CLIP))
        others = [replace(self.setup, frame_rate=25.0), replace(self.setup, metres_per_unit=0.5), replace(self.setup, preroll_frames=3.0)]
        for other in others:
            plan = compile_plan(TakeSpec(self.character, other, CLIP))
            self.assertTrue({node.digest for node in plan.nodes}.isdisjoint(node.digest for node in first.nodes))
        walk = compile_plan(TakeSpec(self.character, self.setup, "walk"))
        self.assertTrue({node.digest for node in walk.nodes}.isdisjoint(node.digest for node in first.nodes))

    def test_pieces_of_any_size_give_the_same_bits(self):
        with mock.patch("quiver.run.plan.MOST_SAMPLES", 60):
            small = self.take(self.setup)
        self.assertGreater(len(small), len(self.whole))
        for name in ("rotations", "offsets", "added"):
            joined = [np.concatenate([getattr(chunk, name) for chunk in chunks]) for chunks in (small, self.whole)]
            np.testing.assert_array_equal(*joined)

    def test_legal_dials_that_need_many_substeps_stay_in_bounded_memory(self):
        """One frame a second with the longest pre-roll: some 100,000 substeps before the first frame."""
        setup = replace(self.setup, frame_rate=1.0, preroll_frames=480.0)
        plan = compile_plan(TakeSpec(self.character, setup, CLIP))
        samples = [plan.substeps * (end - at) for _, at, end in plan.pieces()]
        self.assertGreater(sum(samples), 100_000)
        self.assertLessEqual(max(samples), 4096)


class StoreTest(TestCase):
    def test_it_is_bounded_and_the_oldest_go(self):
        store = Results(10_000)
        for number in range(20):
            store.put({"values": np.zeros(125)}, "digest", number)
        self.assertLessEqual(store.bytes, 10_000)
        self.assertIsNone(store.get("digest", 0))
        self.assertIsNotNone(store.get("digest", 19))
        store.put(np.zeros(5000), "too large")
        self.assertIsNone(store.get("too large"))
        self.assertEqual(bytes_of({"a": [np.zeros(2)], "b": (np.zeros(1), 3)}), 24 + 64)

    def test_digests_tell_values_apart(self):
        values = [
            1,
            1.0,
            True,
            "1",
            b"1",
            None,
            (1,),
            ((1,),),
            [1, 2],
            np.array([1]),
            np.array([1.0]),
            np.array([[1]]),
            {"a": 1},
            1.0 + 2**-52,
        ]
        digests = [digest_of(value) for value in values]
        self.assertEqual(len(set(digests)), len(values))
        self.assertEqual(digest_of({"a": 1, "b": 2}), digest_of({"b": 2, "a": 1}))
        self.assertEqual(digest_of(np.float64(0.1)), digest_of(0.1))
