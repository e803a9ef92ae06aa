"""Rigid bodies against closed forms: a pendulum, free fall and spin, a thing on a slope; and the kernel against its plain copy."""

import itertools
from contextlib import nullcontext
from unittest import TestCase, mock

import numpy as np

from quiver.bodies import chain as swing
from quiver.bodies import prop
from quiver.bodies.chain import GRAVITY
from quiver.kernels import rigid
from quiver.rig import transforms
from quiver.ring import swing_of
from quiver.run.parts.prop import outside_of
from quiver.sim import rigid as sim
from quiver.sim.obstacles import frame_rows, shape_rows, standing
from tests.solids import ball_surface, box_surface

DT = 1.0 / 288.0
STILL = np.array([0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0])
DOWN = np.array([0.0, -GRAVITY, 0.0])


def body_of(mass, inertia, pivot=(0.0, 0.0, 0.0), axis=(0.0, 0.0, 0.0)):
    return np.concatenate([[1.0 / mass], 1.0 / np.array(inertia, float), pivot, axis]).astype(float)


def run(state, body, steps, kind=rigid.BALL, pull=DOWN, touches=None, damping_factor=1.0, limit=np.pi, hold=0.0, dt=DT):
    """Positions and rotations (S, 7) of a body whose joint stands still; touches are points, reaches, frames, shapes."""
    points, *touches = touches or (np.zeros((0, 4)), *sim.NOTHING)
    thing = sim.RigidBody(body, kind, np.array([*pull, damping_factor, 1.0, hold, limit]), points)
    return sim.advance([thing], [state], [np.repeat(STILL[None], steps + 1, 0)], dt, [touches])[0]


def plainly():
    """A context in which rigid bodies move by the plain copy of their kernel."""
    return mock.patch.object(sim, "advance_bodies", sim.advance_bodies.py_func)


def hanging(angle, length):
    """A body whose keyed pose hangs straight down by its pivot, ``length`` above the centre, swung aside about Z."""
    turn = transforms.from_axis_angle(np.array([0.0, 0.0, 1.0]), angle)
    pivot = np.array([0.0, length, 0.0])
    return np.concatenate([pivot - transforms.rotate(turn, pivot), turn, np.zeros(6)]), pivot


def angles_of(record):
    return 2.0 * np.arctan2(record[:, 5], record[:, 6])


class PendulumTest(TestCase):
    def test_its_period_is_that_of_a_physical_pendulum(self):
        for length, inertia in ((0.3, (0.004, 0.004, 0.004)), (0.1, (0.02, 0.01, 0.03))):
            state, pivot = hanging(0.1, length)
            swing = angles_of(run(state, body_of(0.8, inertia, pivot), 2000))
            crossings = np.flatnonzero(np.sign(swing[1:]) != np.sign(swing[:-1]))
            period = 2.0 * np.diff(crossings).mean() * DT
            exact = 2.0 * np.pi * np.sqrt((inertia[2] + 0.8 * length**2) / (0.8 * GRAVITY * length)) * (1.0 + 0.1**2 / 16.0)
            self.assertAlmostEqual(period / exact, 1.0, delta=0.01)
            self.assertGreater(np.abs(swing[-600:]).max(), 0.07)

    def test_the_pivot_stays_and_damping_settles_it_as_said(self):
        state, pivot = hanging(0.6, 0.3)
        damping_factor = np.exp(-2.0 * np.log(20.0) / 1.5 * DT)
        record = run(state, body_of(1.0, (0.01, 0.01, 0.01), pivot), 900, damping_factor=damping_factor)
        hung = record[:, :3] + transforms.rotate(record[:, 3:], np.broadcast_to(pivot, (900, 3)))
        self.assertLess(np.abs(hung - pivot).max(), 1e-6)
        swing = np.abs(angles_of(record))
        self.assertLess(swing[int(1.5 / DT) :].max(), 0.6 * 0.12)

    def test_a_hinge_keeps_its_axis_and_a_limit_its_angle(self):
        state, pivot = hanging(0.9, 0.2)
        state[10:] = 2.0, 3.0, 0.0
        record = run(state.copy(), body_of(1.0, (0.01, 0.02, 0.03), pivot, (0.0, 0.0, 1.0)), 400, rigid.HINGE)
        axes = transforms.rotate(record[:, 3:], np.broadcast_to([0.0, 0.0, 1.0], (400, 3)))
        self.assertGreater(axes[:, 2].min(), 0.999)
        bounded = np.abs(
            angles_of(run(state.copy(), body_of(1.0, (0.01, 0.02, 0.03), pivot, (0.0, 0.0, 1.0)), 400, rigid.HINGE, limit=0.4))
        )
        self.assertLess(bounded.max(), 0.42)


