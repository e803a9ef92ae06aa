"""The chain solver against mechanics that can be solved by hand."""

from dataclasses import replace
from unittest import TestCase

import numpy as np
from scipy.optimize import brentq

from quiver.bodies import chain as chain_body
from quiver.kernels import chains as kernel
from quiver.setup.model import ChainPick
from quiver.sim.model import ChainPhysics, chain_model
from quiver.sim.state import ChainState
from quiver.sim.step import advance, motion_rows
from tests.makers import chain_setup, moving_clip, simulate, skeleton_of, still_clip, straight, swing_of, turning_clip, world_of

DT = 1.0 / 240.0


def physics(n, **changes):
    """A chain of n unit masses without any force."""
    plain = {
        "inverse_masses": np.ones(n),
        "stiffness": np.zeros(n),
        "stretch": np.zeros(n),
        "damping_factor": np.ones(n),
        "drag_factor": np.ones(n),
        "gravity": np.zeros((n, 3)),
        "bend_limits": np.full(n, np.pi),
        "stretch_limit": 1e6,
    }
    return ChainPhysics(**(plain | changes))


def run_still(chain, points, substeps, start=None):
    """Displacements (substeps, n, 3) of one chain whose keyed points (n + 1, 3) stand still."""
    model = chain_model([chain], DT, False)
    state = ChainState(model)
    if start is not None:
        state.chain(0)[:, 0] = start
    motion, _ = motion_rows(model, np.tile(points, (substeps, 1, 1, 1)), points[None])
    return advance(model, state, motion)[:, 0]


class PendulumTest(TestCase):
    def test_small_swing_has_the_period_of_a_mathematical_pendulum(self):
        angle, length = 0.08, 0.8
        skeleton = straight(1, length, (np.sin(angle), -np.cos(angle), 0.0))
        setup = chain_setup(end="j0", wobble_rate=0.0, settle_time=480.0, gravity=100.0)
        run, rotations, translations, _ = simulate(skeleton, still_clip(skeleton, 12.0), setup)
        tip = world_of(run, rotations, translations)[:, 2, 0, 3]
        rate, _ = swing_of(tip)
        period = 2 * np.pi * np.sqrt(length / chain_body.GRAVITY)
        self.assertAlmostEqual(1.0 / (rate * 24.0) / period, 1.0, delta=0.01)

    def test_compound_pendulum_of_two_has_its_slow_mode(self):
        # Two equal lengths l with masses m (middle) and m/2 (tip, half a segment): theory by the 2 x 2 eigenproblem.
        length, angle = 0.3, 0.03
        skeleton = straight(2, length, (np.sin(angle), -np.cos(angle), 0.0))
        setup = chain_setup(wobble_rate=0.0, settle_time=480.0, gravity=100.0)
        run, rotations, translations, _ = simulate(skeleton, still_clip(skeleton, 14.0), setup)
        x = world_of(run, rotations, translations)[:, 2, 0, 3]
        masses = np.array([length, length / 2])
        inertia = length**2 * np.array([[masses.sum(), masses[1]], [masses[1], masses[1]]])
        weight = chain_body.GRAVITY * length * np.diag([masses.sum(), masses[1]])
        slow = np.sqrt(np.linalg.eigvals(np.linalg.solve(inertia, weight)).min())
        spectrum = np.abs(np.fft.rfft(x * np.hanning(len(x)), 16 * len(x)))
        rate = np.argmax(spectrum) / (16 * len(x)) * 24.0
        self.assertAlmostEqual(rate * 2 * np.pi / slow, 1.0, delta=0.02)


