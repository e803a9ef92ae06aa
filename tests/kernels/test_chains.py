"""The chain kernel against its own plain copy, and its limits against what they promise."""

from unittest import TestCase

import numpy as np

from quiver.kernels import chain_contacts as touch
from quiver.kernels import chain_rows as rows
from quiver.kernels import chains as kernel
from quiver.kernels.lanes import LANES
from quiver.kernels.surface_contacts import AWAY, CONTACT_DISTANCE, FRICTION, NORMAL, TRAVEL
from quiver.rig.tree import Tree
from quiver.sim.model import chain_model
from quiver.sim.state import ChainState
from quiver.sim.step import advance, motion_rows
from tests.makers import chain_setup, moving_clip, obstacles, simulate, skeleton_of, straight, turning_clip, world_of
from tests.verification.test_closed_forms import DT, physics

ALONE, FORKED = Tree((5,)), Tree((3, 2, 2), ((-1, -1), (0, 1), (1, 0)))


def scene(rng, tree=ALONE, blocks=2, steps=20, lanes=LANES, floor=None):
    """Random arrays for the kernel, all rules switched on; ``floor`` is how high a skin rises below the chains [m]."""
    n, riders = tree.segments, tree.branches - 1
    params = np.zeros((blocks, n, rows.PARAMS, lanes), np.float32)
    params[:, :, rows.INVERSE_MASS] = rng.uniform(0.5, 2.0, (blocks, n, lanes))
    params[:, :, rows.MASS] = 1.0 / params[:, :, rows.INVERSE_MASS]
    params[:, :, rows.BEND] = rng.uniform(0.02, 10.0, (blocks, n, lanes))
    params[:, :, [rows.DAMPING_FACTOR, rows.DRAG_FACTOR]] = 0.98
    params[:, :, rows.GRAVITY + 1] = -0.04
    params[:, :, rows.COS_LIMIT], params[:, :, rows.SIN_LIMIT] = 0.8, 0.6
    params[:, :, rows.SPEED_LIMIT], params[:, :, rows.STRETCH_LIMIT] = 30.0, 0.05
    motion = np.zeros((steps, blocks, 6 * n + 6 + 3 * riders, lanes), np.float32)
    motion[:, :, 0 : 6 * n : 6] = 0.1
    motion[:, :, 3 : 6 * n : 6] = rng.uniform(-0.004, 0.004, (steps, blocks, n, lanes))
    # Branches go aside, from beside what carries them.
    for i in np.flatnonzero(tree.is_rider):
        motion[:, :, 6 * i], motion[:, :, 6 * i + 2] = 0.03, 0.08
    motion[:, :, 6 * n + 6 :: 3], motion[:, :, 6 * n + 8 :: 3] = 0.06, 0.02
    axes = np.zeros((steps, blocks, 6 * n, lanes), np.float32)
    axes[:, :, 1 : 6 * n : 6] = 1.0
    frames, shapes = obstacles([[0.25, 0.0, 0.05], [0.4, -0.1, 0.0]], [[0.0, 0.0, 0.02, 0.02], [0.03, 0.0, 0.01, 0.0]], steps, friction=0.4)
    reaches = np.full((blocks * 2 * n * 2, lanes), 0.06, np.float32)
    state = np.zeros((blocks * 6 * n, lanes), np.float32)
    record = np.zeros((steps // 5 * blocks * 3 * n, lanes), np.float32)
    samples = np.zeros((0 if floor is None else blocks * n * touch.SAMPLES, touch.SAMPLE, lanes), np.float32)
    # The skin's spots are below the first place of each chain, rise, and look up.
    samples[:, AWAY + 1], samples[:, TRAVEL + 1], samples[:, NORMAL + 1] = 0.1, (floor or 0.0) + 0.1, 1.0
    samples[:, CONTACT_DISTANCE], samples[:, FRICTION], samples[:, touch.CARRIED] = 0.01, 0.3, 1.0
    # Along each segment, from a little behind its begin to its end, and a little beside it.
    samples[:, touch.ALONG] = np.tile(np.linspace(-0.1, 1.0, touch.SAMPLES), len(samples) // touch.SAMPLES)[:, None]
    samples[:, touch.ARM + 2], samples[:, touch.LOOKED] = 0.005, 1.0
    surface_contacts = samples.reshape(-1, lanes)
    flat = [array.reshape(-1, lanes) for array in (params, motion, axes)]
    scratch = np.zeros(((rows.SCRATCH + rows.FORK) * n, lanes), np.float32)
    met = (frames, shapes, reaches), surface_contacts
    return [0, blocks, steps, n, np.float32(DT), state, *flat, tree.forks, *met, True, 5, scratch, record]


class PlainCopyTest(TestCase):
    def test_compiled_is_plain_to_the_bit(self):
        for tree in (ALONE, FORKED):
            with self.subTest(tree=tree):
                fast, slow = scene(np.random.default_rng(2), tree), scene(np.random.default_rng(2), tree)
                kernel.advance_chains(*fast)
                kernel.advance(*slow)
                self.assertGreater(np.abs(fast[5]).max(), 0.01)
                np.testing.assert_array_equal(fast[5], slow[5])
                np.testing.assert_array_equal(fast[-1], slow[-1])

    def test_what_rises_below_lifts_them(self):
        fast, slow = (scene(np.random.default_rng(2), floor=0.05) for _ in range(2))
        kernel.advance_chains(*fast)
        kernel.advance(*slow)
        np.testing.assert_allclose(fast[-1], slow[-1], atol=2e-5)
        # Ends that lengths and limits do not hold below it lie on the skin.
        high = fast[-1].reshape(4, 2, 5, 3, LANES)[-1, :, -1, 1]
        self.assertGreater(np.median(high), 0.05)

    def test_rows_of_any_width_give_the_same_chain(self):
        wide, one = scene(np.random.default_rng(2), blocks=1), scene(np.random.default_rng(2), blocks=1)
        narrow = [np.ascontiguousarray(item[:, 3:4]) if isinstance(item, np.ndarray) and item.shape[-1] == LANES else item for item in one]
        frames, shapes, reaches = narrow[10]
        narrow[10] = frames, shapes, np.ascontiguousarray(reaches[:, 3:4])
        kernel.advance(*wide)
        kernel.advance(*narrow)
        np.testing.assert_array_equal(wide[5][:, 3], narrow[5][:, 0])


class ModelTest(TestCase):
    def test_chains_of_different_lengths_do_not_disturb_each_other(self):
        rng = np.random.default_rng(8)
        counts = (1, 3, 7, 2)
        bodies = [physics(n, stiffness=np.full(n, 300.0), gravity=np.tile([0.0, -9.0, 0.0], (n, 1))) for n in counts]

        def run(chosen):
            model = chain_model([bodies[k] for k in chosen], DT, False)
            points = np.zeros((len(chosen), model.segments + 1, 3))
            for row, k in enumerate(chosen):
                points[row, :, 0] = 0.1 * np.minimum(np.arange(model.segments + 1), counts[k])
            state = ChainState(model)
            motion, _ = motion_rows(model, np.tile(points, (60, 1, 1, 1)), points)
            return advance(model, state, motion)

        together = run((0, 1, 2, 3))
        for k, count in enumerate(counts):
            alone = run((k,))
            np.testing.assert_array_equal(together[:, k, :count], alone[:, 0, :count])
        self.assertTrue(np.isfinite(together).all())
        self.assertEqual(rng.bit_generator.state["bit_generator"], "PCG64")


class LimitTest(TestCase):
    def shaken(self, **dials):
        skeleton = straight(4)
        times = np.arange(37) / 24.0
        shake = np.stack([0 * times, 0.25 * np.sin(9 * times), 0.2 * np.cos(11 * times)], 1)
        run, *arrays, _ = simulate(skeleton, moving_clip(0, times, shake), chain_setup(wobble_rate=0.8, **dials))
        return run, arrays[0]

    def test_bend_limit_holds_at_every_joint(self):
        _, rotations = self.shaken(bend_limit=15.0)
        angles = np.degrees(2 * np.arccos(np.clip(np.abs(rotations[..., 3]), 0, 1)))
        self.assertLess(angles.max(), 15.5)
        self.assertGreater(angles.max(), 12.0)

    def test_bend_limit_tapers_to_the_tip(self):
        _, rotations = self.shaken(bend_limit=40.0, bend_taper=25.0)
        angles = np.degrees(2 * np.arccos(np.clip(np.abs(rotations[..., 3]), 0, 1)))
        self.assertLess(angles[:, -1].max(), 10.5)
        self.assertGreater(angles[:, 0].max(), 15.0)

    def test_only_the_allowed_axis_turns(self):
        for axis, name in ((2, "z"), (1, "y")):
            _, rotations = self.shaken(swing_axes=name)
            others = [k for k in (0, 1, 2) if k != axis]
            self.assertGreater(np.abs(rotations[..., axis]).max(), 0.05)
            self.assertLess(np.abs(rotations[..., others]).max(), 0.02)

    def test_no_axis_allowed_is_the_keyed_clip(self):
        _, rotations = self.shaken(swing_axes="")
        self.assertLess(np.abs(rotations[..., :3]).max(), 1e-3)

    def test_held_at_both_ends_keeps_the_tip_in_its_keyed_place(self):
        skeleton = skeleton_of([[0, 0, 0], [0, 0, 0], *[[0.1, 0.03 * (-1) ** k, 0] for k in range(5)]], list(range(-1, 6)))
        clip = turning_clip(0, [0.0, 0.4, 0.8, 1.5], [0.0, 0.9, -0.5, 0.0])
        setup = chain_setup(end="j4", held="both", gravity=100.0, wobble_rate=1.0)
        run, *arrays, added = simulate(skeleton, clip, setup)
        keyed = world_of(run, run.clip.sample(skeleton, np.arange(37) / 24.0).rotations[:, run.rotated], arrays[1])
        off = np.linalg.norm(world_of(run, *arrays)[:, 6, :, 3] - keyed[:, 6, :, 3], axis=-1)
        self.assertGreater(added.max(), 0.02)
        self.assertLess(off.max(), 0.005)
