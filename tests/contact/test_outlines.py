"""The shapes that the stage draws are those that the core meets: its dots and handles lie on their surfaces."""

import json
import pathlib
import subprocess
from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.colliders import SIZES, SURFACES, Collider
from quiver.contact.contacts import Contacts
from quiver.rig.character import Character
from quiver.setup.model import Setup
from tests.makers import straight

VIEWPORT = pathlib.Path(__file__).resolve().parent.parent.parent / "studio" / "static" / "viewport"
OUTLINES_ON_STAGE = """
import { contourDots, handlesOf } from '%s/maths/outlines.js';
import { readFileSync } from 'fs';
const items = JSON.parse(readFileSync(0));
console.log(JSON.stringify(items.map((item) => ({ dots: contourDots(item, 2), handles: handlesOf(item, 0.05) }))));
"""
FROM_SURFACE = {"top": 0.0, "side": 0.0, "front": 0.0, "tip": 0.05, "spin": 0.05}
"""How far each handle is from the surface."""


class OutlineTest(TestCase):
    def test_dots_and_handles_lie_on_the_core_s_surfaces(self):
        rng = np.random.default_rng(5)
        colliders = [
            Collider(f"{shape}-{k}", shape, shape, size=tuple(rng.uniform(0.02, 1.5, len(SIZES[shape]))))
            for shape in SIZES
            if shape not in SURFACES
            for k in range(8)
        ]
        # A flat one, and one that is not rounded at all.
        box = next(each.size for each in colliders if each.shape == "box")
        colliders += [
            Collider("flat", "flat", "box", size=(box[0], 0.0, *box[2:])),
            Collider("sharp", "sharp", "box", size=(*box[:3], 0.0)),
        ]
        items = [
            {"shape": each.shape, "core": [min(float(value), 1e6) for value in each.core], "radius": float(each.radius)}
            for each in colliders
        ]
        words = ["node", "--input-type=module", "-e", OUTLINES_ON_STAGE % VIEWPORT]
        done = subprocess.run(words, input=json.dumps(items), capture_output=True, text=True, check=True, timeout=60)
        contacts = Contacts(Character("test", straight(1), (), ()), replace(Setup(), colliders=tuple(colliders)))
        for index, (collider, shown) in enumerate(zip(colliders, json.loads(done.stdout), strict=True)):
            dots = np.array(shown["dots"]).reshape(-1, 3)
            self.assertGreater(len(dots), 20, collider.id)
            outside = contacts.distances(dots)[:, index] - collider.radius
            np.testing.assert_allclose(outside, 0.0, atol=1e-9, err_msg=collider.id)
            for name, place in shown["handles"].items():
                away = contacts.distances(np.array(place))[index] - collider.radius
                self.assertAlmostEqual(float(away), FROM_SURFACE[name], 9, f"{collider.id}: {name}")