class FreeTest(TestCase):
    def test_it_falls_as_galileo_says_and_spins_on(self):
        state = np.concatenate([STILL, [1.0, 0.0, 0.0], [0.0, 0.0, 4.0]])
        record = run(state, body_of(0.3, (0.01, 0.02, 0.03)), 288, rigid.FREE)
        self.assertAlmostEqual(-record[-1, 1], 0.5 * GRAVITY * (1.0 + DT), delta=1e-6)
        self.assertAlmostEqual(record[-1, 0], 1.0, delta=1e-9)
        self.assertAlmostEqual(float(np.unwrap(angles_of(record))[-1]), 4.0, delta=1e-3)

    def test_a_spinning_body_keeps_its_angular_momentum(self):
        inertia = np.array([0.01, 0.02, 0.025])
        state = np.concatenate([STILL, np.zeros(3), [6.0, 0.3, 0.2]])
        record = run(state, body_of(0.3, inertia), 864, rigid.FREE, np.zeros(3))

        def momentum(rotations, spins):
            own = transforms.rotate(transforms.inverse(rotations), spins)
            return transforms.rotate(rotations, inertia * own)

        before = momentum(STILL[3:], np.array([6.0, 0.3, 0.2]))
        # The spin is that of the middle of the last substep.
        after = momentum(transforms.slerp(record[-2, 3:], record[-1, 3:], np.array(0.5)), state[10:])
        self.assertLess(np.linalg.norm(after - before) / np.linalg.norm(before), 2e-3)


class HeldTest(TestCase):
    def test_rate_and_settle_time_are_the_dials_at_all_frame_rates(self):
        for rate, frames, frame_rate, gravity in (
            (0.0, 240, 24, 1.0),
            (0.0, 50, 30, 1.0),
            (1.0, 60, 24, 0.0),
            (3.0, 35, 12, 0.0),
            (6.0, 60, 24, 0.0),
            (13.0, 200, 60, 0.0),
        ):
            dt = 1.0 / (frame_rate * np.ceil(240.0 / frame_rate))
            stiffness, damping_factor = swing.matched_from_begin(rate, frames / frame_rate, dt)
            state, pivot = hanging(0.08, 0.2)
            body = body_of(1.0, (0.01, 0.02, 0.015), pivot)
            steps = int(1.2 * frames / frame_rate / dt)
            angles = angles_of(run(state, body, steps, pull=gravity * DOWN, damping_factor=damping_factor, hold=stiffness, dt=dt))
            measured, settle = swing_of(angles, 1.0 / dt)
            self.assertAlmostEqual(settle * dt * frame_rate / frames, 1.0, delta=0.01, msg=(rate, frames, frame_rate))
            if rate:
                self.assertAlmostEqual(measured / rate, 1.0, delta=0.01, msg=(rate, frames, frame_rate))

    def test_without_damping_nothing_of_the_swing_is_lost(self):
        state, pivot = hanging(1.2, 0.3)
        swinging = np.abs(angles_of(run(state, body_of(1.0, (0.01, 0.02, 0.03), pivot), 2880)))
        self.assertAlmostEqual(swinging[-400:].max(), 1.2, delta=0.01)


