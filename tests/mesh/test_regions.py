"""Regions: what a brush and the commands do, in the core and, with the same formula, on the stage."""

import json
import pathlib
import subprocess
from unittest import TestCase

import numpy as np

from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.mesh.topology import distance_along, topology
from tests.solids import box_surface

STAGE = pathlib.Path(__file__).resolve().parent.parent.parent / "studio" / "static" / "viewport"
PAINT_ON_STAGE = """
import { Surface, paint } from '%s/maths/brush.js';
import { readFileSync } from 'fs';
const job = JSON.parse(readFileSync(0));
const surface = new Surface(Float32Array.from(job.positions), job.triangles);
let levels = Uint8Array.from(job.levels);
for (const { dabs, radius, strength, kind, mode, allowed } of job.strokes) {
  const power = new Map();
  for (const dab of dabs) {
    for (const [place, worked] of surface.dab(dab, radius, kind)) power.set(place, Math.max(worked, power.get(place) ?? 0));
  }
  levels = paint(levels, surface, power, strength, mode, allowed);
}
console.log(JSON.stringify(Array.from(levels)));
"""


def box():
    positions, triangles = box_surface((1.0, 0.4, 0.2), (16, 8, 4))
    return positions, triangles, topology(positions, triangles)


class TopologyTest(TestCase):
    def test_seams_do_not_cut(self):
        positions, _, top = box()
        self.assertLess(len(top.positions), len(positions))
        self.assertEqual(top.piece_of.max(), 0)
        # Over an edge of the box and along the other side.
        far = distance_along(top, [int(np.argmin(np.linalg.norm(top.positions - [0.5, 0.2, 0.0], axis=1)))])
        below = far[np.argmin(np.linalg.norm(top.positions - [0.5, 0.2, 0.2], axis=1))]
        self.assertAlmostEqual(below, 0.2 + 0.2 + 0.2, places=5)

    def test_two_pieces(self):
        positions, triangles = box_surface((1, 1, 1), (2, 2, 2))
        top = topology(np.concatenate([positions, positions + 3.0]), np.concatenate([triangles, triangles + len(positions)]))
        self.assertEqual(top.piece_of.max(), 1)
        flooded = regions.flood(regions.nothing(2 * len(positions)), top, (3.0, 3.0, 3.0))
        self.assertEqual(regions.is_in(flooded).sum(), len(positions))


