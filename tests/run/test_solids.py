"""Soft volumes in a run, and the ring test that finds what their dials ask for."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.bodies import conforming, lattice, volume
from quiver.contact.own import OwnContacts
from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.mesh.topology import outer_faces
from quiver.rig.pose import world_matrices
from quiver.ring import ring_test, swing_of
from quiver.run.execute import execute
from quiver.run.parts.sources import surface_of
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.sim import solid
from tests.makers import Run
from tests.solids import box_surface


class SwingTest(TestCase):
    def test_a_made_up_swing_is_measured(self):
        frames = np.arange(80)
        curve = np.exp(-np.log(20.0) * frames / 40.0) * np.sin(2 * np.pi * 2.0 * frames / 24.0 + 0.2)
        rate, settle = swing_of(curve, 24.0)
        self.assertAlmostEqual(rate, 2.0, delta=0.02)
        self.assertAlmostEqual(settle, 40.0, delta=2.5)

    def test_what_does_not_swing_has_no_rate(self):
        self.assertEqual(swing_of(np.exp(-np.arange(40) / 3.0), 24.0), (None, None))


class RingTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def ring(self, layer="belly", **dials):
        volume = self.setup.layer(layer)
        return ring_test(self.character, self.setup, replace(volume, values=volume.values | dials))

    def test_mudwicks_soft_parts_meet_their_dials(self):
        for layer, dials in (("belly", {}), ("belly", {"wobble_rate": 1.2, "settle_time": 60.0}), ("belly", {"firmness": 300.0})):
            ring = self.ring(layer, **dials)
            self.assertTrue(ring.is_met, (dials, ring.rate, ring.wanted_rate))
            self.assertEqual(ring.reason, "")
            self.assertLess(abs(ring.settle / ring.wanted_settle - 1.0), 0.2, (dials, ring.settle))

    def belly(self, frame_rate=24.0, **values):
        """Offsets (F, R, 3) and measures of the belly alone, hopping and landing, with some dials."""
        belly = next(layer for layer in self.setup.layers if layer.id == "belly")
        settle = belly.value("settle_time") * frame_rate / 24.0
        belly = replace(belly, values=belly.values | {"settle_time": settle} | values)
        preroll = round(self.setup.preroll_frames * frame_rate / 24.0)
        setup = replace(self.setup, layers=(belly,), colliders=(), watches_skin=False, frame_rate=frame_rate, preroll_frames=preroll)
        chunks = list(execute(compile_plan(TakeSpec(self.character, setup, "hop and land"))))
        measures = {name: np.concatenate([chunk.measures["belly"][name] for chunk in chunks]) for name in ("volume", "keyed_volume")}
        return np.concatenate([chunk.offsets for chunk in chunks]), measures

    def test_all_of_the_volume_is_kept_as_keyed_or_as_at_rest(self):
        plain, measured = self.belly(volume_keep=100.0)
        self.assertLess(measured["keyed_volume"].min(), -20.0)
        self.assertLess(np.abs(measured["volume"] - measured["keyed_volume"]).max(), 1.0)
        offsets, measured = self.belly(volume_keep=100.0, volume_goal="rest")
        self.assertLess(np.abs(measured["volume"]).max(), 2.0)
        # From frame to frame it goes on as evenly.
        jerk, before = (np.linalg.norm(np.diff(each, 2, axis=0), axis=2).max() for each in (offsets, plain))
        self.assertLess(jerk, 1.5 * before)

    def test_it_moves_alike_at_all_frame_rates(self):
        (slow, _), (plain, _), (quick, _) = (self.belly(rate) for rate in (12.0, 24.0, 48.0))
        count = min(len(slow), (len(plain) + 1) // 2)
        self.assertLess(np.linalg.norm(plain[::2][:count] - slow[:count], axis=2).max(), 1e-3)
        count = min(len(plain), (len(quick) + 1) // 2)
        self.assertLess(np.linalg.norm(quick[::2][:count] - plain[:count], axis=2).max(), 1e-3)

    def test_it_says_why_where_nothing_swings(self):
        ring = self.ring(settle_time=2.0)
        self.assertIsNone(ring.rate)
        self.assertIn("settles before", ring.reason)
        with self.assertRaisesRegex(BadInput, "held everywhere"):
            self.ring(hold_gain=0.0)
        with self.assertRaisesRegex(BadInput, "Bell. is of the kind Prop"):
            ring_test(self.character, self.setup, self.setup.layer("bell"))


class SolidTest(TestCase):
    """A volume in a run: what is held, what fades, and where it is still."""

    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def offsets(self, clip="walk", **dials):
        layer = self.setup.layer("belly")
        setup = replace(self.setup, layers=(replace(layer, values=layer.values | dials),), preroll_frames=6.0)
        run = Run(TakeSpec(self.character, setup, clip, 0, 11))
        return run, np.concatenate([chunk.offsets for chunk in run.chunks()])

    def test_the_seam_to_what_is_out_is_smooth(self):
        run, offsets = self.offsets()
        size = np.linalg.norm(offsets, axis=2).max(0)
        part, solid = run.soft_bodies[0].part, run.soft_bodies[0]
        self.assertGreater(size.max(), 0.03)
        self.assertLess(size[solid.blend < 0.01].max(), 0.02 * size.max())
        # No edge of the skin is torn: neighbours differ by little against the greatest move.
        slot = np.full(len(part.mesh.positions), -1)
        slot[part.lattice.vertices] = np.arange(len(size))
        moves = np.where(slot[:, None] >= 0, offsets[5][slot], 0.0)
        a, b = part.mesh.triangles[:, 0], part.mesh.triangles[:, 1]
        self.assertLess(np.linalg.norm(moves[a] - moves[b], axis=1).max(), 0.5 * size.max())

    def test_held_everywhere_nothing_moves_and_turned_over_other_flesh_does(self):
        _, held = self.offsets(hold_gain=0.0)
        self.assertLess(np.abs(held).max(), 1e-5)
        run, painted = self.offsets()
        _, inverted = self.offsets(loose="inverted")
        level = run.soft_bodies[0].part.levels[run.soft_bodies[0].part.lattice.vertices]
        shy = level < np.quantile(level, 0.2)
        sizes = [np.linalg.norm(offsets, axis=2).max(0) for offsets in (painted, inverted)]
        self.assertGreater(sizes[0][~shy].mean(), 2.0 * sizes[0][shy].mean())
        self.assertGreater(sizes[1][shy].mean(), 2.0 * sizes[0][shy].mean())

    def test_a_still_pose_is_as_keyed_where_it_settles_in_the_pose(self):
        def settled(shape):
            run, _ = self.offsets("hop and land", shape=shape)
            solid = run.soft_bodies[0]
            world = world_matrices(self.character.skeleton, run.keyed(np.array([9])))
            solid.start(world[0])
            solid.advance(np.repeat(world, 60 * run.substeps, 0), np.zeros(60, bool), 60)
            moved, _ = solid.offsets({"moves": solid.moves}, np.ones(60), world)
            return np.linalg.norm(moved[solid.mesh_index][-1], axis=1).max()

        own, keyed = settled("rest"), settled("pose")
        self.assertGreater(own, 0.05)
        self.assertLess(keyed, 0.003)

    def test_a_conforming_solid_is_kept_in_units_of_the_file(self):
        mesh = self.character.mesh("skin")
        surface = surface_of(self.character, mesh, 1.0)
        coarse = lattice.build(surface, mesh.triangles, np.ones(len(surface), bool), 0.12)
        layer = replace(self.setup.layer("belly"), built=conforming.encode(coarse.nodes, coarse.tets))
        sizes = []
        for metres in (1.0, 0.1):
            part = (
                Run(TakeSpec(self.character, replace(self.setup, layers=(layer,), metres_per_unit=metres), "walk", 0, 3))
                .soft_bodies[0]
                .part
            )
            self.assertEqual(part.findings(), [])
            sizes.append((len(part.lattice.tets), round(part.edge / metres, 6)))
        self.assertEqual(*sizes)
        self.assertLess(sizes[0][0], len(coarse.tets))

    def test_at_rest_it_stays_at_rest_even_with_its_weight(self):
        _, offsets = self.offsets(clip="", gravity=100.0)
        self.assertLess(np.abs(offsets).max(), 5e-4)

    def test_the_same_bits_on_one_thread_and_on_two(self):
        layer = self.setup.layer("belly")
        setup = replace(self.setup, layers=(layer,), preroll_frames=4.0)
        runs = [Run(TakeSpec(self.character, setup, "walk", 0, 6), threads=threads) for threads in (1, 2, 2)]
        first, *others = [np.concatenate([chunk.offsets for chunk in run.chunks()]) for run in runs]
        for other in others:
            np.testing.assert_array_equal(first, other)


class FoldsTest(TestCase):
    """Two pieces of one solid: the upper is let go and falls onto the lower."""

    def fallen(self, is_apart):
        low, faces = box_surface((0.4, 0.1, 0.4), (4, 2, 4))
        positions = np.concatenate([low, low * [0.4, 1.0, 0.4] + [0.12, 0.2, 0.12]])
        triangles = np.concatenate([faces, faces + len(low)])
        chosen, upper = np.ones(len(positions), bool), (np.arange(len(positions)) >= len(low)).astype(int)
        made = lattice.build_apart(positions, triangles, chosen, 0.05, upper)
        below = made.pieces == made.pieces[np.argmin(made.nodes[:, 1])]
        body = volume.build(made, below.astype(float), 0.6, 1.0)
        # What nothing holds would be held a little.
        body = replace(body, springs=np.zeros_like(body.springs))
        model = solid.solid_model(body, made.tets, 2e4, 1.0 / 240.0, damping_factor=0.99, gravity=(0.0, -9.81, 0.0))
        state, targets = solid.SolidState(made.nodes), np.repeat(made.nodes[None], 10, 0)
        own = OwnContacts(made.nodes, made.edge, 0.0, np.unique(outer_faces(made.tets)), made.pieces)
        for _ in range(48):
            touches = (*solid.NO_TOUCHES[:3], own.touches(state, np.zeros_like(made.nodes), 1.0 / 24.0)) if is_apart else solid.NO_TOUCHES
            solid.advance(model, state, targets, made.nodes, touches=touches)
        return state.positions[below], state.positions[~below]

    def test_pieces_keep_each_other_off(self):
        _, through = self.fallen(False)
        self.assertLess(through[:, 1].max(), -1.0)
        below, above = self.fallen(True)
        self.assertGreater(above[:, 1].min(), np.median(below[:, 1]))
        self.assertGreater(np.linalg.norm(above[:, None] - below[None], axis=2).min(), 0.02)
        self.assertLess(above[:, 1].min() - below[:, 1].max(), 0.06)
