"""Limbs kept clear: turned just as far as their colliders cross, not beyond the limit, smoothly, and not at all where nothing crosses."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.errors import BadInput
from quiver.poke import Poke
from quiver.rig.character import Character
from quiver.rig.pose import world_matrices
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, loads
from quiver.setup.model import ChainPick, Setup
from tests.makers import Run, clips_of, skeleton_of, turning_clip, world_of

LENGTH, THICK, BODY = 0.5, 0.06, 0.2


def leg():
    """A leg that hangs from a hip and is keyed to swing into a ball beside it, as (Character, Setup)."""
    skeleton = skeleton_of([(0, 1, 0), (0, 0, 0), (0, -LENGTH, 0)], [-1, 0, 1], names=("hips", "leg", "foot"))
    clip = turning_clip(1, np.arange(25) / 24.0, 0.7 * np.sin(np.pi * np.arange(25) / 24.0))
    setup = edits.with_new_chain(replace(Setup(), preroll_frames=0.0), ChainPick("leg", "leg"), kind="limb_clearance")
    place = (0.0, 1.0 - 0.5 * LENGTH, 0.0)
    setup = edits.with_new_collider(setup, "capsule", "leg", joint="leg", place=place, size=(THICK, LENGTH))
    setup = edits.with_new_collider(setup, "ball", "body", joint="hips", place=(0.42, 0.72, 0.0), size=(BODY,))
    return Character("leg", skeleton, (), (clip,)), setup


def with_dials(setup, **values):
    return edits.with_layer(setup, replace(setup.layers[0], values=setup.layers[0].values | values))


def take(character, setup):
    run = Run(TakeSpec(character, setup, "clip"))
    chunks = list(run.chunks())
    rotations, translations = (np.concatenate([getattr(chunk, name) for chunk in chunks]) for name in ("rotations", "translations"))
    clips, _ = clips_of(chunks, run.layer_ids[0])
    added = np.concatenate([chunk.added[:, 0] for chunk in chunks])
    return run, world_of(run, rotations, translations), clips, added


def gap(world):
    """How far the leg's middle line is from the ball's surface and its own thickness, (F,) [m]."""
    a, b, middle = world[:, 1, :, 3], world[:, 2, :, 3], np.array([0.42, 0.72, 0.0])
    share = np.clip(np.einsum("fk,fk->f", middle - a, b - a) / LENGTH**2, 0.0, 1.0)[:, None]
    return np.linalg.norm(a + share * (b - a) - middle, axis=1) - BODY - THICK


class LegTest(TestCase):
    def setUp(self):
        self.character, self.setup = leg()
        self.keyed = world_matrices(self.character.skeleton, self.character.clips[0].sample(self.character.skeleton, np.arange(25) / 24.0))

    def test_it_swings_up_to_the_ball_and_no_further(self):
        run, world, clips, added = take(self.character, with_dials(self.setup, smooth=0.0))
        self.assertLess(gap(self.keyed).min(), -0.05)
        # The line is kept clear at points along it, so between them a little may be left.
        self.assertGreater(gap(world).min(), -6e-3)
        self.assertLess(clips[:, 0].max(), 1e-3)
        self.assertGreater(clips[:, 1].max(), 0.05)
        crossing = gap(self.keyed) < -0.02
        self.assertLess(np.abs(gap(world)[crossing]).max(), 8e-3)
        np.testing.assert_array_equal(added[gap(self.keyed) > 0.01], 0.0)
        self.assertEqual([run.skeleton.names[node] for node in run.rotated], ["leg"])

    def test_smoothing_makes_way_early_and_clears_as_well(self):
        _, world, clips, added = take(self.character, with_dials(self.setup, smooth=4.0))
        self.assertLess(clips[:, 0].max(), 1e-3)
        self.assertGreater(gap(world).min(), -6e-3)
        sharp = take(self.character, with_dials(self.setup, smooth=0.0))[3]
        self.assertGreater((added > 1e-4).sum(), (sharp > 1e-4).sum())
        self.assertLess(np.abs(np.diff(added, 2)).max(), np.abs(np.diff(sharp, 2)).max())

    def test_the_limit_holds(self):
        _, world, clips, _ = take(self.character, with_dials(self.setup, turn_limit=3.0, smooth=0.0))
        turned = np.einsum("fij,fik->fjk", world[:, 1, :, :3], self.keyed[:, 1, :, :3])
        angles = np.degrees(np.arccos(np.clip((np.trace(turned, axis1=1, axis2=2) - 1) / 2, -1, 1)))
        self.assertLess(angles.max(), 3.01)
        self.assertGreater(clips[:, 0].max(), 0.02)

    def test_a_margin_is_kept_and_an_amount_of_zero_changes_nothing(self):
        _, world, _, _ = take(self.character, with_dials(self.setup, margin=30.0, smooth=0.0))
        self.assertAlmostEqual(gap(world).min(), 0.03, delta=8e-3)
        off = edits.with_layer(self.setup, replace(self.setup.layers[0], amount=((0.0, 0.0),)))
        _, world, _, _ = take(self.character, off)
        np.testing.assert_allclose(world, self.keyed, atol=1e-6)

    def test_a_part_of_the_clip_moves_as_the_whole_does(self):
        _, whole, _, _ = take(self.character, self.setup)
        run = Run(TakeSpec(self.character, self.setup, "clip", 8, 16))
        rotations = np.concatenate([chunk.rotations for chunk in run.chunks()])
        np.testing.assert_allclose(world_of(run, rotations, np.zeros((9, 0, 3))), whole[8:17], atol=1e-6)

    def test_poke_stands_in_the_pose_that_is_clear(self):
        poke = Poke(self.character, with_dials(self.setup, smooth=0.0), "clip", 12)
        self.assertLess(gap(self.keyed)[12], -0.05)
        self.assertGreater(gap(world_matrices(poke.run.skeleton, poke.base.repeated(1)))[0], -6e-3)
        poke.step()

    def test_what_overlaps_at_rest_may_stay_so(self):
        ball = self.setup.colliders[1]
        setup = edits.with_collider(self.setup, replace(ball, place=(0.2, 0.72, 0.0)))
        still = Character("leg", self.character.skeleton, (), (turning_clip(1, [0.0, 1.0], [0.0, 0.0]),))
        _, _, clips, added = take(still, setup)
        self.assertEqual((clips.max(), added.max()), (0.0, 0.0))

    def test_without_colliders_it_says_what_is_missing(self):
        for colliders in ((), self.setup.colliders[:1], self.setup.colliders[1:]):
            with self.assertRaisesRegex(BadInput, "fit some under Contacts"):
                Run(TakeSpec(self.character, replace(self.setup, colliders=colliders), "clip"))

    def test_the_document_keeps_it(self):
        self.assertEqual(loads(dumps(self.setup)), self.setup)