class EnergyTest(TestCase):
    def test_a_limp_undamped_chain_keeps_its_energy(self):
        for n, angle, substeps, frame_rate in ((1, 1.2, 10, 24), (5, 0.4, 10, 24), (5, 1.4, 20, 24), (12, 1.0, 20, 12), (12, 1.4, 16, 60)):
            dt, length = 1.0 / (substeps * frame_rate), 0.6 / n
            points = np.array([[k * length * np.sin(angle), -k * length * np.cos(angle), 0.0] for k in range(n + 1)])
            masses = np.full(n, length)
            masses[-1] *= 0.5
            chain = physics(n, inverse_masses=1.0 / masses, gravity=np.tile([0.0, -chain_body.GRAVITY, 0.0], (n, 1)))
            model = chain_model([chain], dt, False)
            steps = round(2.0 / dt)
            motion, _ = motion_rows(model, np.tile(points, (steps, 1, 1, 1)), points[None])
            positions = points[1:] + advance(model, ChainState(model), motion)[:, 0]
            speeds = (positions[2:] - positions[:-2]) / (2.0 * dt)
            energies = 0.5 * np.einsum("n,snk->s", masses, speeds**2) + chain_body.GRAVITY * positions[1:-1, :, 1] @ masses
            lowest = -chain_body.GRAVITY * masses @ (length * np.arange(1, n + 1))
            begun = chain_body.GRAVITY * points[1:, 1] @ masses
            self.assertAlmostEqual((energies[-20:].mean() - lowest) / (begun - lowest), 1.0, delta=0.01, msg=(n, angle, substeps))


class SpringTest(TestCase):
    def test_damped_spring_follows_its_closed_form(self):
        for wobble, settle in ((1.0, 2.0), (3.0, 1.0), (6.0, 0.5)):
            with self.subTest(wobble=wobble, settle=settle):
                stiffness, damping_factor = chain_body.matched(wobble, settle, DT)
                points = np.array([[0.0, 0, 0], [1.0, 0, 0]])
                chain = physics(1, stiffness=np.array([stiffness]), damping_factor=np.array([damping_factor]))
                steps = int(2.0 / DT)
                start = np.array([[0.0, 1e-3, 0.0]])
                moved = run_still(chain, points, steps, start)[:, 0, 1]
                decay, swing = chain_body.SETTLED / settle, 2 * np.pi * wobble
                t = DT * np.arange(1, steps + 1)
                exact = 1e-3 * np.exp(-decay * t) * (np.cos(swing * t) + decay / swing * np.sin(swing * t))
                self.assertLess(np.abs(moved - exact).max(), 0.02 * 1e-3 + 1e-3 * swing * DT)
                # The step's own first-order shift in phase apart, the envelope is right to 2 %.
                late = slice(int(0.5 / DT), None)
                self.assertAlmostEqual(np.abs(moved[late]).max() / np.abs(exact[late]).max(), 1.0, delta=0.02)

    def test_dials_are_met_for_chains_of_any_shape(self):
        curl = np.cumsum([0.0, *([0.35] * 5)])
        bent = [np.zeros(3), np.zeros(3), *(0.1 * np.array([np.cos(a), np.sin(a), 0.0]) for a in curl)]
        shapes = {"straight": straight(6), "curled": skeleton_of(bent, list(range(-1, len(bent) - 1)))}
        cases = (({}, "even"), ({"wobble_taper": 40.0}, "soft tip"), ({"settle_taper": 300.0}, "lively tip"))
        for shape, skeleton in shapes.items():
            for dials, name in cases:
                with self.subTest(shape=shape, taper=name):
                    rigid_contact = turning_clip(0, [0.0, 0.05, 6.0], [0.0, 0.04, 0.04])
                    run, rotations, translations, _ = simulate(
                        skeleton, rigid_contact, chain_setup(wobble_rate=1.5, settle_time=48.0, **dials)
                    )
                    world = world_of(run, rotations, translations)
                    swing = world[8:, -1, 1, 3] - world[-1, -1, 1, 3]
                    rate, settle = swing_of(swing[:100])
                    self.assertAlmostEqual(rate * 24.0 / 1.5, 1.0, delta=0.05)
                    self.assertAlmostEqual(settle / 48.0, 1.0, delta=0.08)


