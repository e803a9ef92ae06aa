"""Try-out motions and carriers: of any size and height they begin and end at rest, go as far as they say, and bakes leave carriers out."""

import unittest
from dataclasses import replace

import numpy as np

from quiver.bake import joints
from quiver.demo import mudwick, shapes
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.rig import transforms
from quiver.rig.character import Character, Mesh
from quiver.rig.made_clips import try_out, try_outs
from quiver.rig.motions import CARRIERS, TRY_OUTS, course_of
from quiver.rig.pose import world_matrices
from quiver.run.execute import execute
from quiver.run.keyed import keyed_clip
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, loads
from quiver.setup.model import ChainPick, Setup
from tests.makers import skeleton_of


def pillar(high, away=0.0, roots=1):
    """A Character of so many roots with nothing but a tube so high, beginning at a height of ``away``."""
    skeleton = skeleton_of([(3.0 * k, away, away) for k in range(roots)], [-1] * roots)
    vertices, triangles, _, _ = shapes.tube([(0, 0, 0), (0, high, 0)], (0.1 * high, 0.1 * high), 6, 8)
    return Character("pillar", skeleton, (Mesh("pillar", 0, vertices.astype(np.float32), triangles),), ())


class MotionTests(unittest.TestCase):
    def test_a_try_out_begins_at_rest_and_ends_still(self):
        for high, metres, size, tempo in ((1.7, 1.0, 1.0, 1.0), (0.04, 1.0, 2.0, 0.5), (900.0, 0.01, 0.3, 3.0)):
            character = pillar(high, away=0.3 * high, roots=2)
            for motion in TRY_OUTS:
                with self.subTest(motion=motion.name, high=high):
                    clip = try_out(character, metres, f"try-out: {motion.name}", size, tempo)
                    times = np.linspace(0.0, clip.seconds, 4001)
                    pose = clip.sample(character.skeleton, times)
                    np.testing.assert_allclose(pose.translations[0], character.skeleton.rest.translations, atol=1e-9 * high)
                    still = times > clip.seconds - 0.9 * np.sqrt(high * metres)
                    self.assertLess(np.ptp(pose.translations[still], axis=0).max(), 1e-6 * high)
                    self.assertLess(np.abs(pose.rotations[still] - pose.rotations[-1]).max(), 1e-9)
                    # What is rigid stays so: two roots keep how far they are from each other.
                    apart = np.linalg.norm(pose.translations[:, 1] - pose.translations[:, 0], axis=1)
                    np.testing.assert_allclose(apart, apart[0], rtol=1e-3)

    def test_it_goes_as_far_as_its_size_and_as_fast_as_its_tempo(self):
        box = np.array([[0.0, 0, 0], [0.0, 2.0, 0]])
        far = {"bob": (1, 0.12), "hop": (1, 0.3), "shake": (0, 0.14), "tumble": (1, 0.6)}
        for motion in TRY_OUTS:
            usual = course_of(motion, box, 1.0, 1.0, 1.0)
            for size, tempo in ((0.5, 1.0), (2.0, 4.0)):
                course = course_of(motion, box, 1.0, size, tempo)
                self.assertAlmostEqual(course.go, usual.go / tempo)
                _, shifts = course.placements(np.linspace(0.0, motion.goes * course.go, 20001))
                if motion.name in far and motion.name != "tumble":
                    axis, share = far[motion.name]
                    self.assertAlmostEqual(shifts[:, axis].max(), 2.0 * share * size, delta=0.01 * size)
        # What is four times as high falls half as quickly.
        high = course_of(TRY_OUTS[1], 4.0 * box, 1.0, 1.0, 1.0)
        self.assertAlmostEqual(high.go, 2.0 * course_of(TRY_OUTS[1], box, 1.0, 1.0, 1.0).go)

    def test_a_tumble_goes_once_round_about_the_middle(self):
        box = np.array([[-1.0, 4.0, 0], [1.0, 6.0, 2.0]])
        course = course_of(TRY_OUTS[4], box, 1.0, 1.0, 1.0)
        rotations, shifts = course.placements(np.array([0.0, 0.5, 1.0]) * course.go)
        np.testing.assert_allclose(transforms.to_matrices(rotations[[0, 2]]), np.tile(np.eye(3), (2, 1, 1)), atol=1e-9)
        middle = transforms.rotate(rotations[1], np.array([0.0, 5.0, 1.0])) + shifts[1]
        np.testing.assert_allclose(middle, [0.0, 5.0 + 0.6 * 2.0, 1.0], atol=1e-9)

    def test_a_carrier_moves_before_the_clip_too_and_nothing_leaps(self):
        box = np.array([[0.0, 0, 0], [0.0, 1.5, 0]])
        for motion in CARRIERS:
            course = course_of(motion, box, 1.0, 1.0, 1.0)
            times = np.arange(-1.5, 40.0, 1e-3)
            rotations, shifts = course.placements(times)
            np.testing.assert_allclose(shifts[times < -1.0], 0.0, atol=1e-12)
            speed = np.diff(shifts, axis=0) * 1e3
            self.assertLess(np.abs(np.diff(speed, axis=0)).max(), 0.35)
            self.assertGreater(np.ptp(shifts[:, 1]), 0.02)
            self.assertLess(np.degrees(2.0 * np.arccos(np.abs(rotations[:, 3]).clip(max=1.0))).max(), 8.0)

    def test_unknown_names_are_told_with_those_there_are(self):
        with self.assertRaisesRegex(BadInput, "try-out: bob.*got “try-out: fly”"):
            try_out(pillar(1.0), 1.0, "try-out: fly")
        self.assertEqual(len(try_outs()), 6)


class CarriedTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.character, _ = read_character(mudwick.build()[0], "Mudwick")

    def test_the_roots_alone_are_moved_and_uncarried_is_the_clip(self):
        carried, plain = keyed_clip(self.character, Setup(carrier="deck"), "idle"), self.character.clip("idle")
        times, skeleton = np.arange(30) / 24.0, self.character.skeleton
        here, there = carried.sample(skeleton, times), plain.sample(skeleton, times)
        below = skeleton.parents >= 0
        np.testing.assert_array_equal(here.rotations[:, below], there.rotations[:, below])
        self.assertGreater(np.abs(here.translations - there.translations).max(), 0.01)
        again = carried.uncarried.sample(skeleton, times)
        np.testing.assert_array_equal(again.rotations, there.rotations)
        # What was moved in the world comes back with the carrier's turns taken out.
        worlds = world_matrices(skeleton, here), world_matrices(skeleton, there)
        ways = [world[:, 5:, :, 3] - world[:, :1, :, 3] for world in worlds]
        np.testing.assert_allclose(carried.uncarry(times, ways[0]), ways[1], atol=1e-9)

    def test_a_chain_swings_on_a_carrier_and_its_bake_leaves_that_out(self):
        setup = edits.with_new_chain(Setup(preroll_frames=24.0), ChainPick("tail_1"))
        moved = {}
        for carrier in ("none", "deck", "cart"):
            plan = compile_plan(TakeSpec(self.character, replace(setup, carrier=carrier), "", last_frame=36))
            rotations, *_ = joints.gather(execute(plan))
            moved[carrier] = np.ptp(rotations, axis=0).max()
            baked = joints.bake(
                self.character, plan.clip.uncarried, 24.0, 0, plan.rotated, plan.translated, rotations, np.zeros((37, 0, 3)), 0, 36
            )
            roots = set(np.flatnonzero(self.character.skeleton.parents < 0))
            self.assertFalse(roots & {track.node for track in baked.tracks})
        self.assertLess(moved["none"], 1e-3)
        self.assertGreater(min(moved["deck"], moved["cart"]), 10.0 * moved["none"])

    def test_a_try_out_is_written_with_the_motion_of_its_roots(self):
        setup = edits.with_new_chain(Setup(preroll_frames=0.0), ChainPick("tail_1"))
        plan = compile_plan(TakeSpec(self.character, setup, "try-out: bob"))
        rotations, *_ = joints.gather(execute(plan))
        last = plan.last_frame
        baked = joints.bake(
            self.character, plan.clip, 24.0, 0, plan.rotated, plan.translated, rotations, np.zeros((last + 1, 0, 3)), 0, last
        )
        root = int(np.flatnonzero(self.character.skeleton.parents < 0)[0])
        track = next(each for each in baked.tracks if each.node == root and each.path == "translation")
        self.assertGreater(np.ptp(track.values[:, 1]), 0.1)
        self.assertGreater(np.ptp(rotations[: 3 * 24], axis=0).max(), 0.01)

    def test_other_try_outs_and_no_carrier_leave_the_motion_as_it_was(self):
        setup = Setup()
        self.assertTrue(setup.moves_like(replace(setup, tryout_size=200.0, carrier_tempo=50.0), "walk"))
        self.assertFalse(setup.moves_like(replace(setup, tryout_size=200.0), "try-out: hop"))
        self.assertFalse(setup.moves_like(replace(setup, carrier="cart"), "walk"))
        riding = replace(setup, carrier="cart")
        self.assertFalse(riding.moves_like(replace(riding, carrier_size=50.0), "walk"))
        self.assertEqual(loads(dumps(replace(riding, tryout_tempo=150.0))), replace(riding, tryout_tempo=150.0))
        with self.assertRaisesRegex(BadInput, "carrier"):
            loads(dumps(setup).replace('"carrier": "none"', '"carrier": "swan"'))
