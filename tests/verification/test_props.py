"""Rigid bodies against closed forms: a pendulum, free fall and spin, a thing on a slope; and the kernel against its plain copy."""

from unittest import TestCase

import numpy as np

from quiver.bodies import prop
from quiver.bodies.chain import GRAVITY
from quiver.kernels import rigid
from quiver.rig import transforms
from quiver.sim.obstacles import frame_rows, shape_rows, standing
from tests.solids import box_surface

DT = 1.0 / 288.0
STILL = np.array([0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0])
DOWN = np.array([0.0, -GRAVITY, 0.0])


def body_of(mass, inertia, pivot=(0.0, 0.0, 0.0), axis=(0.0, 0.0, 0.0)):
    return np.concatenate([[1.0 / mass], 1.0 / np.array(inertia, float), pivot, axis]).astype(float)


def run(state, body, steps, kind=rigid.BALL, pull=DOWN, touches=None, keep=1.0, limit=np.pi, hold=0.0, plain=False):
    """Places and turns (S, 7) of a body whose joint stands still."""
    keyed = np.repeat(STILL[None], steps + 1, 0)
    points, reaches, frames, shapes = touches or (np.zeros((0, 3)), np.zeros((0, 0)), np.zeros((0, 24)), np.zeros((0, 6)))
    record = np.empty((steps, 7))
    advance = rigid.advance_rigid.py_func if plain else rigid.advance_rigid
    advance(state, body, kind, keyed, DT, pull, keep, 1.0, hold, limit, points, reaches, frames, shapes, record)
    return record


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
        keep = np.exp(-2.0 * np.log(20.0) / 1.5 * DT)
        record = run(state, body_of(1.0, (0.01, 0.01, 0.01), pivot), 900, keep=keep)
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

        def momentum(turns, spins):
            own = transforms.rotate(transforms.inverse(turns), spins)
            return transforms.rotate(turns, inertia * own)

        before = momentum(STILL[3:], np.array([6.0, 0.3, 0.2]))
        # The spin is that of the middle of the last substep.
        after = momentum(transforms.slerp(record[-2, 3:], record[-1, 3:], np.array(0.5)), state[10:])
        self.assertLess(np.linalg.norm(after - before) / np.linalg.norm(before), 2e-3)


class ContactTest(TestCase):
    def slope(self, degrees, grip):
        """A box on a slope along X: how far it went down in a second."""
        places, triangles = box_surface((0.2, 0.1, 0.2), (1, 1, 1))
        body = prop.build(places, triangles)
        points = (body.points - body.centre) @ body.axes
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        tilt = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
        frames = frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]], tilt[None])[None], 289, 0))[:288].reshape(-1, 24)
        shapes = shape_rows([[1e9, 1e9, 0.0, 1e9]], [1e9], [grip])
        turn = transforms.multiply(transforms.from_matrices(tilt), transforms.from_matrices(body.axes))
        state = np.concatenate([tilt @ [0.0, 0.05 + 1e-4, 0.0], turn, np.zeros(6)])
        touches = (points, np.zeros((len(points), 1)), frames, shapes)
        record = run(state, body_of(body.mass, body.inertia), 288, rigid.FREE, touches=touches)
        return record[:, :3] @ tilt[:, 0], record[:, :3] @ tilt[:, 1]

    def test_it_stays_below_the_friction_angle_and_slides_above(self):
        along, away = self.slope(15.0, 0.4)
        self.assertLess(along[-1] - along[20], 4e-3)
        self.assertLess(np.ptp(away[100:]), 1e-4)
        along, _ = self.slope(30.0, 0.3)
        exact = 0.5 * GRAVITY * (np.sin(np.radians(30.0)) - 0.3 * np.cos(np.radians(30.0)))
        self.assertAlmostEqual(along[-1] / exact, 1.0, delta=0.1)


class BodyTest(TestCase):
    def test_mass_centre_and_inertia_of_a_box(self):
        places, triangles = box_surface((0.2, 0.3, 0.4), (3, 3, 3))
        body = prop.build(places, triangles)
        self.assertAlmostEqual(body.mass, prop.DENSITY * 0.024, places=6)
        np.testing.assert_allclose(body.centre, [0.1, 0.15, 0.2], atol=1e-9)
        exact = body.mass / 12.0 * np.array([0.3**2 + 0.4**2, 0.2**2 + 0.4**2, 0.2**2 + 0.3**2])
        np.testing.assert_allclose(np.sort(body.inertia), np.sort(exact), rtol=1e-6)
        self.assertLessEqual(len(body.points), prop.MOST_POINTS)

    def test_an_open_shell_has_a_mass_too(self):
        places = np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], float)
        body = prop.build(places, np.array([[0, 1, 2], [0, 2, 3]]))
        np.testing.assert_allclose(body.centre, [0.5, 0.0, 0.5], atol=1e-9)
        self.assertTrue((body.inertia > 0.0).all() and body.mass > 0.0)


class PlainCopyTest(TestCase):
    def test_compiled_is_plain(self):
        ends = []
        points = np.random.default_rng(3).normal(0.0, 0.1, (6, 3))
        frames = frame_rows(np.repeat(standing([[0.05, -0.3, 0.0]])[None], 41, 0)).reshape(-1, 24)
        touches = (points, np.full((6, 1), 0.2), frames, shape_rows([[0.0, 0.0, 0.1, 0.1]], [0.1], [0.4]))
        for plain in (False, True):
            state, pivot = hanging(0.7, 0.3)
            body = body_of(1.0, (0.01, 0.02, 0.03), pivot, (0.0, 0.0, 1.0))
            ends.append(run(state, body, 40, rigid.HINGE, touches=touches, limit=1.0, hold=0.01, plain=plain))
        np.testing.assert_allclose(*ends, atol=1e-5)