class ContactTest(TestCase):
    def slope(self, degrees, friction):
        """A box on a slope along X: how far it went down in a second."""
        positions, triangles = box_surface((0.2, 0.1, 0.2), (1, 1, 1))
        body = prop.build(positions, triangles)
        points = body.own_balls
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        tilt = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
        frames = frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]], tilt[None])[None], 289, 0))[:288].reshape(-1, 24)
        shapes = shape_rows([[1e9, 1e9, 0.0, 1e9]], [1e9], [friction])
        turn = transforms.multiply(transforms.from_matrices(tilt), transforms.from_matrices(body.axes))
        state = np.concatenate([tilt @ [0.0, 0.05 + 1e-4, 0.0], turn, np.zeros(6)])
        touches = (points, points[:, 3:].copy(), frames, shapes)
        record = run(state, body_of(body.mass, body.inertia), 288, rigid.FREE, touches=touches)
        return record[:, :3] @ tilt[:, 0], record[:, :3] @ tilt[:, 1]

    def test_it_stays_below_the_friction_angle_and_slides_above(self):
        along, away = self.slope(15.0, 0.4)
        self.assertLess(along[-1] - along[20], 1e-5)
        self.assertLess(np.ptp(away[100:]), 1e-4)
        along, _ = self.slope(30.0, 0.3)
        exact = 0.5 * GRAVITY * (np.sin(np.radians(30.0)) - 0.3 * np.cos(np.radians(30.0)))
        self.assertAlmostEqual(along[-1] / exact, 1.0, delta=0.02)


class PileTest(TestCase):
    """Boxes and balls as a setup makes them, on the ground or a slope."""

    STEP = 1.0 / 240.0

    def go(self, things, seconds, degrees=0.0, friction=0.5):
        """Places (B, S, 3), along the axes of the ground, which slopes by ``degrees``, of things (positions, triangles, how heavy)."""
        bodies, states, steps = [], [], round(seconds / self.STEP)
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        tilt = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
        for positions, triangles, factor in things:
            body = prop.build(positions @ tilt.T, triangles)
            numbers = body_of(body.mass * factor, body.inertia * factor)
            settings = np.array([*DOWN, 1.0, 1.0, 0.0, np.pi])
            bodies.append(sim.RigidBody(numbers, rigid.FREE, settings, body.own_balls, *outside_of(body)))
            states.append(np.concatenate([body.centre, transforms.from_matrices(body.axes), np.zeros(6)]))
        frames = frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]], tilt[None])[None], steps + 1, 0))[:steps].reshape(-1, 24)
        shapes = shape_rows([[1e9, 1e9, 0.0, 1e9]], [1e9], [friction])
        touches = [(body.points[:, 3:].copy(), frames, shapes) for body in bodies]
        record = sim.advance(bodies, states, [np.repeat(STILL[None], steps + 1, 0)] * len(bodies), self.STEP, touches)
        return record[:, :, :3] @ tilt

    def cube(self, side, place, factor=1.0):
        positions, triangles = box_surface((side, side, side) if np.isscalar(side) else side, (1, 1, 1))
        return positions - np.ptp(positions, axis=0) / 2.0 + np.array(place), triangles, factor

    def test_five_cubes_stand_and_do_not_creep(self):
        for side in (0.08, 0.3):
            record = self.go([self.cube(side, (0.0, side * (k + 0.5), 0.0)) for k in range(5)], 10.0)
            self.assertLess(np.abs(record[:, -1] - record[:, 0]).max(), 1e-3)

    def test_a_heavy_one_on_a_light_one_does_not_sink(self):
        for factor in (30.0, 100.0, 400.0):
            record = self.go([self.cube(0.2, (0.0, 0.1, 0.0)), self.cube(0.2, (0.0, 0.3, 0.0), factor)], 3.0)
            self.assertLess(np.abs(record[:, -1, 1] - record[:, 0, 1]).max(), 1e-3, factor)

    def test_wide_and_narrow_ones_stand_by_their_own_shape(self):
        pile = [((0.6, 0.1, 0.2), 0.05), ((0.1, 0.3, 0.1), 0.25), ((0.5, 0.05, 0.3), 0.425)]
        record = self.go([self.cube(size, (0.02 * k, height, 0.0)) for k, (size, height) in enumerate(pile)], 4.0)
        self.assertLess(np.abs(record[:, -1] - record[:, 0]).max(), 4e-3)

    def test_a_ball_rolls_as_the_closed_form_says(self):
        for radius, degrees, faces in ((0.1, 10.0, 2), (0.25, 20.0, 2), (0.05, 6.0, 3)):
            positions, triangles = ball_surface(radius, faces)
            record = self.go([(positions + np.array([0.0, radius, 0.0]), triangles, 1.0)], 2.0, degrees, 0.6)[0]
            exact = 5.0 / 7.0 * 0.5 * GRAVITY * np.sin(np.radians(degrees)) * 4.0
            self.assertAlmostEqual((record[-1, 0] - record[0, 0]) / exact, 1.0, delta=0.02, msg=(radius, degrees))

    def test_what_just_slides_is_not_held(self):
        for degrees, friction in ((28.0, 0.5), (13.0, 0.2)):
            record = self.go([self.cube((0.3, 0.1, 0.2), (0.0, 0.05, 0.0))], 1.0, degrees, friction)[0]
            exact = 0.5 * GRAVITY * (np.sin(np.radians(degrees)) - friction * np.cos(np.radians(degrees)))
            self.assertAlmostEqual((record[-1, 0] - record[0, 0]) / exact, 1.0, delta=0.04)

    def test_a_wall_at_200_metres_a_second_stops_a_ball(self):
        positions, triangles = ball_surface(0.1, 2)
        body = prop.build(positions, triangles)
        thing = sim.RigidBody(
            body_of(body.mass, body.inertia), rigid.FREE, np.array([0, 0, 0, 1.0, 1.0, 0.0, np.pi]), body.own_balls, *outside_of(body)
        )
        for speed in (20.0, 200.0):
            places = -3.0 + speed * self.STEP * np.arange(61.0)
            frames = frame_rows(np.stack([standing([[x, 0.0, 0.0]]) for x in places])).reshape(-1, 24)
            touches = (thing.points[:, 3:].copy(), frames, shape_rows([[0.02, 1.0, 1.0, 1.0]], [1.8], [0.3]))
            state = np.concatenate([body.centre, transforms.from_matrices(body.axes), np.zeros(6)])
            record = sim.advance([thing], [state], [np.repeat(STILL[None], 61, 0)], self.STEP, [touches])[0]
            self.assertGreater((record[:, 0] - places[1:])[-1], 0.11, speed)


