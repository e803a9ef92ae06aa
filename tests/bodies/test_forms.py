"""Shapes placed by hand: what they look like, where they fit, and own meshes as text."""

import base64
import zlib
from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.bodies import forms
from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.mesh.topology import edges_of_triangles
from quiver.run.parts.sources import surface_of
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, from_document, loads, to_document
from quiver.setup.model import Form
from tests.makers import Run
from tests.solids import box_surface

STILL = (0.0, 0.0, 0.0, 1.0)
READY = ("dome", "pad", "sleeve", "panel", "tube")


def form(shape, size=(1.0, 2.0, 0.5), place=(0.0, 0.0, 0.0), turn=STILL, mesh=""):
    return Form(shape, place, turn, size, mesh)


class ShapeTest(TestCase):
    def test_each_fills_its_box_and_looks_outwards(self):
        for shape in READY:
            for target in (60, 600):
                with self.subTest(shape=shape, target=target):
                    points, triangles = forms.made(form(shape), target)
                    self.assertAlmostEqual(len(triangles) / target, 1.0, delta=0.25)
                    self.assertEqual(len(np.unique(triangles)), len(points))
                    wanted = [1.0, 2.0, 0.0 if shape == "panel" else 0.5]
                    np.testing.assert_allclose(np.ptp(points, axis=0), wanted, atol=0.1)
                    a, b, c = (points[triangles[:, k]] for k in range(3))
                    normals, middles = np.cross(b - a, c - a), (a + b + c) / 3.0
                    if shape == "panel":
                        self.assertGreater(normals[:, 2].min(), 0.0)
                    else:
                        self.assertGreater(np.einsum("tk,tk->t", normals[:, [0, 2]], middles[:, [0, 2]]).min(), -1e-9)

    def test_how_often_each_is_open(self):
        for shape, rims in (("dome", 1), ("pad", 0), ("sleeve", 2), ("tube", 2), ("panel", 1)):
            points, triangles = forms.made(form(shape), 300)
            edges, counts = edges_of_triangles(triangles, len(points))
            rim = edges[counts == 1]
            neighbours = {int(a): set() for a in rim.ravel()}
            for a, b in rim.tolist():
                neighbours[a].add(b)
                neighbours[b].add(a)
            found = 0
            while neighbours:
                found, todo = found + 1, [next(iter(neighbours))]
                while todo:
                    todo += neighbours.pop(todo.pop(), set()) & neighbours.keys()
            self.assertEqual(found, rims, shape)

    def test_it_is_turned_sized_and_placed(self):
        half = np.sqrt(0.5)
        points, _ = forms.made(form("panel", (2.0, 1.0, 1.0), (5.0, 0.0, 0.0), (half, 0.0, 0.0, half)), 100)
        np.testing.assert_allclose([points.min(0), points.max(0)], [[4.0, 0.0, -0.5], [6.0, 0.0, 0.5]], atol=1e-9)

    def test_it_is_fitted_around_what_looks_some_way(self):
        sides, corner = np.array([3.0, 2.0, 1.0]), np.array([1.0, 2.0, 3.0])
        box, faces = box_surface(sides, (3, 3, 3))
        a, b, c = (box[faces[:, k]] for k in range(3))
        looks = np.cross(b - a, c - a)
        for outwards in np.concatenate([np.eye(3), -np.eye(3)]):
            # All of the box but the side that looks the other way.
            kept = faces[looks @ outwards > -1e-9]
            axis = int(np.argmax(np.abs(outwards)))
            for shape in READY:
                placed = forms.fitted(shape, box + corner, kept)
                surface, triangles = forms.made(placed, 600)
                np.testing.assert_allclose(placed.place, corner + 0.5 * sides, atol=1e-9)
                for k in range(3):
                    if shape != "panel" or k != axis:
                        self.assertAlmostEqual(np.ptp(surface[:, k]) / sides[k], 1.0, delta=0.12, msg=f"{shape} {outwards}")
                if shape in ("dome", "panel"):
                    a, b, c = (surface[triangles[:, k]] for k in range(3))
                    self.assertGreater(np.cross(b - a, c - a).sum(0) @ outwards, 0.0)


