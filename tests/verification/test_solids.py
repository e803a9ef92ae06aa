"""Soft solids against closed forms, conservation and finer copies of themselves."""

import itertools
from dataclasses import replace
from unittest import TestCase, mock

import numpy as np
from scipy.optimize import brentq

from quiver.bodies import chain, volume
from quiver.kernels import tets
from quiver.mesh.topology import edges_of_tets
from quiver.sim import solid
from tests.makers import swing_of
from tests.solids import FRAME_RATE, Run, bar, filled_bar, rest_in


def free(nodes):
    return np.zeros(len(nodes), bool)


class ClosedFormTest(TestCase):
    def test_free_fall(self):
        made, body = bar(0.1, held=free)
        fallen = Run(made, _loose(body), 2e4, gravity=(0.0, -9.81, 0.0)).frames(12)[-1]
        seconds, dt = 12 / FRAME_RATE, 1 / (10 * FRAME_RATE)
        # The substeps' own sum: n (n + 1) / 2 dt^2.
        np.testing.assert_allclose(fallen[:, 1], -9.81 * 0.5 * seconds * (seconds + dt), rtol=2e-3)
        self.assertLess(np.abs(fallen[:, [0, 2]]).max(), 1e-4)

    def test_bar_bends_as_often_as_the_closed_form_says(self):
        made, body = bar(0.05, length=1.0, thick=0.2)
        # The lattice is a little larger than the bar and fixed 5 cm deep: its own section and free length count.
        loose = made.nodes[body.is_free]
        length = np.ptp(loose[:, 0])
        area = body.volumes.sum() / np.ptp(made.nodes[:, 0])
        inertia = area**2 / 12.0
        stiff = body.lowest**0.5
        closed = 1.875104**2 * np.sqrt(inertia / (volume.DENSITY * area * length**4))
        self.assertLess(abs(stiff / closed - 1.0), 0.15)

    def test_wobble_rate_and_settle_time_are_those_of_the_dials(self):
        made, body = bar(0.05, length=1.0, thick=0.2)
        for rate, settle in ((0.5, 150), (1.0, 70)):
            substeps = int(np.ceil(volume.rate_needed(body, made.edge, rate) / FRAME_RATE))
            dt = 1.0 / (FRAME_RATE * substeps)
            stiffness, damping_factor = chain.matched(rate, settle / FRAME_RATE, dt)
            run = Run(made, body, volume.young_for(body, made.edge, stiffness, dt), substeps, damping_factor=damping_factor)
            # In the slowest way: its cells make a bar a little stiffer across than upright.
            run.state.velocities[:, :3] = 0.2 * body.mode
            tip = np.einsum("fnk,nk->f", run.frames(260), body.masses[:, None] * body.mode)
            measured, died = swing_of(tip)
            self.assertLess(abs(measured * FRAME_RATE / rate - 1.0), 0.05, (rate, measured * FRAME_RATE))
            self.assertLess(abs(died / settle - 1.0), 0.15, (settle, died))

    def test_pressure_grows_the_volume_as_the_energy_says(self):
        made, body = bar(0.1, held=free, volume_keep=0.9)
        pressure = 0.3
        run = Run(made, _loose(body), 2e4, damping_factor=0.9, pressure=pressure)
        run.frames(80)
        ratio = body.shear / body.bulk

        def slope(stretch):
            # d/ds of shear / 2 (3 s^2 - 3) + bulk / 2 (s^3 - 1 - shear / bulk - pressure)^2
            return 3.0 * ratio * stretch + 3.0 * stretch**2 * (stretch**3 - 1.0 - ratio - pressure)

        expected = brentq(slope, 0.9, 1.5) ** 3
        self.assertAlmostEqual(run.volume / body.volumes.sum(), expected, delta=0.005)

    def test_sag_under_its_weight_is_the_same_in_small_cells(self):
        sags = []
        for edge in (0.1, 0.045):
            made, body = bar(edge)
            run = Run(made, body, 3e5, substeps=40, damping_factor=0.98, gravity=(0.0, -9.81, 0.0))
            last = run.frames(60)[-1]
            tip = made.nodes[:, 0] > 0.95
            sags.append(last[tip, 1].mean() * body.lowest)
        # Cells of different size hold a slightly different bar; with the rate's own measure divided out they must agree.
        self.assertLess(abs(sags[0] / sags[1] - 1.0), 0.1, sags)

    def test_a_slender_beam_sags_as_the_closed_form_says(self):
        length, thick, modulus = 2.0, 0.2, 3e6
        made, body = filled_bar((48, 6, 6), (length, thick, thick), lambda nodes: nodes[:, 0] < 1e-6, 0.3)
        run = Run(made, body, modulus, substeps=160, damping_factor=0.9987, gravity=(0.0, -1.0, 0.0))
        sag = -run.frames(96)[-1][made.nodes[:, 0] > length - 1e-6, 1].mean()
        # Euler and Bernoulli's bending, and Timoshenko's shear, of a beam fixed at one end under its own weight.
        load, area, inertia = volume.DENSITY * thick**2, thick**2, thick**4 / 12.0
        bending = load * length**4 / (8.0 * modulus * inertia)
        shearing = load * length**2 / (2.0 * 5.0 / 6.0 * body.shear * modulus * area)
        self.assertLess(abs(sag / (bending + shearing) - 1.0), 0.1, (sag, bending, shearing))


