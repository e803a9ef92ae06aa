"""What is told of touching against what is seen: winding numbers and distances to the posed skin, with capsules fitted to all joints."""

from dataclasses import replace
from unittest import TestCase

import igl
import numpy as np

from quiver.bodies import fitting, picking
from quiver.contact.contacts import Contacts
from quiver.contact.skins import Rest, Surface, surface_of
from quiver.demo import mudwick, tidewarden
from quiver.formats.gltf.reading import read_character
from quiver.rig.character import Mesh
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.rig.skinning import skinned_through
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from tests.solids import ball_surface

CHAINS = ("tail", "barbels", "frill", "bags", "bell")
TOLD_WITHIN, BEYOND_KEYS = 1e-3, 1e-3
"""How far told depth may be off, and how much deeper than as keyed anything simulated may be [m]."""


class PosedSurfaceTest(TestCase):
    def test_it_finds_what_a_search_of_all_triangles_finds(self):
        rng = np.random.default_rng(3)
        glb, _ = mudwick.build()
        character, _ = read_character(glb, "Mudwick")
        surface = surface_of(character, "skin", 1.0)
        pose = character.skeleton.rest.repeated(1)
        pose.rotations[:] += rng.normal(0.0, 0.05, pose.rotations.shape)
        pose.rotations[:] /= np.linalg.norm(pose.rotations, axis=-1, keepdims=True)
        for away in (0.0, 1000.0):
            pose.translations[:, character.skeleton.parents < 0] += [away, 0.0, 0.0]
            world = world_matrices(character.skeleton, pose)
            vertices = surface.positions(world)[0]
            points = vertices[rng.integers(0, len(vertices), 400)] + rng.normal(0.0, 0.04, (400, 3))
            _, distances = surface.posed.distances(world[0], points, np.full(400, 1.0))
            squared = igl.point_mesh_squared_distance(points, vertices, surface.triangles.astype(np.int64))[0]
            known = ~np.isnan(distances)
            self.assertGreater(known.mean(), 0.9)
            np.testing.assert_allclose(np.abs(distances[known]), np.sqrt(squared[known]), atol=2e-6)
            # What is not near parts that cross each other is inside where the skin winds around it.
            winds = igl.fast_winding_number(vertices, surface.triangles.astype(np.int64), points)
            clear = known & (np.abs(winds - np.round(winds)) < 0.02) & (winds < 1.02)
            self.assertLess(((distances < 0.0) != (winds > 0.5))[clear].mean(), 0.03)

    def test_a_ball_s_inside_is_known_at_its_edges_and_corners_too(self):
        points, triangles = ball_surface(0.5, 0)
        mesh = Mesh("ball", 0, points.astype(np.float32), triangles.astype(np.int32))
        surface = Surface(mesh, np.eye(3, 4)[None], 1.0)
        for share in (0.9, 1.1):
            _, distances = surface.posed.distances(np.eye(3, 4)[None], share * points, np.full(len(points), 1.0))
            self.assertTrue(((distances < 0.0) == (share < 1.0)).all())

    def test_the_deepest_is_found_however_a_thin_body_is_scaled(self):
        """A flattened ball on one joint; it is not looked for deeper than it is thick, and that grows with the joint."""
        ball, faces = ball_surface(0.3, 3)
        for units, scale, size in ((1.0, 1.0, 1.0), (0.01, 1.0, 2.5), (1.0, 0.01, 0.5), (0.1, 3.0, 1.7)):
            with self.subTest(units=units, scale=scale, size=size):
                points = ball * [1.0, 0.08, 0.7] / scale
                bind = np.eye(3, 4)[None] / units
                skin = {"joints": np.zeros((len(points), 1), np.int32), "weights": np.ones((len(points), 1), np.float32)}
                mesh = Mesh("plate", 0, np.float32(points), faces.astype(np.int32), None, *skin.values(), 0, np.zeros(1, np.int32), bind)
                surface = Surface(mesh, units * np.eye(3, 4)[None], scale).posed
                world = units * size * np.eye(3, 4)[None, None]
                asked = size * scale * points * np.linspace(0.0, 1.2, len(points))[:, None]
                for deep in (0.08, 0.004):
                    depths, which = surface.deepest(world, asked[None], np.arange(len(asked)), np.zeros(len(asked)), deep)
                    squares = igl.point_mesh_squared_distance(asked, size * scale * points, faces.astype(np.int64))[0]
                    depth = np.where(np.linspace(0.0, 1.2, len(points)) < 1.0, np.sqrt(squares), 0.0)
                    self.assertAlmostEqual(depths[0], depth[depth < deep].max(), delta=1e-6)
                    self.assertAlmostEqual(depth[which[0]], depths[0], delta=1e-6)

    def test_of_parts_that_cross_what_is_seen_counts(self):
        """Three balls in each other: whoever is inside of any is inside, as deep as it is far from skin that can be seen."""
        rng = np.random.default_rng(5)
        ball, faces = ball_surface(0.5, 3)
        points = np.concatenate([ball, 0.7 * ball + [0.45, 0.1, 0.0], 0.5 * ball + [-0.3, 0.2, 0.3]])
        triangles = np.concatenate([faces + k * len(ball) for k in range(3)])
        surface = Surface(Mesh("balls", 0, points.astype(np.float32), triangles.astype(np.int32)), np.eye(3, 4)[None], 1.0)
        self.assertGreater(len(surface.triangles) - surface.is_seen.sum(), 100)
        seen = Rest(surface, np.zeros(len(points), bool), True)
        asked = rng.uniform(-0.7, 0.9, (600, 3))
        _, distances = seen.posed.distances(np.eye(3, 4)[None], asked, np.full(len(asked), 2.0))
        is_inside = igl.fast_winding_number(surface.rest, surface.triangles.astype(np.int64), asked) > 0.5
        np.testing.assert_array_equal(distances < 0.0, is_inside)
        visible = surface.triangles[surface.is_seen].astype(np.int64)
        squared = igl.point_mesh_squared_distance(asked, surface.rest.astype(float), visible)[0]
        np.testing.assert_allclose(distances[is_inside], -np.sqrt(squared[is_inside]), atol=2e-6)