class OwnMeshTest(TestCase):
    def test_it_comes_back(self):
        points, triangles = np.random.default_rng(1).normal(size=(12, 3)), np.arange(12).reshape(4, 3)
        # What no triangle names does not count, not even for the box.
        back, faces = forms.made(forms.encoded(np.concatenate([points, [[99.0, 99.0, 99.0]]]), triangles), 50)
        np.testing.assert_allclose(back, points, atol=1e-5)
        np.testing.assert_array_equal(faces, triangles)

    def test_what_is_none_is_refused(self):
        def packed(raw):
            return base64.b64encode(zlib.compress(raw)).decode()

        corners = np.zeros((3, 3), "<f4")
        head, face = np.uint32(3).tobytes(), np.arange(3, dtype="<u4").tobytes()
        forms.decode(packed(head + corners.tobytes() + face))
        for text in (
            "no base64 at all",
            packed(b""),
            packed(head),
            packed(head + corners.tobytes()),
            packed(head + (corners + np.nan).tobytes() + face),
            packed(head + (corners + 9.0).astype("<f4").tobytes() + face),
            packed(head + corners.tobytes() + np.array([0, 1, 3], "<u4").tobytes()),
            packed(np.uint32(2**31).tobytes() + bytes(24)),
        ):
            with self.assertRaises(BadInput):
                forms.decode(text)
        with self.assertRaisesRegex(BadInput, "triangles"):
            forms.encoded(np.zeros((3, 3)), np.zeros((0, 3), int))


class FormSheetTest(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def test_a_pad_carries_the_belly_and_the_setup_comes_back(self):
        mesh, levels = self.character.painted(self.setup.region("belly"))
        faces = mesh.triangles[regions.is_in(levels)[mesh.triangles].all(1)]
        pad = forms.fitted("pad", surface_of(self.character, mesh, 1.0), faces)
        setup = edits.with_new_soft(self.setup, "sheet", "belly", "Stand-in", made_of="form", proxy_triangles=400.0, gravity=30.0)
        setup = edits.with_layer(setup, replace(setup.layers[-1], form=pad))
        self.assertEqual(loads(dumps(setup)).layers[-1], setup.layers[-1])
        only = replace(setup, layers=setup.layers[-1:], colliders=())
        run = Run(TakeSpec(self.character, only, "hop and land", 0, 12))
        chunks = list(run.chunks())
        self.assertAlmostEqual(len(run.soft_bodies[0].part.triangles) / 400, 1.0, delta=0.1)
        self.assertGreater(max(chunk.added.max() for chunk in chunks), 0.01)
        self.assertLess(max(chunk.added.max() for chunk in chunks), 1.0)

    def test_without_a_shape_it_is_refused(self):
        setup = edits.with_new_soft(self.setup, "sheet", "belly", "Stand-in", made_of="form")
        with self.assertRaisesRegex(BadInput, "none is placed"):
            Run(TakeSpec(self.character, replace(setup, layers=setup.layers[-1:]), "walk"))

    def test_documents_that_cannot_be_are_refused(self):
        setup = edits.with_new_soft(self.setup, "sheet", "belly", "Stand-in")
        good = Form("dome", (0.0, 1.0, 0.0), STILL, (1.0, 1.0, 1.0))
        for wrong in ({"shape": "cone"}, {"size": (1.0, 0.0, 1.0)}, {"turn": (0.0,) * 4}, {"mesh": "x"}):
            with self.assertRaises(BadInput):
                loads(dumps(edits.with_layer(setup, replace(setup.layers[-1], form=replace(good, **wrong)))))
        document = to_document(edits.with_layer(setup, replace(setup.layers[-1], form=good)))
        document["layers"][0]["form"] = document["layers"][-1]["form"]
        with self.assertRaisesRegex(BadInput, "expected only .*, got “form”"):
            from_document(document)
