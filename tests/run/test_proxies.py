"""Sheets by way of a proxy: the dense mesh goes with the light one, turned along, and fades out where its region ends."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.bake.joints import gather
from quiver.demo import mudwick
from quiver.formats.gltf.reading import read_character
from quiver.run.parts.sheet import Sheet
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from tests.makers import Run


class MudwickTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def of(self, region, **values):
        setup = edits.with_new_soft(replace(self.setup, layers=()), "sheet", region)
        layer = setup.layers[0]
        return edits.with_layer(setup, replace(layer, values=layer.values | values))

    def take(self, setup):
        run = Run(TakeSpec(self.character, setup, "hop and land", 0, 24))
        _, _, offsets, _ = gather(run.chunks())
        return run, offsets

    def test_with_all_triangles_it_moves_as_the_mesh_itself(self):
        _, plain = self.take(self.of("saddle-blanket"))
        run, by_proxy = self.take(self.of("saddle-blanket", made_of="proxy", proxy_triangles=10_000.0, proxy_smooth=0.0))
        self.assertTrue(run.soft_bodies[0].part.is_proxy)
        size = np.sqrt((plain**2).sum(2).mean())
        self.assertLess(np.sqrt(((plain - by_proxy) ** 2).sum(2).mean()), 0.1 * size)

    def test_a_light_one_carries_all_of_a_dense_region_and_fades_at_its_rim(self):
        run, offsets = self.take(self.of("belly", made_of="proxy", proxy_triangles=300.0, gravity=30.0, hold_rate=2.0))
        solid = run.soft_bodies[0]
        self.assertLess(len(solid.body.masses), 0.25 * len(solid.vertices))
        lengths = np.linalg.norm(offsets, axis=2).max(0)
        self.assertGreater(lengths.max(), 0.01)
        self.assertLess(lengths[solid.blend < 1e-6].max(initial=0.0), 1e-6)
        # What is near goes alike: no vertex tears off from the one beside it.
        links = solid.part.topology.links.tocoo()
        place = np.zeros((len(solid.part.topology.positions), 3))
        place[solid.part.topology.place_of[solid.vertices]] = offsets[-1]
        steps = np.linalg.norm(place[links.row] - place[links.col], axis=1)
        self.assertLess(steps.max(), 0.3 * lengths.max())

    def test_a_shell_lies_around_the_region(self):
        setup = self.of("throat-pouch", made_of="shell", proxy_triangles=400.0, proxy_offset=10.0)
        solid = Sheet(self.character, setup.layers[0], setup, [])
        rest = solid.part.surface[solid.vertices]
        self.assertGreater(np.ptp(solid.part.lattice.nodes, axis=0).min(), np.ptp(rest, axis=0).min())
        corner_weights = solid.part.lattice.corner_weights
        np.testing.assert_allclose(corner_weights.sum(1), 1.0, atol=1e-9)
