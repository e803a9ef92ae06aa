"""Cycles that are run around: found, closed, as long as the clip, and the same as what a long take comes to."""

import unittest
from dataclasses import replace

import numpy as np

from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.character import Character
from quiver.rig.clip import Channel, Clip
from quiver.rig.cycles import CycledClip, is_cycle
from quiver.run.execute import execute
from quiver.run.loops import MOST_CYCLES, Loop, loop_frames
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from tests.makers import chain_setup, straight


def swing(seconds, went=0.0, off=0.0, degrees=40.0, start=0.0, name="swing"):
    """A clip that turns the base of a chain to and fro once, goes ``went`` along X, and ends ``off`` degrees from where it began."""
    times = start + np.linspace(0.0, seconds, 33)
    share = np.linspace(0.0, 1.0, 33)
    turns = transforms.from_axis_angle(np.tile([0.0, 0.0, 1.0], (33, 1)), np.radians(degrees * np.sin(2.0 * np.pi * share) + off * share))
    places = np.stack([went * share, np.zeros(33), np.zeros(33)], axis=1)
    channels = Channel(0, "rotation", "LINEAR", times, turns), Channel(0, "translation", "LINEAR", times, places)
    return Clip(name, channels, start, start + seconds)


def spec_of(clip, **dials):
    skeleton = straight(4)
    return TakeSpec(Character("arm", skeleton, (), (clip,)), chain_setup(**({"wobble_rate": 2.0, "settle_time": 30.0} | dials)), clip.name)


class CycleTests(unittest.TestCase):
    def test_it_is_found_by_its_first_and_last_pose(self):
        skeleton = straight(4)
        for clip, expected in (
            (swing(1.0), True),
            (swing(0.3, went=5.0, start=2.0), True),
            (swing(1.0, off=0.4), True),
            (swing(1.0, off=3.0), False),
            (Clip("still", (), 0.0, 0.0), False),
        ):
            self.assertEqual(is_cycle(clip, skeleton, 0.5), expected)

    def test_it_goes_on_from_where_its_root_came_to_and_does_not_leap(self):
        skeleton = straight(4)
        for off in (0.0, 0.8):
            clip = swing(1.25, went=0.6, off=off, start=0.5)
            around = CycledClip.of(clip, 3)
            self.assertAlmostEqual(around.seconds, 3.75)
            times = np.linspace(0.0, 3.75, 3001)
            pose = around.sample(skeleton, times)
            np.testing.assert_allclose(pose.translations[:, 0, 0], 0.6 * times / 1.25, atol=1e-9)
            turns = pose.rotations[:, 0]
            steps = np.degrees(2.0 * np.linalg.norm(np.diff(turns, axis=0), axis=1))
            self.assertLess(steps.max(), 0.35)
            plain = clip.sample(skeleton, times[times < 0.9])
            np.testing.assert_allclose(pose.rotations[times < 0.9], plain.rotations, atol=1e-12)

    def test_keys_come_again_with_each_cycle(self):
        setup = chain_setup()
        layer = edits.with_layer(setup, replace(setup.layers[0], amount=((0.0, 0.2), (6.0, 1.0), (40.0, 0.0)))).layers[0]
        around = edits.around(replace(setup, layers=(layer,)), 10, 3).layers[0]
        for frame in (0.0, 3.0, 6.0, 9.0, 9.9):
            for turn in range(3):
                self.assertAlmostEqual(around.amount_at(10 * turn + frame), layer.amount_at(frame), places=6)


class LoopTests(unittest.TestCase):
    def test_it_closes_and_is_what_a_long_take_comes_to(self):
        for seconds, went, off, rate in ((1.0, 0.0, 0.0, 24.0), (0.77, 1.3, 0.0, 30.0), (2.0, 0.0, 0.8, 12.0), (0.4, 0.0, 0.0, 60.0)):
            with self.subTest(seconds=seconds):
                spec = spec_of(swing(seconds, went, off))
                spec = replace(spec, setup=replace(spec.setup, frame_rate=rate))
                loop = Loop(spec)
                chunk, report = loop.run()
                count, own_rate = loop_frames(seconds, rate)
                self.assertEqual(len(chunk.rotations), count + 1)
                np.testing.assert_array_equal(chunk.rotations[0], chunk.rotations[-1])
                self.assertEqual(report.restless, [])
                self.assertLess(report.gap[loop.plan.layer_ids[0]][1], 0.1)
                # Sixteen cycles in one take come to the same.
                clip = CycledClip.of(spec.character.clips[0], 16)
                long = TakeSpec(replace(spec.character, clips=(clip,)), replace(spec.setup, frame_rate=own_rate), clip.name)
                rotations = np.concatenate([each.rotations for each in execute(compile_plan(long))])[15 * count :]
                chords = np.linalg.norm(rotations - chunk.rotations, axis=-1)
                self.assertLess(np.degrees(2.0 * chords.max()), 0.1)
                # A plain take of the clip does not close.
                plain = np.concatenate([each.rotations for each in execute(compile_plan(spec))])
                self.assertGreater(np.degrees(2.0 * np.linalg.norm(plain[-1] - plain[0], axis=-1).max()), 0.01)

    def test_what_never_settles_is_led_over_and_told(self):
        # A swing that takes minutes to die out.
        loop = Loop(spec_of(swing(0.9), settle_time=480.0, wobble_rate=0.83))
        chunk, report = loop.run()
        self.assertEqual(report.restless, list(loop.plan.layer_ids))
        self.assertLessEqual(report.cycles, MOST_CYCLES)
        np.testing.assert_array_equal(chunk.rotations[0], chunk.rotations[-1])
        steps = np.linalg.norm(np.diff(chunk.rotations, axis=0), axis=-1).max(1)
        self.assertLess(steps[-1], 1.5 * steps.max() + 1e-3)

    def test_it_can_be_stopped_and_needs_a_clip(self):
        heard = []
        self.assertIsNone(Loop(spec_of(swing(1.0))).run(keep_going=lambda: len(heard) < 2, told=heard.append))
        self.assertEqual(heard[:2], [1, 2])
        with self.assertRaisesRegex(BadInput, "expected a clip to run around"):
            Loop(replace(spec_of(swing(1.0)), clip_name=""))