class ConservationTest(TestCase):
    def knocked(self, **options):
        made, body = bar(0.1, held=free)
        run = Run(made, _loose(body), 5e4, **options)
        run.state.velocities[:, :3] = np.random.default_rng(3).normal(size=(len(made.nodes), 3))
        return run

    def test_momentum_of_a_free_body_stays(self):
        run = self.knocked()
        before = run.momentum
        run.frames(24)
        np.testing.assert_allclose(run.momentum, before, atol=2e-3 * np.abs(run.body.masses).sum())

    def test_energy_is_never_gained(self):
        run = self.knocked()
        before = run.kinetic
        self.assertGreater(before, 0.0)
        for _ in range(30):
            run.frames(1)
            self.assertLessEqual(run.kinetic, before * 1.001)

    def test_scrambled_to_dust_it_comes_back(self):
        made, body = bar(0.1)
        run = Run(made, body, 2e5, damping_factor=0.97)
        rng = np.random.default_rng(5)
        run.state.positions = np.where(body.is_free[:, None], rng.uniform(-0.5, 1.5, made.nodes.shape), made.nodes)
        shifts = run.frames(240)
        self.assertTrue(np.isfinite(shifts).all())
        self.assertLess(np.abs(shifts[-1]).max(), 0.02)

    def test_with_its_volume_kept_it_comes_back_from_flat_and_from_dust(self):
        made, body = bar(0.1, volume_keep=1.0)
        rng = np.random.default_rng(3)
        for squeeze in (0.0, 0.001, -1.0):
            run = Run(made, body, 2e5, damping_factor=0.95, surfaces=volume.pieces_of(made))
            run.state.positions[body.is_free, 1] *= squeeze
            if squeeze == 0.0:
                run.state.positions[body.is_free] += rng.normal(0.0, 0.2, (int(body.is_free.sum()), 3))
            run.frames(240)
            self.assertTrue(np.isfinite(run.state.positions).all())
            self.assertLess(np.abs(run.state.velocities).max(), 1.0, squeeze)
            self.assertAlmostEqual(run.volume / body.volumes.sum(), 1.0, delta=0.01, msg=squeeze)

    def test_flattened_it_comes_back(self):
        made, body = bar(0.1)
        run = Run(made, body, 2e5, damping_factor=0.97)
        run.state.positions = np.where(body.is_free[:, None], made.nodes * [1.0, 0.0, 1.0], made.nodes)
        self.assertLess(np.abs(run.frames(240)[-1]).max(), 0.02)