def with_capsules(demo):
    """(Character, Setup) of a demo character with a capsule for each joint that no layer drives, as one click fits them."""
    glb, setup = demo.build()
    character, _ = read_character(glb, "demo")
    setup = replace(setup, colliders=())
    for node, (place, turn, *size) in fitting.fit_all(character, picking.driven_nodes(character, setup.layers)).items():
        name = character.skeleton.names[node]
        setup = edits.with_new_collider(setup, "capsule", name, joint=name, place=place, turn=turn, size=tuple(size))
    return character, setup


class ClothesTest(TestCase):
    def test_capsules_stand_for_the_body_and_not_for_what_is_worn_and_nothing_worn_clips_more_than_as_keyed(self):
        character, setup = with_capsules(tidewarden)
        contacts = Contacts(character, setup)
        self.assertTrue(contacts.stands_for_skin(np.arange(len(contacts))).all())
        behind = contacts.skins_behind(np.arange(len(contacts)))
        self.assertEqual([skin.surface.mesh.name for skin in behind], ["body"])
        chunks = list(execute(compile_plan(TakeSpec(character, setup, "leap ashore"))))
        for name, bound in (("scarf", 1e-3), ("tassels", 1e-3), ("strap", 1e-3), ("coat-skirt", 1e-3), ("storm-cape", 2e-3)):
            clip, keyed = (np.concatenate([chunk.measures[name][n] for chunk in chunks]) for n in ("clip", "keyed_clip"))
            self.assertLess((clip - keyed).max(), bound, name)


class TruthTest(TestCase):
    """Mudwick's hop."""

    @classmethod
    def setUpClass(cls):
        cls.character, cls.setup = with_capsules(mudwick)
        cls.plan = compile_plan(TakeSpec(cls.character, cls.setup, "hop and land"))
        cls.chunks = list(execute(cls.plan))
        cls.frames = np.arange(0, 61, 3)

    def positions(self, is_simulated):
        """Where all meshes' vertices are, (F, V, 3) each, without what soft bodies add."""
        pose = self.plan.source.pose(self.frames.astype(float))
        if is_simulated:
            rotations, translations = (np.concatenate([getattr(chunk, n) for chunk in self.chunks]) for n in ("rotations", "translations"))
            pose.rotations[:, self.plan.rotated] = rotations[self.frames]
            pose.translations[:, self.plan.translated] = translations[self.frames]
        world = world_matrices(self.character.skeleton, pose)
        return [skinned_through(mesh, world) for mesh in self.character.meshes]

    def depths(self, positions, own):
        """How deep vertices {mesh: (n,)} are in the rest of the skin, (F, n) [m]: how far inside from what can be seen of it."""
        index = self.character.mesh_index("skin")
        surface = surface_of(self.character, "skin", 1.0)
        gone = np.zeros(len(surface.rest), bool)
        gone[own.get(index, [])] = True
        is_left = ~gone[surface.triangles].any(1)
        triangles, visible = (surface.triangles[which].astype(np.int64) for which in (is_left, is_left & surface.is_seen))
        found = []
        for frame, skin in enumerate(positions[index]):
            points = np.concatenate([positions[mesh][frame][vertices] for mesh, vertices in own.items()])
            skin = np.ascontiguousarray(skin)
            is_inside = igl.fast_winding_number(skin, triangles, points) > 0.5
            found.append(np.where(is_inside, np.sqrt(igl.point_mesh_squared_distance(points, skin, visible)[0]), 0.0))
        return np.array(found)

    def test_told_depth_is_the_true_one_and_chains_clip_no_more_than_as_keyed(self):
        rest = [skinned_through(mesh, rest_matrices(self.character.skeleton)[None]) for mesh in self.character.meshes]
        simulated, keyed = self.positions(True), self.positions(False)
        for name in CHAINS:
            nodes = [node for each in self.plan.nodes for unit in each.part.units if unit.layer.id == name for node in unit.drives]
            own = fitting.skin_of_nodes(self.character, nodes)
            allowed = self.depths(rest, own)[0]
            true, as_keyed = (np.maximum(self.depths(each, own) - allowed, 0.0).max(1) for each in (simulated, keyed))
            told, keyed_told = (
                np.concatenate([chunk.measures[name][n] for chunk in self.chunks])[self.frames] for n in ("clip", "keyed_clip")
            )
            # No false alarm, and nothing missed.
            self.assertLess(np.abs(told - true).max(), TOLD_WITHIN, name)
            self.assertLess(np.abs(keyed_told - as_keyed).max(), TOLD_WITHIN, name)
            self.assertLess(true.max(), as_keyed.max() + BEYOND_KEYS, name)
