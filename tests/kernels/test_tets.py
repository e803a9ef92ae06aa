"""The tetrahedron kernel and the packing against their own plain copies."""

from copy import deepcopy
from unittest import TestCase, mock

import numpy as np

from quiver.kernels import measures, packing, soft
from quiver.kernels.lanes import LANES
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup.model import PullDriver
from quiver.sim import solid
from tests.muscles import LOWER, limb, muscle_layer, setup_of, spindle
from tests.solids import Run, bar, plain_steps, rest_in

compiled, POSITIONS, SETTLING, TOUCHES = soft.advance_soft, 4, 11, 13
"""The kernel, and where some of what it takes is."""


class PlainCopyTest(TestCase):
    def test_compiled_is_plain(self):
        made, body = bar(0.12)
        run = Run(made, body, 5e4, longest=1.02, settles=True, damping_factor=0.99)
        rest_in(run.model, made.nodes * [1.0, 1.2, 0.9])
        rng = np.random.default_rng(0)
        shift = rng.normal(0.0, 0.02, made.nodes.shape) * body.is_free[:, None]
        still, pull = np.repeat(made.nodes[None], 4, 0), np.linspace(-0.08, 0.0, made.nodes.size).reshape(-1, 3)

        def scene():
            state, (fans, indices, params, *rest), (length_limit_indices, length_limit_params, starts) = (
                solid.SolidState(made.nodes + shift),
                run.model.tets,
                run.model.length_limits,
            )
            layout = (fans, indices, params.copy(), *rest), (length_limit_indices, length_limit_params.copy(), starts)
            factors = (run.model.damping, np.float32(0.999), np.float32(50.0))
            masses, rows = (
                (run.model.inverse_masses, state.pulls(pull), *factors),
                (solid.NO_TOUCHES, run.model.pieces, run.model.rows, run.model.holds),
            )
            goals = solid.volume_goals(run.model, state, (still, made.nodes), "keyed")
            return state, (state.positions, *masses, layout, *goals, *rows, still, made.nodes, state.rows, state.goals(4), state.scratch)

        (fast, ours), (slow, plain) = scene(), scene()
        start = [0, 1, np.zeros(1, np.int64), np.float32(run.model.dt)]
        soft.advance_soft(*start, *ours)
        with plain_steps():
            soft.advance_soft.py_func(*start, *plain)
        self.assertGreater(np.abs(fast.velocities).max(), 0.1)
        np.testing.assert_allclose(fast.positions, slow.positions, atol=2e-6)
        np.testing.assert_allclose(fast.velocities, slow.velocities, atol=1e-3)

    def test_compiled_is_plain_for_muscles_that_are_pulled_and_touch(self):
        """A frame of a take as it came to the kernel: fibres that shorten and get firmer, volumes, and what keeps two muscles apart."""
        pieces = [spindle([0.03, height, z], [0.34, height, -z], 0.03) for height, z in ((0.05, 0.03), (0.09, -0.03))]
        character, pulled = limb(pieces, bend=70.0, seconds=0.5), (PullDriver("angle", LOWER, 0.0, 40.0),)
        layer = muscle_layer(at=(0, len(pieces[0][0])), drivers=pulled, cell_size=55.0, wobble_rate=1.5, settle_time=30.0, firmer=200.0)
        plan, frames = compile_plan(TakeSpec(character, setup_of(layer), "bend")), []
        with mock.patch.object(soft, "advance_soft", lambda *given: frames.append(deepcopy(given)) or compiled(*given)):
            list(execute(plan, threads=1))
        given = frames[-1]
        self.assertGreater(len(given[TOUCHES][4][0]), 3)
        self.assertGreater(given[SETTLING][3].min(), 0.05)
        self.assertGreater(len(given[SETTLING][8][0]), 0)
        ours, plain = deepcopy(given), deepcopy(given)
        compiled(*ours)
        with plain_steps():
            compiled.py_func(*plain)
        moved = np.abs(ours[POSITIONS] - given[POSITIONS]).max()
        self.assertGreater(moved, 0.002)
        np.testing.assert_allclose(ours[POSITIONS], plain[POSITIONS], atol=2e-3 * moved)

    def test_a_pull_for_all_is_the_same_pull_for_each(self):
        made, body = bar(0.12)

        def moved(pull):
            run = Run(made, body, 5e4)
            solid.advance(run.model, run.state, run.targets, made.nodes, pull=pull)
            return run.state.positions

        everywhere = np.array([0.0, -9.81, 1.0])
        np.testing.assert_array_equal(moved(everywhere), moved(np.tile(everywhere, (len(made.nodes), 1))))

    def test_two_threads_are_one_to_the_bit(self):
        made, body = bar(0.04)

        def moved(threads):
            run = Run(made, body, 5e4, gravity=(0.0, -9.81, 0.0))
            self.assertEqual(len(run.model.rows), 3)
            for _ in range(5):
                solid.advance(run.model, run.state, run.targets, made.nodes, threads=threads)
            return run.state.positions

        np.testing.assert_array_equal(moved(1), moved(2))

    def test_measuring_is_plain(self):
        made, _ = bar(0.12)
        edges, lengths = np.array([[0, 1], [2, 5]], np.int32), np.array([0.1, 0.2])
        moved = made.nodes + np.random.default_rng(1).normal(0.0, 0.02, made.nodes.shape)
        for measure, shape in (
            (measures.sixfold_volume, (made.tets,)),
            (measures.area, (made.tets[:, :3],)),
            (measures.greatest_stretch, (edges, lengths)),
        ):
            np.testing.assert_allclose(measure(moved, *shape), measure.py_func(moved, *shape), rtol=1e-12)

    def test_blocks_name_no_particle_twice_and_every_tetrahedron_once(self):
        made, _ = bar(0.06)
        positions = packing.pack_blocks(made.tets, len(made.nodes))
        np.testing.assert_array_equal(positions[:300], packing.pack_blocks.py_func(made.tets, len(made.nodes))[:300])
        self.assertEqual(len(np.unique(positions, axis=0)), len(made.tets))
        self.assertTrue((positions[:, 1] < LANES).all())
        for block in np.unique(positions[:, 0]):
            named = made.tets[positions[:, 0] == block].ravel()
            self.assertEqual(len(np.unique(named)), len(named))
        self.assertGreater(len(made.tets) / (LANES * len(np.unique(positions[:, 0]))), 0.85)
