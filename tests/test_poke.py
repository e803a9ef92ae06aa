"""Poke: what a hand does to a character that simulates live, and that it ends as it began."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.poke import DROP_SHARE, Poke
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions
from quiver.setup.model import Attachment, Muscle, MuscleForm, Setup
from tests.makers import chain_setup, moving_clip, straight
from tests.muscles import LOWER, UPPER, limb, muscle_layer, setup_of, spindle
from tests.run.test_skin_contact import arms


class MudwickTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, setup = mudwick.build()
        # Muscles have a test of their own.
        cls.setup = replace(setup, layers=tuple(layer for layer in setup.layers if layer.kind not in ("muscle", "tissue")))
        cls.character, _ = read_character(glb, "Mudwick")

    def setUp(self):
        self.poke = Poke(self.character, self.setup, "walk", 5)
        self.skin = self.character.mesh_index("skin")
        for _ in range(6):
            self.poke.step()

    def positions(self, chunk):
        """Where the skin is (V, 3) in a frame."""
        run, pose = self.poke.run.plan, self.poke.pose.copy()
        pose.rotations[run.rotated] = chunk.rotations[0]
        pose.translations[run.translated] = chunk.translations[0]
        out = skinned_positions(self.character.meshes[self.skin], world_matrices(run.skeleton, pose.repeated(1))[0]).astype(float)
        starts = np.cumsum([0, *map(len, run.moved.values())])
        at = list(run.moved).index(self.skin)
        out[run.moved[self.skin]] += chunk.offsets[0, starts[at] : starts[at + 1]]
        return out

    def steps(self, count):
        return [self.poke.step() for _ in range(count)][-1][0]

    def pulled(self, vertex, by):
        """The held vertex before, while it is pulled, and long after it was let go."""
        before = self.positions(self.steps(1))
        self.poke.obey({"do": "grab", "mesh": self.skin, "vertex": int(vertex), "at": before[vertex].tolist()})
        self.poke.obey({"do": "move", "to": (before[vertex] + by).tolist()})
        while_held = self.positions(self.steps(16))
        self.poke.obey({"do": "release"})
        return before, while_held, self.positions(self.steps(80))

    def test_flesh_goes_with_the_hand_and_comes_back(self):
        belly = self.poke.run.soft_bodies[0]
        vertex, by = belly.vertices[np.argmax(belly.blend)], np.array([0.06, -0.12, 0.0])
        before, held, after = self.pulled(vertex, by)
        self.assertLess(np.linalg.norm(held[vertex] - before[vertex] - by), 0.04)
        self.assertLess(np.linalg.norm(after - before, axis=1).max(), 0.01)
        far = before[:, 2] > 0.8
        self.assertLess(np.linalg.norm((held - before)[far], axis=1).max(), 0.01)

    def test_a_tail_bends_to_the_hand_and_nothing_else_does(self):
        vertex = int(np.argmin(self.character.meshes[self.skin].positions[:, 2]))
        by = np.array([0.35, 0.25, 0.25])
        before, held, after = self.pulled(vertex, by)
        self.assertLess(np.linalg.norm(held[vertex] - before[vertex] - by), 0.15)
        self.assertLess(np.linalg.norm((held - before)[before[:, 2] > 0.3], axis=1).max(), 0.02)
        self.assertLess(np.linalg.norm(after - before, axis=1).max(), 0.03)

    def test_a_ball_dents_the_belly_and_flies_off(self):
        chunk, things = self.poke.step()
        self.assertIsNone(things["ball"])
        self.poke.obey({"do": "throw", "from": [2.5, 0.7, -0.1], "at": [0.34, 0.62, -0.1], "speed": 8})
        column, added, way = self.poke.run.plan.layer_ids.index("belly"), [], []
        for _ in range(40):
            chunk, things = self.poke.step()
            added.append(float(chunk.added[0, column]))
            way.append(things["ball"])
        way = np.array(way)
        self.assertGreater(max(added), 0.03)
        self.assertLess(way[:, 0].min(), 0.6)
        self.assertGreater(way[-1, 0], 0.6)
        self.assertGreater(way[:, 1].min(), self.poke.low)

    def test_it_falls_onto_its_feet(self):
        before = self.positions(self.steps(1))
        self.poke.obey({"do": "drop"})
        blanket, chunks = self.poke.run.plan.layer_ids.index("saddle-blanket"), [self.steps(1) for _ in range(40)]
        heights = [self.positions(chunk)[:, 1].min() for chunk in chunks]
        # It is lifted at once: nothing is left behind in the air.
        self.assertLess(max(chunk.added[0, blanket] for chunk in chunks), 0.3)
        self.assertGreater(max(heights), before[:, 1].min() + 0.6 * DROP_SHARE * self.poke.size)
        self.assertGreater(min(heights), before[:, 1].min() - 0.02)
        self.assertLess(np.linalg.norm(self.positions(self.steps(60)) - before, axis=1).max(), 0.05)

    def test_a_plate_comes_from_nowhere_without_sweeping_over_anything(self):
        still = self.steps(1)
        self.poke.obey({"do": "press", "to": [0.0, 0.33, -0.1]})
        chunk, things = self.poke.step()
        self.assertEqual(things["plate"], [0.0, 0.33, -0.1])
        ids = self.poke.run.plan.layer_ids
        for layer in ("frill", "tail", "barbels"):
            self.assertAlmostEqual(chunk.added[0, ids.index(layer)], still.added[0, ids.index(layer)], delta=4e-3)
        pressed = self.steps(10)
        self.assertGreater(pressed.added[0, ids.index("belly")], 0.01)

    def test_it_is_the_same_each_time(self):
        def way():
            poke = Poke(self.character, self.setup, "walk", 5)
            poke.obey({"do": "throw", "from": [2.5, 0.7, -0.1], "at": [0.34, 0.62, -0.1]})
            return [poke.step()[0].offsets for _ in range(12)]

        np.testing.assert_array_equal(way(), way())


class MuscleTest(TestCase):
    def test_a_muscle_goes_with_the_hand_and_comes_back(self):
        """One of the file and one that is made here alike."""
        piece = spindle([0.03, 0.05, 0.0], [0.34, 0.05, 0.0], 0.03)
        form = MuscleForm(((0.03, 1.05, 0.0), (0.18, 1.05, 0.0), (0.34, 1.05, 0.0)), "spindle", 0.06, 0.06)
        character = limb([piece], bend=30.0)
        for own, mesh in ((muscle_layer().muscles[0], 0), (Muscle("m", "M", "", 0, *map(Attachment, (UPPER, LOWER)), form=form), 1)):
            with self.subTest(mesh=mesh):
                poke = Poke(character, setup_of(replace(muscle_layer(wobble_rate=3.0), muscles=(own,))), "bend", 0)
                held = poke.character.meshes[mesh]
                place = world_matrices(poke.run.skeleton, poke.pose.repeated(1))[0][held.node, :, 3] + held.positions
                vertex = int(np.argmin(np.linalg.norm(place - [0.18, 1.08, 0.0], axis=1)))
                moves = []
                poke.obey({"do": "grab", "mesh": mesh, "vertex": vertex, "at": place[vertex].tolist()})
                poke.obey({"do": "move", "to": (place[vertex] + [0.0, 0.02, 0.0]).tolist()})
                for step in range(50):
                    if step == 20:
                        poke.obey({"do": "release"})
                    chunk, _ = poke.step()
                    at = int(np.searchsorted(poke.run.plan.moved[mesh], vertex))
                    moves.append(chunk.offsets[0, at])
                np.testing.assert_allclose(moves[19], [0.0, 0.02, 0.0], atol=0.004)
                np.testing.assert_allclose(moves[-1], 0.0, atol=0.001)


class WishTest(TestCase):
    def test_what_cannot_be_done_is_refused_and_nothing_happens(self):
        poke = Poke(arms(), Setup(), "clip", 0)
        for wish in (
            *({}, [], {"do": []}, {"do": "sing"}, {"do": "grab"}, {"do": "grab", "mesh": 5, "vertex": 0, "at": [0, 0, 0]}),
            *({"do": "grab", "mesh": 0, "vertex": 10**6, "at": [0, 0, 0]}, {"do": "grab", "mesh": 0, "vertex": 1, "at": [0, 0]}),
            *({"do": "throw", "from": [0, 0, 0]}, {"do": "throw", "from": [0, 0, 1], "at": [0, 0, 0], "speed": 1e9}),
            *({"do": "press", "to": "here"}, {"do": "press", "to": [0, 0, float("nan")]}),
        ):
            with self.assertRaises(BadInput, msg=wish):
                poke.obey(wish)
        poke.obey({"do": "move", "to": [0, 0, 0]})
        poke.obey({"do": "release"})
        chunk, things = poke.step()
        self.assertEqual(things, {"ball": None, "plate": None})
        self.assertEqual(chunk.offsets.size, 0)

    def test_the_whole_goes_where_the_hand_goes(self):
        poke = Poke(arms(), Setup(), "clip", 0)
        poke.obey({"do": "grab", "mesh": 0, "vertex": 3, "at": [0, 0, 0], "whole": True})
        poke.obey({"do": "move", "to": [0.5, 0.2, 0]})
        for _ in range(20):
            chunk, _ = poke.step()
        np.testing.assert_allclose(chunk.translations[0], [[0.5, 0.2, 0], [0.5, 0.5, 0]], atol=1e-4)
        np.testing.assert_allclose(chunk.rotations[0], [[0, 0, 0, 1]] * 2)

    def test_a_character_without_a_mesh_can_be_poked(self):
        skeleton = straight(4)
        character = type(arms())("test", skeleton, (), (moving_clip(0, [0.0, 1.0], [(0, 0, 0), (0, 0, 0)]),))
        poke = Poke(character, chain_setup(gravity=100.0), "clip", 0)
        poke.obey({"do": "throw", "from": [1, 1, 1], "at": [0, 0, 0]})
        for _ in range(30):
            chunk, _ = poke.step()
        self.assertTrue(np.isfinite(chunk.rotations).all())