class ForkTest(TestCase):
    def test_trunk_and_branch_die_out_together_instead_of_ringing_up(self):
        """A trunk of six joints, knocked, with a branch anywhere on it: short, or longer than the trunk."""
        cases = (((4, 3), 2.0, 96, 0.0), ((4, 3), 3.0, 60, 0.0), ((6, 2), 2.0, 96, 100.0), ((8, 1), 3.0, 60, 0.0), ((2, 5), 5.0, 24, 0.0))
        for (count, at), rate, settle, gravity in cases:
            with self.subTest(branch=count, on=at, rate=rate, settle=settle):
                branch = [np.array([0.05, 0.08, 0.0]), *([np.array([0.0, 0.1, 0.0])] * (count - 1))]
                positions = [np.zeros(3), np.zeros(3), *([np.array([0.1, 0.0, 0.0])] * 5), *branch]
                parents = [-1, 0, 1, 2, 3, 4, 5, at, *range(7, 6 + count)]
                skeleton = skeleton_of(positions, parents, ["base", *(f"t{k}" for k in range(6)), *(f"b{k}" for k in range(count))])
                setup = chain_setup("t0", "t5", wobble_rate=rate, settle_time=float(settle), gravity=gravity)
                layer = replace(setup.layers[0], chains=(ChainPick("t0", "t5"), ChainPick("b0", f"b{count - 1}")))
                clip = turning_clip(0, [0.0, 0.05, 12.0], [0.0, 0.15, 0.15])
                run, rotations, translations, _ = simulate(skeleton, clip, replace(setup, layers=(layer,)))
                along = world_of(run, rotations, translations)[:, :, :3, 0]
                along = along / np.linalg.norm(along, axis=2, keepdims=True)
                off = np.degrees(np.arccos(np.clip(np.einsum("fji,ji->fj", along, along[-1]), -1.0, 1.0)))[3:]
                tips = [skeleton.index(name) for name in ("t5", f"b{count - 1}")]
                # Over half a swing from when it should have settled.
                left = off[settle - 3 :, tips][: round(12.0 / rate) + 1].max(0) / off[:, tips].max(0)
                self.assertLess(left.max(), 0.075, left)
                self.assertLess(off[:, tips[1]].max(), 3.0 * off[:, tips[0]].max())

    def test_a_short_twig_on_a_branch_keeps_apart_from_that_too(self):
        steps = [np.array([0.1, 0.0, 0.0])] * 5, [np.array([0.0, 0.05, 0.0])] * 2, [np.array([0.0, 0.0, 0.03])] * 2
        positions = [np.zeros(3), np.zeros(3), *(step for some in steps for step in some)]
        names = ["base", *(f"t{k}" for k in range(6)), "b0", "b1", "c0", "c1"]
        skeleton = skeleton_of(positions, [-1, 0, 1, 2, 3, 4, 5, 5, 7, 8, 9], names)
        layer = replace(chain_setup("t0", "t5").layers[0], chains=(ChainPick("t0", "t5"), ChainPick("b0", "b1"), ChainPick("c0", "c1")))
        setup = replace(chain_setup("t0", "t5", wobble_rate=1.5), layers=(replace(layer, values=layer.values | {"wobble_rate": 1.5}),))
        run, _, _, _ = simulate(skeleton, still_clip(skeleton, 0.5), setup)
        trunk, branch, twig = sorted(rate for batch in run.chains for rate in batch.rates)
        self.assertAlmostEqual(trunk, 1.5)
        self.assertGreaterEqual(branch / trunk, 1.5)
        self.assertGreaterEqual(twig / branch, 1.5)


class FallTest(TestCase):
    def test_free_particles_fall_as_galileo_says(self):
        n, steps = 3, 240
        chain = physics(n, stretch=np.full(n, kernel.DISCONNECTED), gravity=np.tile([0.0, -chain_body.GRAVITY, 0.0], (n, 1)))
        points = np.array([[k * 0.1, 0.0, 0.0] for k in range(n + 1)])
        fallen = -run_still(chain, points, steps)[-1, :, 1]
        # Symplectic Euler adds half a substep: g t (t + dt) / 2.
        np.testing.assert_allclose(fallen, 0.5 * chain_body.GRAVITY * 1.0 * (1.0 + DT), rtol=2e-4)

    def test_momentum_of_a_free_chain_is_kept(self):
        # Held by nothing: the root's own mass is infinite, so the first link is let go and the rest keeps its momentum.
        n = 6
        stretch = np.zeros(n)
        stretch[0] = kernel.DISCONNECTED
        stiffness = np.full(n, 400.0)
        stiffness[:2] = 0.0
        chain = physics(n, stretch=stretch, stiffness=stiffness)
        points = np.array([[k * 0.1, 0.0, 0.0] for k in range(n + 1)])
        model = chain_model([chain], DT, False)
        state = ChainState(model)
        rng = np.random.default_rng(5)
        state.chain(0)[:, 1] = rng.normal(0, 0.5, (n, 3))
        before = state.chain(0)[:, 1].sum(0)
        motion, _ = motion_rows(model, np.tile(points, (200, 1, 1, 1)), points[None])
        advance(model, state, motion)
        np.testing.assert_allclose(state.chain(0)[:, 1].sum(0), before, atol=2e-3)