class BrushTest(TestCase):
    def setUp(self):
        self.positions, self.triangles, self.top = box()
        self.none = regions.nothing(len(self.positions))

    def near(self, point):
        return int(np.argmin(np.linalg.norm(self.positions - point, axis=1)))

    def paint(self, levels, mode="add", strength=1.0, radius=0.2, place=(0.5, 0.4, 0.1), kind="soft", allowed=None):
        return regions.brush(levels, self.top, np.array([place]), radius, strength, kind, mode, allowed)

    def test_falloff_by_distance_and_out_beyond(self):
        painted = self.paint(self.none)
        distance = np.linalg.norm(self.positions - [0.5, 0.4, 0.1], axis=1)
        inside = distance < 0.2
        self.assertTrue((painted[~inside] == regions.OUT).all())
        left = 1.0 - distance[inside] / 0.2
        np.testing.assert_allclose(painted[inside] / regions.IN_FULL, left**2 * (3 - 2 * left), atol=0.5 / regions.IN_FULL)

    def test_in_with_zero_is_not_out(self):
        emptied = self.paint(self.paint(self.none), "subtract", kind="even")
        centre = self.near((0.5, 0.4, 0.1))
        self.assertEqual(emptied[centre], 0)
        self.assertTrue(regions.is_in(emptied)[centre])
        self.assertEqual(self.paint(emptied, "out", kind="even")[centre], regions.OUT)

    def test_a_thin_part_is_not_painted_through(self):
        # The box is 0.2 thick: the other side is within reach of the brush, but not by the surface inside its ball.
        painted = self.paint(self.none, place=(0.5, 0.2, 0.0), radius=0.21, kind="even")
        self.assertTrue(regions.is_in(painted)[self.near((0.5, 0.2, 0.0))])
        self.assertFalse(regions.is_in(painted)[self.near((0.5, 0.2, 0.2))])

    def test_only_allowed_vertices_take_paint(self):
        allowed = self.positions[:, 0] > 0.5
        painted = self.paint(self.none, allowed=allowed)
        self.assertFalse(regions.is_in(painted)[~allowed].any())
        self.assertTrue(regions.is_in(painted)[allowed].any())

    def test_smoothing_evens_out_and_keeps_the_mean_inside(self):
        rough = np.random.default_rng(0).integers(0, 255, len(self.top.positions)).astype(np.uint8)[self.top.place_of]
        even = regions.smooth(rough, self.top, 8)
        self.assertLess(even.std(), 0.4 * rough.std())
        self.assertLess(abs(float(even.mean()) - rough.mean()), 12)

    def test_commands_for_the_whole_region(self):
        painted = self.paint(self.none)
        grown, shrunk = regions.grow(painted, self.top), regions.shrink(painted, self.top)
        counts = [int(regions.is_in(levels).sum()) for levels in (shrunk, painted, grown)]
        self.assertTrue(0 < counts[0] < counts[1] < counts[2], counts)
        self.assertTrue((regions.fill(painted) == regions.IN_FULL).all())

    def test_gradient_runs_along_the_surface(self):
        levels = regions.gradient(self.none, self.top, (0.0, 0.2, 0.1), (1.0, 0.2, 0.1))
        influence = regions.influences(levels)
        self.assertEqual((influence[self.near((0, 0.2, 0.1))], influence[self.near((1, 0.2, 0.1))]), (0.0, 1.0))
        self.assertAlmostEqual(influence[self.near((0.5, 0.4, 0.1))], 0.5, delta=0.02)

    def test_mirror_union_and_difference(self):
        positions = self.positions - [0.5, 0.0, 0.0]
        top = topology(positions, self.triangles)
        left = regions.brush(self.none, top, np.array([[0.3, 0.4, 0.1]]), 0.2, 1.0, "soft", "add")
        right = regions.mirrored(left, top)
        np.testing.assert_array_equal(regions.mirrored(right, top), left)
        self.assertGreater(positions[regions.is_in(left), 0].min(), 0.0)
        self.assertLess(positions[regions.is_in(right), 0].max(), 0.0)
        both = regions.union(left, right)
        self.assertEqual(regions.is_in(both).sum(), 2 * regions.is_in(left).sum())
        np.testing.assert_array_equal(regions.difference(both, right), left)

    def test_gain_offset_and_inversion_without_repainting(self):
        levels = np.array([0, 127, 254, regions.OUT], np.uint8)
        np.testing.assert_allclose(regions.adjusted(levels, 2.0, -0.25), [0, 0.75, 1.0, 0.0])
        np.testing.assert_allclose(regions.adjusted(levels, is_inverted=True), [1.0, 0.5, 0.0, 0.0])

    def test_texts_come_back_and_bad_ones_are_refused(self):
        levels = self.paint(self.none)
        text = regions.encode(levels)
        np.testing.assert_array_equal(regions.decode(text, len(levels)), levels)
        for bad, count in ((text, len(levels) + 1), (text, 3), ("%%%", 3), ("AAAA", 3)):
            with self.assertRaises(BadInput):
                regions.decode(bad, count)

    def test_bad_strokes_are_refused(self):
        for options in (
            {"radius": 0.0},
            {"radius": np.nan},
            {"strength": 2.0},
            {"mode": "melt"},
            {"kind": "odd"},
            {"place": (np.inf, 0, 0)},
        ):
            with self.assertRaises(BadInput):
                self.paint(self.none, **options)

    def test_the_stage_paints_by_the_same_formula(self):
        rng = np.random.default_rng(7)
        strokes, levels = [], self.none
        for mode in ("add", "add", "subtract", "smooth", "set", "out"):
            for kind in regions.FALLOFFS:
                dabs = self.positions[rng.integers(0, len(self.positions), 3)] + rng.normal(0, 0.01, (3, 3))
                radius, strength = float(rng.uniform(0.08, 0.3)), float(rng.uniform(0.2, 1.0))
                allowed = rng.random(len(self.positions)) < 0.8
                levels = regions.brush(levels, self.top, dabs, radius, strength, kind, mode, allowed)
                stroke = {"dabs": dabs.tolist(), "radius": radius, "strength": strength, "kind": kind, "mode": mode}
                strokes.append(stroke | {"allowed": allowed.tolist()})
        job = {"positions": self.positions.ravel().tolist(), "triangles": self.triangles.ravel().tolist()}
        job |= {"levels": self.none.tolist(), "strokes": strokes}
        words = ["node", "--input-type=module", "-e", PAINT_ON_STAGE % STAGE]
        done = subprocess.run(words, input=json.dumps(job), capture_output=True, text=True, check=True, timeout=60)
        shown = np.array(json.loads(done.stdout))
        self.assertTrue((np.abs(shown - levels.astype(int)) <= 1).all())
        np.testing.assert_array_equal(shown == regions.OUT, levels == regions.OUT)
