"""Chains that hang on solids, solids that hang on chains, and what comes first."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.rig.pose import world_matrices
from quiver.setup import ChainPick
from quiver.setup_document import dumps, loads
from quiver.stack import Run, TakeSpec


class RidingTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def setup_of(self, *layers):
        return replace(self.setup, layers=layers, preroll_frames=6.0)

    def run_of(self, *layers):
        return Run(TakeSpec(self.character, self.setup_of(*layers), "hop and land", 0, 20))

    def test_a_chain_on_a_solid_goes_where_the_flesh_goes(self):
        belly = self.setup.layer("belly")
        stiff = {"wobble_rate": 8.0, "settle_time": 4.0}
        bell = replace(self.setup.layer("bell"), rides="belly")
        bell = replace(bell, values=bell.values | stiff)
        run = self.run_of(bell, belly)
        self.assertEqual([(bool(stage.wave), len(stage.solids)) for stage in run.stages], [(False, 1), (True, 0)])
        root = int(run.waves[0].paths[0].point_nodes[0])
        self.assertIn(root, run.translated)
        # The bell is nearest to flesh that is held; hang it where it is loosest.
        solid = run.solids[0]
        tets = solid.part.lattice.tets
        corners, shares = solid.ride_of(solid.part.lattice.nodes[tets[np.argmin(solid.body.holds[tets].sum(1))]].mean(0) / solid.scale)
        np.testing.assert_allclose(shares, 0.25, atol=1e-6)
        run.stages[1].rides[root] = solid, (corners, shares)
        chunks = list(run.chunks())
        skeleton = self.character.skeleton
        keyed = run._keyed(np.arange(21))
        moved = keyed.copy()
        moved.rotations[:, run.rotated] = np.concatenate([chunk.rotations for chunk in chunks])
        moved.translations[:, run.translated] = np.concatenate([chunk.translations for chunk in chunks])
        shift = world_matrices(skeleton, moved)[:, root, :, 3] - world_matrices(skeleton, keyed)[:, root, :, 3]
        self.assertGreater(np.linalg.norm(shift, axis=1).max(), 0.005)
        # The latest chunk's displacements are still known: there the root went with its spot of the flesh.
        flesh = np.einsum("c,fck->fk", shares, solid.moves[1:, corners].astype(float)) / solid.scale
        np.testing.assert_allclose(shift[-len(flesh) :], flesh, atol=1e-5)

    def test_nothing_rides_where_the_solid_is_off_or_its_amount_is_zero(self):
        bell = replace(self.setup.layer("bell"), rides="belly")
        for belly in (replace(self.setup.layer("belly"), is_on=False), replace(self.setup.layer("belly"), amount=((0.0, 0.0),))):
            riding, alone = self.run_of(bell, belly), self.run_of(replace(bell, rides=""))
            rotations = [np.concatenate([chunk.rotations for chunk in run.chunks()]) for run in (riding, alone)]
            np.testing.assert_allclose(*rotations, atol=1e-6)

    def test_a_circle_is_refused_with_its_path(self):
        pick = ChainPick("hips", "chest")
        back = replace(self.setup.layer("bell"), id="back", name="Back", chains=(pick,), rides="belly")
        with self.assertRaisesRegex(BadInput, "“Back” hangs on “Flesh”, “Flesh” hangs on “Back”: a circle"):
            self.run_of(replace(self.setup.layer("belly"), name="Flesh"), back)

    def test_the_document_keeps_what_rides_and_refuses_what_is_no_volume(self):
        setup = self.setup.with_layer(replace(self.setup.layer("bell"), rides="belly"))
        self.assertEqual(loads(dumps(setup)).layer("bell").rides, "belly")
        self.assertEqual(setup.without_layer("belly").layer("bell").rides, "")
        with self.assertRaisesRegex(BadInput, "rides: expected the id of a volume"):
            loads(dumps(setup).replace('"rides": "belly"', '"rides": "barbels"'))
