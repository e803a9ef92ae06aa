"""Which joints make a chain, and why not."""

from unittest import TestCase

import numpy as np

from quiver.bodies import picking
from quiver.errors import BadInput
from quiver.rig.character import Character
from quiver.rig.clip import Clip
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup
from tests.makers import Run, chain_setup, simulate, skeleton_of, turning_clip, world_of

NAMES = ("base", "a", "b", "c", "fork", "left", "right", "right_tip")
PARENTS = [-1, 0, 1, 2, 3, 4, 4, 6]
POSITIONS = [[0, 0, 0], [0, 0, 0], [1, 0, 0], [1, 0, 0], [1, 0, 0], [1, 1, 0], [1, -1, 0], [1, 0, 0]]


def character(positions=POSITIONS):
    return Character("test", skeleton_of(positions, PARENTS, NAMES), (), ())


def names_of(pick):
    who = character()
    return [[who.skeleton.names[node] for node in nodes] for nodes in picking.resolve(who, pick)]


class ResolveTest(TestCase):
    def test_root_to_end(self):
        self.assertEqual(names_of(ChainPick("a", "c")), [["a", "b", "c"]])
        self.assertEqual(names_of(ChainPick("b", "right")), [["b", "c", "fork", "right"]])

    def test_a_branch_is_refused_by_name_unless_chosen(self):
        with self.assertRaisesRegex(BadInput, "branches at “fork” into right, left"):
            names_of(ChainPick("a"))
        self.assertEqual(names_of(ChainPick("a", branches=True)), [["a", "b", "c", "fork", "right", "right_tip"], ["left"]])

    def test_picked_joints_must_have_no_gap(self):
        self.assertEqual(names_of(ChainPick(picked=("b", "c", "fork"))), [["b", "c", "fork"]])
        with self.assertRaisesRegex(BadInput, "gap: b, c lies between “a” and “fork”"):
            names_of(ChainPick(picked=("a", "fork")))
        with self.assertRaisesRegex(BadInput, "not below"):
            names_of(ChainPick(picked=("left", "right")))

    def test_unknown_names_and_wrong_ends(self):
        with self.assertRaisesRegex(BadInput, "nobody"):
            names_of(ChainPick("nobody"))
        with self.assertRaisesRegex(BadInput, "below “c”"):
            names_of(ChainPick("c", "a"))


class LinesTest(TestCase):
    def lines(self, *names):
        return [(pick.root, pick.end) for pick in picking.lines(character(), names)]

    def test_joints_below_each_other_are_one_chain_and_others_a_chain_each(self):
        self.assertEqual(self.lines("b", "a", "c"), [("a", "c")])
        self.assertEqual(self.lines("a", "fork"), [("a", "fork")])
        self.assertEqual(self.lines("left", "right"), [("left", ""), ("right", "")])
        self.assertEqual(self.lines("left", "right", "right_tip", "left"), [("left", ""), ("right", "right_tip")])
        self.assertEqual(self.lines("c", "left", "right", "right_tip"), [("c", "right_tip"), ("left", "")])
        with self.assertRaisesRegex(BadInput, "no joints called ghost"):
            self.lines("a", "ghost")

    def test_where_a_chain_branches_its_ends_are_told_and_taken(self):
        who = character()
        self.assertEqual(picking.tips(who, "a"), ["right_tip", "left"])
        self.assertEqual(picking.tips(who, "right"), ["right_tip"])
        self.assertEqual(picking.to_tips(who, "a", ["right_tip", "left"]), [ChainPick("a", "right_tip"), ChainPick("left", "left")])
        self.assertEqual(picking.to_tips(who, "a", ["left"]), [ChainPick("a", "left")])

    def test_the_axis_of_a_joint_alone(self):
        who = character()
        self.assertEqual(picking.lone_axis(who, ChainPick("right", "right")), "x")
        self.assertIsNone(picking.lone_axis(who, ChainPick("a", "c")))