class OutlineTest(TestCase):
    def test_the_box_is_the_smallest_however_the_thing_stands(self):
        turn = transforms.to_matrices(transforms.from_axis_angle(np.array([0.3, 0.8, 0.5]) / np.linalg.norm([0.3, 0.8, 0.5]), 0.7))
        for size in ((0.2, 0.2, 0.2), (0.3, 0.1, 0.1), (0.1, 0.2, 0.4)):
            positions, triangles = box_surface(size, (2, 2, 2))
            _, half, _ = prop.build(positions @ turn.T, triangles).box
            np.testing.assert_allclose(np.sort(2.0 * half), np.sort(size), rtol=1e-6)

    def test_a_ball_is_one_ball_and_a_box_its_corners(self):
        positions, triangles = ball_surface(0.2, 2)
        balls = prop.build(positions + 0.5, triangles).balls
        np.testing.assert_allclose(balls, [[0.5, 0.5, 0.5, 0.2]], atol=2e-3)
        positions, triangles = box_surface((0.2, 0.3, 0.1), (1, 1, 1))
        points = prop.build(positions, triangles).balls
        bare = points[points[:, 3] == 0.0, :3]
        self.assertEqual(
            len({tuple(corner) for corner in positions.round(6).tolist()} - {tuple(each) for each in bare.round(6).tolist()}), 0
        )


