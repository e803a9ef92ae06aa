"""The chain solver against mechanics that can be solved by hand."""

from dataclasses import replace
from unittest import TestCase

import numpy as np
from scipy import linalg
from scipy.optimize import brentq

from quiver.bodies import chain as chain_body
from quiver.kernels import chain_rows as kernel
from quiver.rig.character import Character
from quiver.rig.tree import Tree
from quiver.ring import ring_test
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


def crooked(rng, segments, bend):
    """Vectors (n, 3) [m] of segments each of which looks some way aside of the one before."""
    way, found = np.array([1.0, 0.0, 0.0]), []
    for _ in range(segments):
        found.append(0.08 * way)
        way = way + bend * rng.normal(size=3)
        way /= np.linalg.norm(way)
    return np.array(found)


def forked(trunk, branches):
    """A skeleton with joints t0.. along vectors and, on joints of it, others: (at, from there to the first (3,), vectors (n, 3))."""
    positions, parents, names = [np.zeros(3), np.zeros(3)], [-1, 0], ["base", "t0"]
    for k, step in enumerate(trunk[:-1]):
        positions, parents, names = [*positions, step], [*parents, k + 1], [*names, f"t{k + 1}"]
    for number, (at, offset, steps) in enumerate(branches):
        for k, step in enumerate((offset, *steps[:-1])):
            parents.append(at + 1 if k == 0 else len(positions) - 1)
            positions, names = [*positions, step], [*names, f"{'bcd'[number]}{k}"]
    return skeleton_of(positions, parents, names)


def forked_setup(trunk, branches, rate, settle, frame_rate=24.0, **dials):
    """One layer of the trunk and the branches of `forked`."""
    picks = [ChainPick("t0", f"t{len(trunk) - 1}")]
    picks += [ChainPick(f"{name}0", f"{name}{len(steps) - 1}") for name, (_, _, steps) in zip("bcd", branches, strict=False)]
    setup = chain_setup("t0", "", frame_rate, wobble_rate=rate, settle_time=float(settle), **dials)
    return replace(setup, layers=(replace(setup.layers[0], chains=tuple(picks)),))


def swung_off(run, rotations, translations):
    """How far each joint's own x axis is turned from where it ends [degrees] (F, J)."""
    along = world_of(run, rotations, translations)[:, :, :3, 0]
    along = along / np.linalg.norm(along, axis=2, keepdims=True)
    return np.degrees(np.arccos(np.clip(np.einsum("fji,ji->fj", along, along[-1]), -1.0, 1.0)))


class CrookedTest(TestCase):
    def test_what_is_knocked_dies_out_in_its_settle_time_however_crooked_it_is(self):
        rng = np.random.default_rng(5)
        for bend in (0.4, 0.8, 1.5):
            for rate, settle in ((1.0, 24), (2.0, 96), (6.0, 60)):
                with self.subTest(bend=bend, rate=rate, settle=settle):
                    steps = crooked(rng, 12, bend)
                    clip = turning_clip(0, [0.0, 0.05, 2.2 * settle / 24.0], [0.0, 0.15, 0.15], axis=rng.normal(size=3))
                    skeleton = forked(steps, [])
                    run, *arrays, _ = simulate(skeleton, clip, chain_setup("t0", "", wobble_rate=rate, settle_time=float(settle)))
                    places = world_of(run, *arrays)[:, -1, :, 3]
                    off = np.linalg.norm(places - places[-1], axis=1)[2:]
                    self.assertGreater(off.max(), 0.005)
                    self.assertLess(off[settle : settle + 13].max(), 0.07 * off.max())
                    self.assertLess(off[2 * settle :].max(), 0.01 * off.max())

    def test_nothing_feeds_in_energy_where_nothing_is_damped(self):
        rng = np.random.default_rng(6)
        for bend in (0.3, 1.0):
            with self.subTest(bend=bend):
                points = np.vstack([np.zeros(3), np.cumsum(crooked(rng, 10, bend), axis=0)])
                body = chain_body.build(points)
                stiffness, _ = chain_body.matched(2.0, 1e6, DT)
                chain = physics(10, inverse_masses=1.0 / body.masses, stiffness=stiffness / body.lowest * body.bend_shape)
                start = body.mode * 0.01 / np.abs(body.mode).max()
                moved = run_still(chain, points, 20 * 240, start)
                along = np.einsum("snk,nk,n->s", moved, body.mode, body.masses)
                along /= np.einsum("nk,nk,n->", start, body.mode, body.masses)
                self.assertLess(np.abs(along[: 10 * 240]).max(), 1.01)
                self.assertLess(np.abs(along[10 * 240 :]).max(), 0.99)
                # The damping that is in the substep itself: (2 pi f)^2 dt / 2, a second.
                self.assertGreater(np.abs(along[240:480]).max(), 0.9 * np.exp(-0.5 * (4 * np.pi) ** 2 * DT * 2.0))