class HangingTest(TestCase):
    def test_chain_held_at_both_ends_hangs_as_a_catenary(self):
        n, span, length = 24, 1.0, 1.4
        x = np.linspace(0.0, span, n + 1)
        # Any curve of the right length will do as the keyed place: a parabola with equal links.
        depth = brentq(lambda d: np.hypot(np.diff(x), np.diff(4 * d * x * (x - 1))).sum() - length, 0.1, 1.0)
        fine = np.linspace(0, 1, 4001)
        along = np.append(0.0, np.cumsum(np.hypot(np.diff(fine), np.diff(4 * depth * fine * (fine - 1)))))
        x = np.interp(np.linspace(0, along[-1], n + 1), along, fine)
        positions = np.stack([x, 4 * depth * x * (x - 1), 0 * x], 1)
        local = np.vstack([np.zeros(3), positions[:1], np.diff(positions, axis=0)])
        skeleton = skeleton_of(local, list(range(-1, n + 1)))
        # The end joint's own tip would be one more segment, so the chain ends one joint earlier and its tip is the last joint.
        setup = chain_setup(end=f"j{n - 1}", wobble_rate=0.0, settle_time=12.0, gravity=100.0, held="both")
        run, rotations, translations, _ = simulate(skeleton, still_clip(skeleton, 8.0), setup)
        sag = -world_of(run, rotations, translations)[-1, :, 1, 3].min()
        total = np.linalg.norm(np.diff(positions, axis=0), axis=1).sum()
        a = brentq(lambda a: 2 * a * np.sinh(span / (2 * a)) - total, 0.05, 50.0)
        self.assertAlmostEqual(sag / (a * (np.cosh(span / (2 * a)) - 1.0)), 1.0, delta=0.01)

    def test_stretch_dial_is_the_lengthening_under_its_own_weight(self):
        skeleton = straight(6, 0.1, (0.0, -1.0, 0.0))
        setup = chain_setup(end="j5", wobble_rate=0.5, settle_time=8.0, gravity=100.0, stretch=20.0)
        run, rotations, translations, _ = simulate(skeleton, still_clip(skeleton, 6.0), setup)
        end = -world_of(run, rotations, translations)[-1, 6, 1, 3]
        # The last segment (its own half mass below) is not seen by a joint: take its share off.
        masses = np.array([0.1] * 5 + [0.05])
        below = np.cumsum(masses[::-1])[::-1]
        expected = 0.5 + 0.6 * 0.2 * below[:5].sum() / below.sum()
        self.assertAlmostEqual(end / expected, 1.0, delta=0.01)


class DragTest(TestCase):
    def test_drag_takes_its_share_each_frame(self):
        n = 1
        chain = physics(n, stretch=np.full(n, kernel.DISCONNECTED), drag_factor=np.full(n, 0.75 ** (1.0 / 10.0)))
        model = chain_model([chain], DT, False)
        state = ChainState(model)
        state.chain(0)[0, 1] = [0.0, 2.0, 0.0]
        points = np.array([[[0.0, 0, 0], [0.1, 0, 0]]])
        motion, _ = motion_rows(model, np.tile(points, (10, 1, 1, 1)), points)
        advance(model, state, motion)
        self.assertAlmostEqual(float(state.chain(0)[0, 1, 1]), 1.5, places=4)


class CarriedTest(TestCase):
    def test_uniform_motion_of_the_base_leaves_the_chain_where_it_is_keyed(self):
        # Settling damps towards the keyed motion, so a steady run brings no lag at all once it has settled.
        skeleton = straight(5)
        clip = moving_clip(0, [0.0, 8.0], [[0.0, 0, 0], [0.0, 0.0, 16.0]])
        *_, added = simulate(skeleton, clip, chain_setup(wobble_rate=2.0, settle_time=12.0))
        self.assertLess(added[-1, 0], 1e-3)
