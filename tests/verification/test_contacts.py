"""Contact against closed forms: a point on a slope, at rest, falling fast, and beginning deep inside; a chain over a ball."""

from unittest import TestCase

import numpy as np

from quiver.bodies import sheet
from quiver.bodies.chain import GRAVITY
from quiver.contact.contacts import Contacts
from quiver.contact.softs import SoftContacts
from quiver.kernels import chain_rows as kernel
from quiver.kernels import contacts
from quiver.rig.character import Character
from quiver.setup import edits
from quiver.setup.model import Setup
from quiver.sim import sheet as sheets
from quiver.sim import solid
from quiver.sim.model import chain_model
from quiver.sim.obstacles import frame_rows, shape_rows, standing
from quiver.sim.state import ChainState
from quiver.sim.step import advance, contact_distance_rows, motion_rows
from tests.makers import obstacles, straight
from tests.solids import bar
from tests.verification.test_closed_forms import DT, physics

GROUND = [1e9, 1e9, 0.0, 1e9]


def tilted(degrees, friction):
    """The ground, tilted about Z so that +X is down, as frames for one substep and shapes."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    turn = np.array([[[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]]])
    return frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]], turn)[None], 2, 0)), shape_rows([GROUND], [1e9], [friction])


def fly(start, velocity, steps, frames, shapes, reach=0.01, gravity=GRAVITY):
    """The travel (steps, 3) of a free particle among colliders."""
    loose = {"stretch": np.full(1, kernel.DISCONNECTED), "gravity": np.array([[0.0, -gravity, 0.0]])}
    model = chain_model([physics(1, **loose)], DT, False)
    points = np.array([[[0.0, 50.0, 0.0], start]])
    motion, _ = motion_rows(model, np.repeat(points[None], steps, 0), points)
    state = ChainState(model)
    state.chain(0)[0, 1] = velocity
    if len(frames) < steps * len(shapes):
        frames = np.tile(frames.reshape(-1, contacts.FRAME), (steps, 1))
    reaches = contact_distance_rows(
        model, np.stack([np.full((1, len(shapes), 1), contacts.NEVER), np.full((1, len(shapes), 1), reach)], -1)
    )
    arrays = (frames.reshape(-1, contacts.FRAME).astype(np.float32), shapes.astype(np.float32), reaches)
    return points[0, 1] + advance(model, state, motion, colliders=arrays)[:, 0, 0]


class SlopeTest(TestCase):
    def along(self, degrees, friction, steps=240):
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        start = 0.01 * np.array([s, c, 0.0])
        travel = fly(start, (0, 0, 0), steps, *tilted(degrees, friction)) - start
        return travel @ [c, -s, 0.0], travel @ [s, c, 0.0]

    def test_below_the_friction_angle_it_stays(self):
        along, away = self.along(20.0, np.tan(np.radians(22.0)))
        self.assertLess(np.abs(along).max(), 1e-4)
        self.assertLess(np.abs(away).max(), 1e-4)

    def test_above_it_slides_as_coulomb_says(self):
        for degrees, friction in ((30.0, 0.3), (40.0, 0.0), (25.0, 0.4)):
            along, away = self.along(degrees, friction)
            angle, time = np.radians(degrees), DT * len(along)
            # The push of a substep that ends on the surface is that of gravity across it; symplectic Euler adds half a substep.
            exact = 0.5 * GRAVITY * (np.sin(angle) - friction * np.cos(angle)) * time * (time + DT)
            self.assertAlmostEqual(along[-1] / exact, 1.0, delta=0.01)
            self.assertLess(np.abs(away).max(), 1e-4)

    def test_at_rest_it_is_calm(self):
        travel = fly((0.0, 0.3, 0.0), (0, 0, 0), 480, *tilted(0.0, 0.5))
        self.assertLess(np.ptp(travel[240:], axis=0).max(), 1e-5)
        self.assertAlmostEqual(travel[-1, 1], 0.01, delta=1e-5)


class SpeedTest(TestCase):
    def test_a_bullet_does_not_pass_a_thin_wall(self):
        for speed in (20.0, 90.0, 400.0):
            frames, shapes = obstacles([[1.0, 0.0, 0.0]], [[0.001, 0.5, 0.5, 0.5]], 1)
            for aside in (0.0, 0.2 * speed):
                travel = fly((0.0, 0.0, 0.0), (speed, 0.0, aside), 60, frames, shapes, reach=0.004, gravity=0.0)
                is_at_wall = np.abs(travel[:, 2]) < 0.49
                self.assertLess(travel[is_at_wall, 0].max(), 1.0 - 0.004, (speed, aside))

    def test_a_wall_that_moves_fast_takes_a_point_along(self):
        for step in (0.2, 0.7, 1.7):
            frames, shapes = obstacles([[-1.0, 0.0, 0.0]], [[0.001, 0.5, 0.5, 0.5]], 40, moves=(step, 0.0, 0.0))
            travel = fly((0.0, 0.0, 0.0), (0.0, 0.0, 0.0), 40, frames, shapes, reach=0.004, gravity=0.0)
            self.assertGreater(travel[-1, 0], -1.0 + 40 * step, step)


class DeepTest(TestCase):
    def test_what_begins_deep_inside_comes_out_slowly(self):
        travel = fly((0.0, -0.1, 0.0), (0, 0, 0), 480, *tilted(0.0, 0.5))[:, 1]
        self.assertAlmostEqual(travel[-1], 0.01, delta=1e-4)
        self.assertLess((np.diff(travel) / DT).max(), 1.1 * contacts.EASE * 0.11 / DT)
        self.assertLess(travel.max(), 0.02)


class ShapeTest(TestCase):
    def test_distances_are_those_of_the_shapes(self):
        points = np.random.default_rng(4).normal(0.0, 0.6, (400, 3))
        frames = frame_rows(np.repeat(standing([[0.1, 0.0, 0.0]] * 3)[None], 2, 0))[0]
        cores = np.array([[0.0, 0.0, 0.0, 0.0], [0.0, 0.0, 0.3, 0.3], [0.4, 0.2, 0.3, 0.3]])
        shapes, out = shape_rows(cores, np.ones(3), np.zeros(3)), np.empty((400, 3))
        contacts.distances(points, frames, shapes, out)
        local = points - [0.1, 0.0, 0.0]
        ball = np.linalg.norm(local, axis=1)
        capsule = np.linalg.norm(local - np.clip(local, [0, -0.3, 0], [0, 0.3, 0]), axis=1)
        np.testing.assert_allclose(out[:, 0], ball, atol=1e-12)
        np.testing.assert_allclose(out[:, 1], capsule, atol=1e-12)
        over = np.abs(local) - [0.4, 0.3, 0.2]
        box = np.where((over < 0).all(1), over.max(1), np.linalg.norm(np.maximum(over, 0), axis=1))
        np.testing.assert_allclose(out[:, 2], box, atol=1e-12)
        plain = np.empty((20, 3))
        contacts.distances.py_func(points[:20], frames, shapes, plain)
        np.testing.assert_allclose(plain, out[:20], atol=1e-6)

    def test_the_deepest_point_is_found(self):
        points = np.array([[0.0, 0.5, 0.0], [0.0, 0.05, 0.0], [0.02, 0.0, 0.0]])
        frames = frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]])[None], 2, 0))[0]
        shapes, reaches = shape_rows([[0.0] * 4], [0.0], [0.0]), np.full((3, 1), 0.1)
        for find in (contacts.deepest, contacts.deepest.py_func):
            depth, vertex = find(points, frames, shapes, reaches)
            self.assertEqual(vertex, 2)
            self.assertAlmostEqual(float(depth), 0.08, places=6)
        self.assertEqual(contacts.deepest(points, frames, shapes, np.full((3, 1), contacts.NEVER)), (0.0, -1))


class ChainTest(TestCase):
    def test_a_chain_that_falls_on_a_ball_ends_outside_of_it(self):
        n = 8
        chain = physics(n, gravity=np.tile([0.0, -9.81, 0.0], (n, 1)), damping_factor=np.full(n, 0.98))
        model = chain_model([chain], DT, False)
        points = np.array([[0.1 * k, 0.0, 0.0] for k in range(n + 1)])[None]
        frames, shapes = obstacles([[0.35, -0.2, 0.02]], [[0.0] * 4], 600)
        motion, _ = motion_rows(model, np.tile(points, (600, 1, 1, 1)), points)
        colliders = frames, shapes, contact_distance_rows(model, np.full((1, 1, n, 2), 0.16))
        moved = advance(model, ChainState(model), motion, colliders=colliders)[-1, 0]
        ends = np.concatenate([points[0, :1], points[0, 1:] + moved])
        both = np.concatenate([ends[1:], 0.5 * (ends[1:] + ends[:-1])])
        distance = np.linalg.norm(both - [0.35, -0.2, 0.02], axis=1)
        self.assertLess(moved[:, 1].min(), -0.2)
        self.assertGreater(distance.min(), 0.16 - 5e-4)


class WallTest(TestCase):
    """A wall 40 mm thick that comes at what floats: nothing is left behind it, however quick it is."""

    def assert_stopped(self, nodes, model, solver, nothing, thickness, substeps):
        skeleton, count = straight(1), len(nodes)
        wall = edits.with_new_collider(Setup(), "box", "Wall", joint=skeleton.names[0], place=(-3.0, 0.0, 0.0), size=(0.04, 2.0, 2.0, 0.0))
        contacts = Contacts(Character("wall", skeleton, (), ()), wall)
        corners, whole = np.repeat(np.arange(count)[:, None], 4, 1), np.tile([1.0, 0.0, 0.0, 0.0], (count, 1))

        def world(moved):
            placed = np.tile(np.eye(3, 4), (len(moved), len(skeleton), 1, 1))
            placed[:, :, 0, 3] = moved[:, None]
            return placed

        for speed in (3.0, 35.0, 200.0):
            state, touching = solid.SolidState(nodes), SoftContacts(contacts, np.array([0]), [], nodes, corners, whole, thickness)
            touching.start(world(np.zeros(1))[0], model.dt)
            frames = int(np.ceil(4.5 / (speed * substeps * model.dt)))
            for frame in range(frames):
                moved = speed * model.dt * (frame * substeps + 1 + np.arange(substeps))
                touching.ready(world(moved), np.zeros(1, bool), substeps)
                touches = *touching.touches(0, state, np.zeros_like(nodes))[:3], nothing
                solver.advance(model, state, np.repeat(nodes[None], substeps, 0), nodes, touches=touches)
            ahead = state.positions[:, 0] - (moved[-1] - 3.0)
            self.assertGreater(ahead.min(), 0.0219, speed)

    def test_a_sheet(self):
        steps = np.linspace(-0.2, 0.2, 9)
        y, z = np.meshgrid(steps, steps, indexing="ij")
        nodes, a = np.stack([np.zeros(81), y.ravel(), z.ravel()], 1), (np.arange(8)[:, None] * 9 + np.arange(8)).ravel()
        faces = np.concatenate([np.stack([a, a + 1, a + 10], 1), np.stack([a, a + 10, a + 9], 1)])
        model = sheets.sheet_model(sheet.build(nodes, faces, np.zeros(81), 0.01, 0.02, 0.0), 1.0 / 96.0)
        self.assert_stopped(nodes, model, sheets, sheets.NO_FOLDS, 0.002, 4)

    def test_a_solid(self):
        made, body = bar(0.08, length=0.4, thick=0.2, held=lambda nodes: np.zeros(len(nodes), bool))
        self.assert_stopped(made.nodes, solid.solid_model(body, made.tets, 2e4, 1.0 / 240.0), solid, solid.NO_PAIRS, 0.0, 10)
