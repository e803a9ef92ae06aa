"""Sheets against what cloth does: hanging, sticking out, lying over a ball; and their kernels against their plain copies."""

from unittest import TestCase, mock

import numpy as np
from scipy.optimize import brentq
from scipy.special import j0

from quiver.bodies import sheet
from quiver.bodies.chain import GRAVITY
from quiver.contact.own import FoldContacts
from quiver.contact.softs import SoftContacts
from quiver.kernels import sheets
from quiver.kernels.folds import push_folds
from quiver.ring import swing_of
from quiver.setup import edits
from quiver.setup.model import Setup
from quiver.sim import sheet as solver
from quiver.sim import solid
from tests.makers import contacts_of

SUBSTEPS, DT, LOOKS = 4, 1.0 / 96.0, 2


def strip(length, width, cells, held, give=1.0, bending=0.02, hold_rate=3.0):
    """A flat strip along X in the XZ plane, cells (along, across): (nodes, triangles, SheetBody)."""
    along, across = cells
    x, z = np.meshgrid(np.linspace(0.0, length, along + 1), np.linspace(0.0, width, across + 1), indexing="ij")
    nodes = np.stack([x.ravel(), np.zeros(x.size), z.ravel()], 1)
    corner = (np.arange(along)[:, None] * (across + 1) + np.arange(across)).ravel()
    a, b, c, d = corner, corner + 1, corner + across + 2, corner + across + 1
    # Diagonals in turns, so that it has no favourite direction.
    turn = ((corner // (across + 1) + corner % (across + 1)) % 2 == 0)[:, None]
    triangles = np.concatenate(
        [np.where(turn, np.stack([a, b, c], 1), np.stack([a, b, d], 1)), np.where(turn, np.stack([a, c, d], 1), np.stack([b, c, d], 1))]
    )
    return nodes, triangles, sheet.build(nodes, triangles, held(nodes).astype(float), give, bending, hold_rate)


class Run:
    def __init__(self, nodes, body, settle=0.4, substeps=SUBSTEPS, gravity=GRAVITY):
        dt = 1.0 / (24.0 * substeps)
        damping_factor = np.exp(-2.0 * np.log(20.0) / settle * dt) if settle else 1.0
        self.nodes, self.model = nodes, solver.sheet_model(body, dt, damping_factor=damping_factor, gravity=(0.0, -gravity, 0.0))
        self.state, self.targets = solid.SolidState(nodes), np.repeat(nodes[None], substeps, 0)

    def frames(self, count, touching=None):
        for _ in range(count):
            touches = solver.NO_TOUCHES
            if touching:
                touching.ready(np.zeros((SUBSTEPS, 1, 3, 4)), np.zeros(1, bool), SUBSTEPS)
                touches = (*touching.touches(0, self.state, np.zeros_like(self.nodes))[:3], solver.NO_FOLDS)
            solver.advance(self.model, self.state, self.targets, self.nodes, touches=touches)
        return self.state.positions


class ClosedFormTest(TestCase):
    def overhang(self, bending, cells, uneven=0.0):
        """By how much a strip twice as long as the bending length bends down where it is clamped [degrees]."""
        length = 2.0 * bending
        step = length / cells
        across = max(2, cells // 3)
        nodes, triangles, _ = strip(length + step, across * step, (cells + 1, across), lambda n: np.zeros(len(n)))
        inner = (nodes[:, 0] > 1.5 * step) & (nodes[:, 0] < length + 0.5 * step)
        rim = (nodes[:, 2] < 1e-9) | (nodes[:, 2] > (across - 1e-6) * step)
        loose = inner[:, None] * np.column_stack([np.ones(len(nodes)), np.zeros(len(nodes)), ~rim])
        nodes = nodes + np.random.default_rng(4).uniform(-uneven, uneven, nodes.shape) * step * loose
        body = sheet.build(nodes, triangles, (nodes[:, 0] < 1.01 * step).astype(float), 0.01, bending, 3.0)
        last = Run(nodes, body).frames(72)
        tip = last[nodes[:, 0] > length + 0.5 * step].mean(0)
        return np.degrees(np.arctan2(-tip[1], tip[0] - step))

    def test_it_bends_down_as_the_cantilever_test_says_whatever_its_mesh(self):
        for bending, cells in ((0.015, 4), (0.06, 8), (0.2, 16), (0.03, 32)):
            self.assertAlmostEqual(self.overhang(bending, cells), 41.5, delta=2.0, msg=(bending, cells))
        for bending, cells in ((0.04, 8), (0.15, 16)):
            self.assertAlmostEqual(self.overhang(bending, cells, 0.25), 41.5, delta=3.0, msg=(bending, cells))

    def hung(self, cells, give, bending=0.02, length=1.0):
        """A strip that hangs by its upper end: (nodes, SheetBody)."""
        nodes, triangles, _ = strip(length, 0.25 * length, (cells, max(2, cells // 4)), lambda n: n[:, 0] < 1e-6)
        hung = nodes[:, [1, 0, 2]] * [1.0, -1.0, 1.0]
        return hung, sheet.build(hung, triangles, (hung[:, 1] > -1e-6).astype(float), give, bending, 3.0)

    def test_hanging_it_lengthens_by_what_it_gives_whatever_its_mesh(self):
        for give, cells in ((0.002, 60), (0.01, 10), (0.01, 30), (0.05, 24), (0.1, 12)):
            nodes, body = self.hung(cells, give)
            last = Run(nodes, body).frames(120)
            longer = -last[nodes[:, 1] < -1.0 + 1e-6, 1].mean() - 1.0
            self.assertAlmostEqual(longer / give, 1.0, delta=0.1, msg=(give, cells))

    def test_it_hangs_as_a_catenary(self):
        span, slack = 1.0, 1.2
        for cells in (20, 40):
            nodes, triangles, _ = strip(slack, 0.1, (cells, 3), lambda n: np.zeros(len(n)))
            ends = (nodes[:, 0] < 1e-6) | (nodes[:, 0] > slack - 1e-6)
            body = sheet.build(nodes, triangles, ends.astype(float), 0.001, 0.003, 3.0)
            run = Run(nodes, body, settle=0.8)
            # Both ends come together over a second, and it hangs between them.
            for frame in range(120):
                share = np.clip((frame + np.arange(1, SUBSTEPS + 1) / SUBSTEPS) / 24.0, 0.0, 1.0)
                before = max(frame, 0) / 24.0 if frame < 24 else 1.0
                run.targets = nodes * (1.0 + (span / slack - 1.0) * share)[:, None, None]
                solver.advance(run.model, run.state, run.targets, nodes * (1.0 + (span / slack - 1.0) * min(before, 1.0)))
            parameter = brentq(lambda a: 2.0 * a * np.sinh(span / (2.0 * a)) - slack, 0.05, 50.0)
            sag = parameter * (np.cosh(span / (2.0 * parameter)) - 1.0)
            self.assertAlmostEqual(-run.state.positions[:, 1].min() / sag, 1.0, delta=0.02, msg=cells)

    def test_a_swinging_strip_and_a_board_have_the_periods_of_closed_forms(self):
        for bending, cells in ((0.01, 8), (0.01, 24), (0.3, 8), (0.3, 24)):
            length = 0.3
            nodes, body = self.hung(cells, 0.01, bending, length)
            run, down = Run(nodes, body, settle=None), -nodes[:, 1]
            is_board = bending > 0.1
            shape = down / length if is_board else j0(2.4048 * np.sqrt(np.maximum(1.0 - down / length, 0.0)))
            run.state.positions[:, 0] = (0.1 if is_board else 0.02) * length * shape
            if is_board:
                run.state.positions[:, 1] = -np.sqrt(down**2 - run.state.positions[:, 0] ** 2)
            swing, steps = [], int(2.2 / DT)
            for _ in range(steps):
                solver.advance(run.model, run.state, nodes[None], nodes)
                swing.append(run.state.positions[int(np.argmax(down)), 0])
            rate, _ = swing_of(np.array(swing) / np.abs(swing).max(), 1.0 / DT)
            exact = np.sqrt(1.5 * GRAVITY / length) / (1.0 + 0.1**2 / 16.0) if is_board else 1.2024 * np.sqrt(GRAVITY / length)
            self.assertAlmostEqual(2.0 * np.pi * rate / exact, 1.0, delta=0.04, msg=(bending, cells))

    def test_flat_and_free_of_weight_it_stays_bent_as_it_was_made(self):
        nodes, triangles, _ = strip(0.4, 0.2, (12, 6), lambda n: n[:, 0] < 0.01)
        curled = np.stack([np.sin(4 * nodes[:, 0]) / 4, (1 - np.cos(4 * nodes[:, 0])) / 4, nodes[:, 2]], 1)
        body = sheet.build(curled, triangles, (nodes[:, 0] < 0.05).astype(float), 0.01, 0.2, 3.0)
        run = Run(curled, body)
        still = np.zeros(3)
        for _ in range(48):
            solver.advance(run.model, run.state, run.targets, curled, still)
        self.assertLess(np.abs(run.state.positions - curled).max(), 1e-4)


class StableTest(TestCase):
    def test_a_fine_stiff_sheet_does_not_flutter_and_a_scrambled_one_comes_to_rest(self):
        nodes, _, body = strip(1.0, 1.0, (60, 60), lambda n: (n[:, 0] < 0.02) & (n[:, 2] < 0.02), 1e-3, 0.05)
        run = Run(nodes, body)
        run.frames(48)
        self.assertLess(np.abs(run.state.velocities).max(), 12.0)
        nodes, _, body = strip(0.6, 0.4, (15, 10), lambda n: n[:, 0] < 0.01, 0.01, 0.05)
        run = Run(nodes, body)
        scrambled = nodes + np.random.default_rng(0).normal(0.0, 0.3, nodes.shape) * body.is_free[:, None]
        run.state.positions[:] = scrambled
        run.frames(120)
        self.assertLess(np.abs(run.state.velocities).max(), 0.5)
        lengths = np.linalg.norm(np.diff(run.state.positions[body.edges], axis=1)[:, 0], axis=1)
        self.assertLess((lengths / body.lengths).max(), 1.3)


class DrapeTest(TestCase):
    def test_over_a_ball_no_vertex_is_inside(self):
        nodes, triangles, _ = strip(1.2, 1.2, (28, 28), lambda n: np.zeros(len(n)))
        nodes = nodes - [0.6, -0.42, 0.6]
        body = sheet.build(nodes, triangles, np.zeros(len(nodes)), 0.01, 0.02, 3.0)
        contacts = contacts_of(edits.with_new_collider(Setup(), "ball", "Ball", size=(0.4,)))
        every, ends = np.arange(len(nodes)), np.tile([1.0, 0.0, 0.0, 0.0], (len(nodes), 1))
        touching = SoftContacts(contacts, np.array([0]), [], nodes, np.repeat(every[:, None], 4, 1), ends, 0.002)
        touching.start(np.zeros((1, 3, 4)), DT)
        last = Run(nodes, body).frames(120, touching)
        away = np.linalg.norm(last, axis=1)
        self.assertGreater(away.min(), 0.4)
        self.assertLess(np.quantile(away, 0.3), 0.41)
        self.assertLess(last[:, 1].min(), -0.05)


class PlainCopyTest(TestCase):
    def test_compiled_is_plain_and_threads_do_not_matter(self):
        nodes, _, body = strip(0.5, 0.3, (9, 6), lambda n: n[:, 0] < 0.01, 0.02, 0.03)
        fast, slow = Run(nodes, body), Run(nodes, body)
        fast.frames(1)
        steps = "look look_around look_along look_across predict draw_curves draw_springs prepare solve_down gather_middle solve_middle"
        steps += " solve_up multiply_springs multiply dotted turn go arrive begin move finish_rows"
        plain = {name: getattr(sheets, name).py_func for name in steps.split()}
        with mock.patch.multiple(sheets, **plain), mock.patch.object(sheets, "advance_sheet", sheets.advance_sheet.py_func):
            slow.frames(1)
        self.assertGreater(np.abs(fast.state.positions - nodes).max(), 1e-3)
        np.testing.assert_allclose(fast.state.positions, slow.state.positions, atol=2e-6)
        nodes, _, body = strip(2.0, 1.0, (60, 30), lambda n: n[:, 0] < 0.01)
        ends = []
        for threads in (1, 2):
            run = Run(nodes, body)
            self.assertTrue(run.model.is_cut)
            for _ in range(3):
                solver.advance(run.model, run.state, run.targets, nodes, threads=threads)
            ends.append(run.state.positions.copy())
        np.testing.assert_array_equal(*ends)


class FoldTest(TestCase):
    """A sheet against itself: none of its edges goes through any of its triangles."""

    def crossings(self, positions, triangles, edges):
        """How many pairs of an edge and a triangle without a common particle cross (Möller, Trumbore 1997)."""
        a, b, c = (positions[triangles[:, k]] for k in range(3))
        found = 0
        for i, j in edges:
            way = positions[j] - positions[i]
            h, e1, e2, s = np.cross(way, c - a), b - a, c - a, positions[i] - a
            det = np.einsum("tk,tk->t", e1, h)
            with np.errstate(divide="ignore", invalid="ignore"):
                u, q = np.einsum("tk,tk->t", s, h) / det, np.cross(s, e1)
                v, share = q @ way / det, np.einsum("tk,tk->t", e2, q) / det
                crosses = (u > 0) & (v > 0) & (u + v < 1) & (share > 0) & (share < 1)
            found += int((crosses & ~np.isin(triangles, (i, j)).any(1)).sum())
        return found

    def dropped(self, is_apart, bending=0.01, seed=2, cells=(44, 22), thickness=0.004):
        """A curtain that stands on the ground's edge and is let fall onto a floor: (positions, triangles, edges)."""
        nodes, triangles, _ = strip(1.0, 0.5, cells, lambda n: np.zeros(len(n)))
        rng = np.random.default_rng(seed)
        hung = nodes[:, [1, 0, 2]] * [1.0, 1.0, 1.0] + [0.0, 0.02, 0.0]
        hung[:, 0] += 0.02 * np.sin((5.0 + 2.0 * seed) * hung[:, 1]) + 0.002 * rng.normal(size=len(hung))
        body = sheet.build(hung, triangles, np.zeros(len(hung)), 0.01, bending, 3.0)
        contacts = contacts_of(edits.with_new_collider(Setup(), "ground", "Ground"))
        every, ends = np.arange(len(hung)), np.tile([1.0, 0.0, 0.0, 0.0], (len(hung), 1))
        touching = SoftContacts(contacts, np.array([0]), [], hung, np.repeat(every[:, None], 4, 1), ends, 0.002)
        touching.start(np.zeros((1, 3, 4)), DT)
        run, folds = Run(hung, body), FoldContacts(hung, triangles, body.edges, thickness)
        for _ in range(60):
            touching.ready(np.zeros((SUBSTEPS, 1, 3, 4)), np.zeros(1, bool), SUBSTEPS, looks=LOOKS)
            for look in range(LOOKS):
                touches = touching.touches(0, run.state, np.zeros_like(hung), look)[:3]
                own = folds.touches(run.state, np.zeros_like(hung), SUBSTEPS // LOOKS * DT) if is_apart else solver.NO_FOLDS
                solver.advance(run.model, run.state, run.targets[: SUBSTEPS // LOOKS], hung, touches=(*touches, own))
        return run.state.positions, triangles, body.edges

    def test_a_dropped_curtain_does_not_go_through_itself(self):
        through, apart = (self.crossings(*self.dropped(is_apart)) for is_apart in (False, True))
        self.assertGreater(through, 20)
        self.assertEqual(apart, 0)

    def test_nor_do_limp_stiff_thick_and_coarse_ones(self):
        for case in (
            {"bending": 0.002, "seed": 31, "cells": (30, 15), "thickness": 0.006},
            {"bending": 0.02, "seed": 36, "cells": (24, 12)},
        ):
            with self.subTest(case):
                self.assertEqual(self.crossings(*self.dropped(True, **case)), 0)

    def test_the_plain_copy_does_the_same_and_momentum_is_kept(self):
        rng = np.random.default_rng(5)
        points = rng.normal(0.0, 0.01, (12, 4)).astype(np.float32)
        points[:, 3] = rng.uniform(0.5, 2.0, 12)
        items = np.array([rng.choice(12, 4, replace=False) for _ in range(20)], np.int32)
        shares = rng.dirichlet([1.0, 1.0, 1.0], 20)
        weights, normals = np.column_stack([np.ones(20), -shares]), rng.normal(size=(20, 3))
        normals /= np.linalg.norm(normals, axis=1, keepdims=True)
        scene = items, weights, normals, np.tile([0.001, 0.004], (20, 1)), 0.3
        fast, slow = points.copy(), points.copy()
        push_folds(fast, np.zeros_like(points), *scene)
        push_folds.py_func(slow, np.zeros_like(points), *scene)
        np.testing.assert_allclose(fast, slow, atol=1e-7)
        moved = (fast - points)[:, :3] / points[:, 3:]
        self.assertGreater(np.abs(moved).max(), 1e-3)
        np.testing.assert_allclose(moved.sum(0), 0.0, atol=1e-6)