class PathTest(TestCase):
    def path(self, who, pick):
        notes = []
        return picking.chain_path(who, picking.resolve(who, pick)[0], notes, "test"), notes

    def test_zero_length_joints_ride_along_with_a_word(self):
        positions = [row[:] for row in POSITIONS]
        positions[2] = [0.0, 0.0, 0.0]
        path, notes = self.path(character(positions), ChainPick("a", "fork"))
        self.assertEqual(path.drivers.tolist(), [1, 3, 4])
        self.assertEqual(notes, ["test: “b” lies on its parent and rides along"])

    def test_chain_without_any_length_is_refused(self):
        nothing = Character("test", skeleton_of([[0, 0, 0], [0, 0, 0]], [-1, 0]), (), ())
        with self.assertRaisesRegex(BadInput, "with a length"):
            self.path(nothing, ChainPick("j0"))

    def test_last_joint_points_to_its_child_or_straight_on(self):
        path, _ = self.path(character(), ChainPick("b", "c"))
        np.testing.assert_allclose(path.point_offsets[-1], [1, 0, 0])
        path, _ = self.path(character(), ChainPick("right"))
        np.testing.assert_allclose(path.point_offsets[-1], [1, 0, 0])


class StackTest(TestCase):
    def test_two_layers_on_one_joint_are_refused(self):
        setup = edits.with_new_chain(edits.with_new_chain(Setup(), ChainPick("a", "c"), "first"), ChainPick("b", "c"), "second")
        with self.assertRaisesRegex(BadInput, "two chains or props drive “b”: “first” and “second”"):
            Run(TakeSpec(character(), setup, ""))

    def test_a_chain_that_hangs_on_a_chain_follows_it(self):
        skeleton = skeleton_of(POSITIONS, PARENTS, NAMES)
        clip = turning_clip(0, [0.0, 0.3, 2.0], [0.0, 0.6, 0.6])
        both = edits.with_new_chain(edits.with_new_chain(Setup(preroll_frames=0.0), ChainPick("a", "fork")), ChainPick("right"), "tail")
        run, *arrays, _ = simulate(skeleton, clip, both)
        self.assertEqual([len(batch.paths) for batch in run.chains], [1, 1])
        world = world_of(run, *arrays)
        # Stiff to the bit: with its amount at zero the second chain is carried rigidly by the first.
        object.__setattr__(both.layers[1], "amount", ((0.0, 0.0),))
        run, *arrays, _ = simulate(skeleton, clip, both)
        rigid = world_of(run, *arrays)
        np.testing.assert_allclose(rigid[:, 4, :, 3], world[:, 4, :, 3], atol=1e-6)
        self.assertGreater(np.abs(rigid[:, 7, :, 3] - world[:, 7, :, 3]).max(), 0.05)
        lengths = np.linalg.norm(world[:, 7, :, 3] - world[:, 6, :, 3], axis=1)
        np.testing.assert_allclose(lengths, 1.0, atol=1e-5)

    def test_setting_that_asks_for_too_much_says_so(self):
        skeleton = skeleton_of(POSITIONS, PARENTS, NAMES)
        run, *_ = simulate(skeleton, turning_clip(0, [0.0, 0.2], [0, 1.0]), chain_setup("a", "c", wobble_rate=12.0, settle_time=480.0))
        self.assertEqual(run.substeps, 40)
        self.assertIn("settles in 24 frames instead of 480", run.notes[0])

    def test_a_clip_of_one_frame_and_no_clip_at_all(self):
        skeleton = skeleton_of(POSITIONS, PARENTS, NAMES)
        for clips, name in (((turning_clip(0, [0.5], [0.3]),), "clip"), ((), "")):
            run = Run(TakeSpec(Character("one", skeleton, (), clips), chain_setup("a", "c"), name))
            self.assertEqual([len(chunk.rotations) for chunk in run.chunks()], [1])
        with self.assertRaisesRegex(BadInput, "frames"):
            Run(TakeSpec(Character("one", skeleton, (), ()), chain_setup("a", "c"), "", 5, 2))

    def test_stopping_ends_between_chunks(self):
        skeleton = skeleton_of(POSITIONS, PARENTS, NAMES)
        long = Clip("long", turning_clip(0, [0.0, 60.0], [0, 1.0]).channels, 0.0, 60.0)
        run = Run(TakeSpec(Character("one", skeleton, (), (long,)), chain_setup("a", "c"), "long"))
        answers = iter([True, True, False])
        self.assertEqual(sum(len(chunk.rotations) for chunk in run.chunks(lambda: next(answers))), 2 + 4)
