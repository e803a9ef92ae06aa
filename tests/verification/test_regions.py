"""Soft volumes under regions of whole characters: heads, necks and chests swing as their dials say, whatever their cells."""

from unittest import TestCase

import numpy as np

from quiver.demo import mudwick, tidewarden
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.ring import ring_test
from quiver.setup import edits

SHARE = 0.3
"""A vertex of which joints move more is in their region."""


def painted(demo, joint):
    """(character, setup, layer) of a new soft volume of all that a joint and those below it move of the largest mesh."""
    glb, setup = demo.build()
    character, _ = read_character(glb, "Someone")
    mesh = max(character.meshes, key=lambda mesh: len(mesh.positions))
    below = character.skeleton.below(character.skeleton.index(joint))
    share = (mesh.weights * np.isin(mesh.joints, below)).sum(1)
    levels = np.where(share > SHARE, np.minimum(regions.IN_FULL * share, regions.IN_FULL), regions.OUT).astype(np.uint8)
    setup = edits.with_new_region(setup, "there", mesh.name, len(levels), regions.encode(levels))
    setup = edits.with_new_soft(setup, "volume", setup.regions[-1].id)
    return character, setup, setup.layers[-1]


class RegionsRingTest(TestCase):
    def assert_rings(self, demo, joint, *dials):
        character, setup, layer = painted(demo, joint)
        for rate, settle, keep in dials:
            values = {"wobble_rate": rate, "settle_time": settle, "volume_keep": keep}
            changed = edits.set_dials(setup, [layer.id], values)
            ring = ring_test(character, changed, changed.layer(layer.id))
            with self.subTest(joint=joint, **values):
                self.assertAlmostEqual(ring.rate / rate, 1.0, delta=0.05)
                self.assertAlmostEqual(ring.settle / settle, 1.0, delta=0.05)
                self.assertTrue(ring.is_met)

    def test_a_head_with_jaws_and_a_neck(self):
        self.assert_rings(mudwick, "head", (2.0, 24, 80.0), (3.5, 60, 0.0), (1.2, 40, 100.0), (5.0, 30, 60.0))
        self.assert_rings(mudwick, "neck", (2.5, 30, 100.0), (4.0, 20, 80.0))

    def test_another_ones_head_and_chest(self):
        self.assert_rings(tidewarden, "head", (2.0, 24, 80.0), (7.0, 24, 100.0), (1.0, 90, 0.0))
        self.assert_rings(tidewarden, "chest", (3.0, 24, 100.0), (1.5, 60, 80.0))

    def test_what_needs_more_substeps_than_there_are_says_what_it_does(self):
        character, setup, layer = painted(tidewarden, "chest")
        changed = edits.set_dials(setup, [layer.id], {"wobble_rate": 9.0, "settle_time": 24})
        ring = ring_test(character, changed, changed.layer(layer.id))
        self.assertFalse(ring.is_met)
        said = float(ring.reason.split("swings at ")[1].split(" ")[0])
        self.assertAlmostEqual(ring.rate / said, 1.0, delta=0.05)