class StretchTest(TestCase):
    def test_cords_keep_a_bar_from_growing_longer_than_the_limit(self):
        longest = {}
        for limit in (None, 1.1):
            made, body = bar(0.1)
            run = Run(made, body, 1e4, substeps=20, damping_factor=0.98, gravity=(9.81, 0.0, 0.0), longest=limit)
            run.frames(60)
            edges, lengths = edges_of_tets(made.nodes, made.tets)
            longest[limit] = (np.linalg.norm(np.diff(run.state.positions[edges], axis=1)[:, 0], axis=1) / lengths).max()
        self.assertGreater(longest[None], 1.5)
        self.assertLess(longest[1.1], 1.2)

    def test_weight_changes_masses_and_nothing_of_the_swing(self):
        made, light = bar(0.1)
        heavy = volume.build(made, (made.nodes[:, 0] < 0.05).astype(float), 0.6, 1.0, 4.0)
        np.testing.assert_allclose(heavy.masses, 4.0 * light.masses)
        dt = 1.0 / 240.0
        swings = []
        for body in (light, heavy):
            young = volume.young_for(body, made.edge, 80.0, dt)
            swings.append(Run(made, body, young, gravity=(0.0, -9.81, 0.0)).frames(12))
        np.testing.assert_allclose(*swings, atol=1e-4)


class SettledTest(TestCase):
    """A solid that is made to rest where it is keyed, however the pose bends and squeezes it."""

    def distorted(self, turn_inside_out):
        made, body = bar(0.1)
        x, y, z = made.nodes.T
        return made, body, np.stack([0.8 * x, y + 0.3 * x * x, -0.6 * z if turn_inside_out else 1.3 * z], 1)

    def test_it_stays_where_it_is_keyed(self):
        for turn_inside_out in (False, True):
            made, body, posed = self.distorted(turn_inside_out)
            # The pose is longer than the cords would let it be; they give way to it.
            run = Run(made, body, 2e5, damping_factor=0.97, settles=True, longest=1.05)
            for start in (posed, posed + np.where(body.is_free[:, None], np.random.default_rng(2).normal(0.0, 0.01, posed.shape), 0.0)):
                run.state.positions = start.copy()
                for _ in range(200):
                    solid.advance(run.model, run.state, np.repeat(posed[None], 10, 0), posed)
                self.assertLess(np.abs(run.state.positions - posed).max(), 1e-3, turn_inside_out)

    def test_at_rest_nothing_changes(self):
        made, body = bar(0.1)
        model = Run(made, body, 2e5, pressure=0.1, settles=True).model
        before = model.tets[2].copy()
        rest_in(model, made.nodes)
        np.testing.assert_allclose(model.tets[2], before, rtol=1e-6, atol=1e-20)
        self.assertLess(np.abs(model.tets[5]).max(), 5e-7)

    def test_compiled_is_plain(self):
        made, body, posed = self.distorted(True)
        model = Run(made, body, 2e5, settles=True).model
        rest_in(model, posed)
        goals, prestress = model.tets[2].copy(), model.tets[5].copy()
        with mock.patch.object(tets, "settle", tets.settle.py_func):
            rest_in(model, posed)
        np.testing.assert_allclose(model.tets[2], goals, rtol=1e-6)
        np.testing.assert_allclose(model.tets[5], prestress, atol=1e-7)
        self.assertGreater(np.abs(prestress).max(), 0.01)


class RepeatTest(TestCase):
    def test_at_rest_it_rests(self):
        made, body = bar(0.08)
        self.assertLess(np.abs(Run(made, body, 2e5).frames(48)).max(), 1e-4)

    def test_the_same_bits_every_time(self):
        def once():
            made, body = bar(0.1)
            return Run(made, body, 5e4, gravity=(0.0, -9.81, 0.0)).frames(20)

        np.testing.assert_array_equal(once(), once())

    def test_finer_substeps_converge(self):
        made, body = bar(0.1)

        def swing(substeps):
            dt = 1.0 / (FRAME_RATE * substeps)
            return Run(made, body, 4e4, substeps, damping_factor=0.1**dt, gravity=(0.0, -9.81, 0.0)).frames(12)[-1]

        finest = swing(160)
        errors = [np.abs(swing(substeps) - finest).max() for substeps in (10, 20, 40, 80)]
        # Implicit first order: each halving of the step about halves the error.
        for coarse, fine in itertools.pairwise(errors):
            self.assertLess(fine, 0.75 * coarse, errors)


def _loose(body):
    """The body with nothing held at all, not even the little that keeps a loose piece."""
    return replace(body, holds=np.zeros_like(body.holds), springs=np.zeros_like(body.springs))