class BodyTest(TestCase):
    def test_mass_centre_and_inertia_of_a_box(self):
        positions, triangles = box_surface((0.2, 0.3, 0.4), (3, 3, 3))
        body = prop.build(positions, triangles)
        self.assertAlmostEqual(body.mass, prop.DENSITY * 0.024, places=6)
        np.testing.assert_allclose(body.centre, [0.1, 0.15, 0.2], atol=1e-9)
        exact = body.mass / 12.0 * np.array([0.3**2 + 0.4**2, 0.2**2 + 0.4**2, 0.2**2 + 0.3**2])
        np.testing.assert_allclose(np.sort(body.inertia), np.sort(exact), rtol=1e-6)
        self.assertLessEqual(len(body.points), prop.MOST_POINTS)

    def test_an_open_shell_has_a_mass_too(self):
        positions = np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], float)
        body = prop.build(positions, np.array([[0, 1, 2], [0, 2, 3]]))
        np.testing.assert_allclose(body.centre, [0.5, 0.0, 0.5], atol=1e-9)
        self.assertTrue((body.inertia > 0.0).all() and body.mass > 0.0)


class PlainCopyTest(TestCase):
    def test_compiled_is_plain(self):
        ends = []
        points = np.column_stack([np.random.default_rng(3).normal(0.0, 0.1, (6, 3)), np.zeros(6)])
        frames = frame_rows(np.repeat(standing([[0.05, -0.3, 0.0]])[None], 41, 0)).reshape(-1, 24)
        touches = (points, np.full((6, 1), 0.2), frames, shape_rows([[0.0, 0.0, 0.1, 0.1]], [0.1], [0.4]))
        for plain in (False, True):
            state, pivot = hanging(0.7, 0.3)
            body = body_of(1.0, (0.01, 0.02, 0.03), pivot, (0.0, 0.0, 1.0))
            with plainly() if plain else nullcontext():
                ends.append(run(state, body, 40, rigid.HINGE, touches=touches, limit=1.0, hold=0.01))
        np.testing.assert_allclose(*ends, atol=1e-5)