class FlungTest(TestCase):
    def test_nothing_explodes_however_it_is_flung(self):
        """Root turned by 143 degrees back and forth, five times in two seconds: limp and stiff, crooked, forked, hinged, held, soft."""
        rng = np.random.default_rng(12)
        times = np.arange(49) / 24.0
        angles = np.where(times < 1.0, 2.5 * np.sin(5.0 * np.pi * times), 0.0)
        for case in range(24):
            bend, count = rng.choice([0.0, 0.2, 0.6, 1.2]), int(rng.integers(2, 9))
            trunk = crooked(rng, count, bend)
            branches = []
            for _ in range(int(rng.integers(0, 4))):
                turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
                branches.append(
                    (int(rng.integers(0, count)), 0.08 * rng.normal(size=3), crooked(rng, int(rng.integers(2, 7)), bend) @ turn)
                )
            dials = {
                "gravity": rng.choice([0.0, 100.0]),
                "swing_axes": str(rng.choice(["xyz", "xyz", "y", "xz"])),
                "bend_limit": rng.choice([180.0, 40.0, 10.0]),
                "held": str(rng.choice(["root", "root", "both"])),
                "stretch": rng.choice([0.0, 0.0, 30.0]),
            }
            setup = forked_setup(trunk, branches, rng.choice([0.0, 0.2, 1.0]), rng.choice([24.0, 200.0]), **dials)
            with self.subTest(case=case, trunk=count, branches=[(at, len(steps)) for at, _, steps in branches], **dials):
                run, *arrays, _ = simulate(forked(trunk, branches), turning_clip(0, times, angles, axis=rng.normal(size=3)), setup)
                self.assertTrue(np.isfinite(world_of(run, *arrays)).all())

    def test_where_nothing_is_damped_a_tree_gains_nothing(self):
        """Thrown, with a branch on the end, the middle or beside what carries it; folding back, which is resisted, may only damp."""
        rng, tree, down = np.random.default_rng(0), Tree((3, 2), ((-1, -1), (0, 1))), np.array([0.0, 0.0, 0.1])
        for offset in ([0.1, 0.0, 0.0], [0.05, 0.0, 0.0], [0.1, 0.05, 0.0], [0.1, 0.2, 0.0]):
            for speed in (0.5, 2.0, 6.0):
                with self.subTest(offset=offset, speed=speed):
                    along = np.outer(np.arange(4), [0.1, 0.0, 0.0])
                    foot = along[1] + offset
                    points = np.stack([along, [foot, foot + down, foot + 2.0 * down, foot + 2.0 * down]])
                    model = chain_model([physics(count, inverse_masses=np.full(count, 10.0)) for count in tree.counts], DT, False, tree)
                    state = ChainState(model)
                    for number, count in enumerate(tree.counts):
                        state.chain(number)[:, 1] = speed * rng.normal(size=(count, 3))
                    motion, _ = motion_rows(model, points[None], points)
                    energies = []
                    for _ in range(5 * 240):
                        advance(model, state, motion)
                        energies.append(0.05 * sum(np.sum(state.chain(number)[:, 1] ** 2.0) for number in range(2)))
                    self.assertLess(np.max(energies[10:]), 1.15 * np.max(energies[2:10]))
                    # A slow one keeps what it has until it first folds back.
                    if speed < 1.0:
                        self.assertGreater(energies[50], 0.99 * energies[2])


class HingeTest(TestCase):
    def test_the_dials_are_met_about_one_axis_however_crooked_it_is(self):
        rng = np.random.default_rng(21)
        for axes, gravity in (("y", 0.0), ("z", 0.0), ("xz", 0.0), ("y", 60.0)):
            for bend, branches in ((0.6, 0), (0.6, 1), (1.2, 2)):
                with self.subTest(axes=axes, gravity=gravity, bend=bend, branches=branches):
                    trunk = crooked(rng, 6, bend)
                    grown = [(int(rng.integers(0, 6)), 0.05 * rng.normal(size=3), crooked(rng, 4, bend)) for _ in range(branches)]
                    skeleton = forked(trunk, grown)
                    setup = forked_setup(trunk, grown, 2.0, 48.0, swing_axes=axes, gravity=gravity)
                    ring = ring_test(Character("hinge", skeleton, (), (still_clip(skeleton),)), setup, setup.layers[0])
                    self.assertAlmostEqual(ring.rate / 2.0, 1.0, delta=0.05)
                    self.assertAlmostEqual(ring.settle / 48.0, 1.0, delta=0.05)