class KnockTest(TestCase):
    """Bodies that knock against each other: boxes of 20 cm."""

    SIDE = 0.2
    GROUND = shape_rows([[1e9, 1e9, 0.0, 1e9]], [1e9], [0.5])

    def make(self, positions, velocities, rotations=None, masses=None):
        """(bodies, their states), with no weight."""
        bodies, states = [], []
        for k, place in enumerate(positions):
            mass = masses[k] if masses else 1.0
            corners = 0.5 * self.SIDE * np.array(list(itertools.product((-1.0, 0.0, 1.0), repeat=3)))
            corners = np.column_stack([corners, np.zeros(len(corners))])
            outside = shape_rows([[0.098, 0.098, 0.098, 0.098]], [0.17], [0.5])[0], np.array([0.0, 0.0, 0.0, 0.002, 0.0, 0.0, 0.0, 1.0])
            numbers = body_of(mass, np.full(3, mass * self.SIDE**2 / 6.0))
            bodies.append(sim.RigidBody(numbers, rigid.FREE, np.array([0.0, 0.0, 0.0, 1.0, 1.0, 0.0, np.pi]), corners, *outside))
            turn = [0, 0, 0, 1.0] if rotations is None else rotations[k]
            states.append(np.concatenate([place, turn, velocities[k], np.zeros(3)]).astype(float))
        return bodies, states

    def go(self, bodies, states, steps, on_ground=False):
        """Positions and rotations (B, S, 7)."""
        touches = None
        if on_ground:
            frames = frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]])[None], steps + 1, 0)).reshape(-1, 24)
            touches = [(np.zeros((len(body.points), 1)), frames, self.GROUND) for body in bodies]
            for body in bodies:
                body.settings[:3] = DOWN
        return sim.advance(bodies, states, [np.repeat(STILL[None], steps + 1, 0)] * len(bodies), DT, touches)

    def momenta(self, states):
        """Momentum, and angular momentum about the origin, of bodies of one kilogram (their inertia is the same about every axis)."""
        moving = sum(state[7:10] for state in states)
        return moving, sum(np.cross(state[:3], state[7:10]) + self.SIDE**2 / 6.0 * state[10:] for state in states)

    def test_two_free_bodies_that_meet_keep_their_momentum(self):
        tilted = transforms.from_axis_angle(np.array([0.3, 0.5, 0.8]), 0.6)
        bodies, states = self.make(
            [(-0.3, 0.02, 0.0), (0.3, 0.0, 0.03)], [(2.0, 0.0, 0.0), (-1.0, 0.3, 0.0)], [tilted, np.array([0, 0, 0, 1.0])]
        )
        begun = self.momenta(states)
        energy = sum(state[7:10] @ state[7:10] for state in states)
        self.go(bodies, states, 120)
        self.assertGreater(states[1][7], 0.0)
        for before, after in zip(begun, self.momenta(states), strict=True):
            np.testing.assert_allclose(after, before, atol=2e-3)
        self.assertLess(sum(state[7:10] @ state[7:10] for state in states), energy)

    def test_none_goes_through_the_other_however_fast(self):
        for speed in (1.0, 10.0, 60.0):
            bodies, states = self.make([(-0.6, 0.0, 0.0), (0.0, 0.0, 0.0)], [(speed, 0.0, 0.0), (0.0, 0.0, 0.0)])
            record = self.go(bodies, states, 240)
            self.assertGreater((record[1, :, 0] - record[0, :, 0]).min(), 0.9 * self.SIDE)

    def test_a_stack_comes_to_rest_and_stays(self):
        bodies, states = self.make([(0.0, 0.11, 0.0), (0.01, 0.33, 0.0), (-0.02, 0.55, 0.01)], np.zeros((3, 3)), masses=(1.0, 2.0, 0.5))
        self.go(bodies, states, 288, on_ground=True)
        record = self.go(bodies, states, 864, on_ground=True)[:, :, :3]
        np.testing.assert_allclose(record[:, 0, 1], [0.1, 0.3, 0.5], atol=1e-3)
        # Calm, far below a tenth of a millimetre from substep to substep; it creeps by no more than millimetres in three seconds.
        self.assertLess(np.abs(np.diff(record, axis=1)).max(), 2e-5)
        self.assertLess(np.abs(record[:, -1] - record[:, 0]).max(), 5e-3)

    def test_the_plain_copy_does_the_same(self):
        travels = []
        for how in (nullcontext, plainly):
            bodies, states = self.make([(-0.095, 0.01, 0.0), (0.11, 0.0, 0.01)], [(1.0, 0.0, 0.0), (-1.0, 0.0, 0.0)])
            with how():
                self.go(bodies, states, 5)
            travels.append(np.array(states))
        np.testing.assert_allclose(*travels, atol=2e-4)
        self.assertLess(travels[0][0, 7], 0.9)

    def test_a_box_lies_on_a_skin_that_rises(self):
        """A frame of a surface that rises by 2 cm, below a box that lies on it: it goes up with it, and stands still on it."""
        bodies, states = self.make([(0.0, 0.1, 0.0)], np.zeros((1, 3)))
        bodies[0].settings[:3] = DOWN
        low = np.flatnonzero(bodies[0].points[:, 1] < 0.0)
        surface_contacts = np.zeros((len(low), 12))
        surface_contacts[:, 0], surface_contacts[:, 3], surface_contacts[:, 2], surface_contacts[:, 5] = (
            *(2 * [bodies[0].points[low, 0]]),
            *(2 * [bodies[0].points[low, 2]]),
        )
        surface_contacts[:, 4], surface_contacts[:, 7], surface_contacts[:, 10] = 0.02, 1.0, 1.0
        near = (low, surface_contacts, np.zeros(len(low)), np.full(len(low), 0.5))
        for travel in ([0.0, 0.0, 0.0], [0.005, 0.0, 0.0]):
            begun = states[0][:3].copy()
            surface_contacts[:, :3] += travel
            surface_contacts[:, 3:6] += travel
            record = sim.advance(bodies, states, [np.repeat(STILL[None], 13, 0)], DT, surface_contacts=[near])[0]
            self.assertAlmostEqual(record[-1, 1] - begun[1], 0.02, delta=5e-4)
            self.assertAlmostEqual(record[-1, 0], begun[0], delta=1e-6)
            surface_contacts[:, 1], surface_contacts[:, 4] = surface_contacts[:, 4], surface_contacts[:, 4] + 0.02