class ForkTest(TestCase):
    """Chains that grow on each other are one system."""

    def test_a_pendulum_with_two_on_its_end_swings_as_the_three_of_them(self):
        """Segments of one length l with masses at their ends, small swings: M a" = -K a of the three angles, by hand."""
        length, gravity = 0.3, chain_body.GRAVITY
        tree = Tree((2, 1), ((-1, -1), (0, 0)))
        down = np.array([0.0, -length, 0.0])
        points = np.array([[0.0 * down, down, 2.0 * down], [down, 2.0 * down, 2.0 * down]])
        masses = np.array([1.5, 0.5, 0.8])
        bodies = [
            physics(n, inverse_masses=1.0 / own, gravity=np.tile([0.0, -gravity, 0.0], (n, 1)))
            for n, own in ((2, masses[:2]), (1, masses[2:]))
        ]
        model = chain_model(bodies, DT, False, tree)
        state = ChainState(model)
        # Only the branch is pulled aside.
        state.chain(1)[0, 0, 0] = 0.02 * length
        steps = 6 * 240
        motion, _ = motion_rows(model, np.tile(points, (steps, 1, 1, 1)), points)
        moved = advance(model, state, motion)
        angles = np.stack([moved[:, 0, 0, 0], moved[:, 0, 1, 0] - moved[:, 0, 0, 0], moved[:, 1, 0, 0] - moved[:, 0, 0, 0]], 1) / length
        inertia = length**2 * np.array([[masses.sum(), masses[1], masses[2]], [masses[1], masses[1], 0.0], [masses[2], 0.0, masses[2]]])
        squares, modes = linalg.eigh(gravity * length * np.diag([masses.sum(), masses[1], masses[2]]), inertia)
        times = DT * np.arange(1, steps + 1)
        shares = modes.T @ inertia @ np.array([0.0, 0.0, 0.02])
        exact = np.einsum("im,m,tm->ti", modes, shares, np.cos(np.sqrt(squares) * times[:, None]))
        self.assertGreater(np.abs(exact[:, 1]).max(), 0.01)
        np.testing.assert_allclose(angles, exact, atol=0.06 * 0.02)

    def test_the_dials_are_those_of_the_whole(self):
        rng = np.random.default_rng(31)
        for case, (rate, settle, frame_rate) in enumerate(((0.8, 45.0, 24.0), (2.0, 96.0, 24.0), (1.5, 20.0, 12.0), (5.0, 40.0, 60.0))):
            for gravity in (0.0, 60.0):
                trunk = crooked(rng, int(rng.integers(3, 9)), 0.3)
                branches = [
                    (int(rng.integers(0, len(trunk))), 0.08 * rng.normal(size=3), crooked(rng, 4, 0.3)) for _ in range(1 + case % 3)
                ]
                skeleton = forked(trunk, branches)
                # What weighs much swings at the rate of its weight.
                setup = forked_setup(trunk, branches, rate, settle, frame_rate, gravity=gravity * min(1.0, rate / 2.0))
                ring = ring_test(Character("tree", skeleton, (), (still_clip(skeleton),)), setup, setup.layers[0])
                with self.subTest(rate=rate, settle=settle, gravity=gravity, branches=len(branches)):
                    self.assertAlmostEqual(ring.rate / rate, 1.0, delta=0.05)
                    self.assertAlmostEqual(ring.settle / settle, 1.0, delta=0.05)

    def test_trunk_and_branches_die_out_together_however_they_grow(self):
        """Knocked: branches short, long, aside of what carries them, on each other, under their weight."""
        trunk = np.tile([0.1, 0.0, 0.0], (6, 1))

        def aside(count, x=0.0, y=0.1):
            return np.tile([x, y, 0.0], (count, 1))

        beside = np.array([0.05, 0.08, 0.0])
        cases = (
            ([(3, beside, aside(4))], 2.0, 96, 24.0, {}),
            ([(3, beside, aside(4))], 3.0, 60, 24.0, {"gravity": 100.0}),
            ([(2, beside, aside(6))], 2.0, 120, 60.0, {"gravity": 60.0}),
            ([(1, beside, aside(8))], 3.0, 60, 24.0, {}),
            ([(5, beside, aside(2))], 5.0, 24, 24.0, {}),
            ([(0, 3.0 * beside, aside(5)), (4, -beside, aside(3, 0.02, -0.05))], 1.5, 48, 24.0, {"wobble_taper": 40.0}),
            ([(2, beside, aside(4)), (8, beside, aside(3, 0.08, 0.0)), (6, -beside, aside(2, 0.0, -0.03))], 2.0, 48, 12.0, {}),
        )
        for branches, rate, settle, frame_rate, dials in cases:
            with self.subTest(branches=[(at, len(steps)) for at, _, steps in branches], rate=rate, settle=settle, dials=dials):
                clip = turning_clip(0, [0.0, 0.05, 2.5 * settle / frame_rate], [0.0, 0.15, 0.15])
                setup = forked_setup(trunk, branches, rate, settle, frame_rate, **dials)
                run, *arrays, _ = simulate(forked(trunk, branches), clip, setup)
                off = swung_off(run, *arrays)
                first = round(0.05 * frame_rate) + 1
                tips = [run.skeleton.index(f"t{len(trunk) - 1}")]
                tips += [run.skeleton.index(f"{name}{len(steps) - 1}") for name, (_, _, steps) in zip("bcd", branches, strict=False)]
                # Over half a swing from when it should have settled.
                left = off[first + settle :, tips][: round(0.5 * frame_rate / rate) + 1].max(0) / off[first:, tips].max(0)
                self.assertLess(left.max(), 0.085, left)
                self.assertGreater(off[first:, tips].max(0).min(), 2.0)


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
