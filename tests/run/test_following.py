"""Followers: a frame over picked points goes exactly where they go, and what hangs on it comes after what moves them."""

from dataclasses import replace
from types import SimpleNamespace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.rig.skinning import skinned_through, subset
from quiver.run.parts.riding import FollowerRide
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, loads
from quiver.setup.model import Follower
from tests.makers import Run
from tests.run.test_skin_contact import arms

POINTS = (0, 8, 100)


class FrameTest(TestCase):
    """A fake solid turns and shifts an arm as one."""

    def moved(self, vertices, count=2):
        character = arms()
        rest = rest_matrices(character.skeleton)
        turn = transforms.to_matrices(transforms.from_axis_angle([0.3, 0.5, 0.8], 0.7))
        positions = skinned_through(character.meshes[0], rest[None])[0].astype(float)
        shifts = positions @ turn.T + [0.1, 0.2, 0.3] - positions
        row = np.arange(len(positions))
        lattice = SimpleNamespace(corners=row[:, None], corner_weights=np.ones((len(row), 1)))
        solid = SimpleNamespace(
            mesh_index=0,
            vertices=row,
            blend=np.ones(len(row)),
            layer=SimpleNamespace(id="cloth"),
            part=SimpleNamespace(lattice=lattice),
            shifts=lambda moves, corners, barycentric, per_frame: np.tile(moves[corners[0]], (count, 1)),
        )
        ride = FollowerRide(character, Follower("f", "f", "lower", vertices), [solid])
        here = np.tile([0.5, 0.1, 0.0], (count, 1))
        return (*ride.moved(here, np.tile(rest, (count, 1, 1, 1)), {"cloth": shifts}, {"cloth": np.ones(count)}, 1), turn, positions)

    def test_three_points_carry_a_frame_with_its_turn(self):
        moved, rotations, turn, _ = self.moved(POINTS)
        np.testing.assert_allclose(moved, np.tile(turn @ [0.5, 0.1, 0.0] + [0.1, 0.2, 0.3], (2, 1)), atol=1e-5)
        np.testing.assert_allclose(rotations, np.tile(turn, (2, 1, 1)), atol=1e-5)

    def test_fewer_carry_it_without(self):
        moved, rotations, turn, positions = self.moved(POINTS[:1])
        self.assertIsNone(rotations)
        np.testing.assert_allclose(moved[0], [0.5, 0.1, 0.0] + turn @ positions[0] + [0.1, 0.2, 0.3] - positions[0], atol=1e-5)

    def test_vertices_that_are_not_there_are_refused(self):
        for vertices in ((10**6,), ()):
            with self.assertRaisesRegex(BadInput, "expected vertices of “lower”"):
                self.moved(vertices)


class MudwickTest(TestCase):
    """The left mail bag hangs on the blanket instead of on the spine."""

    @classmethod
    def setUpClass(cls):
        glb, setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")
        blanket = cls.character.mesh("blanket").positions
        cls.points = tuple(int(v) for v in np.argsort(np.linalg.norm(blanket - [0.33, 0.86, -0.12], axis=1))[:5])
        setup = edits.with_new_follower(setup, "Girth", "blanket", cls.points)
        bags = replace(setup.layer("bags"), rides="follower:girth", chains=setup.layer("bags").chains[:1])
        cls.setup = replace(setup, layers=(bags, setup.layer("saddle-blanket")), preroll_frames=4.0)

    def test_the_bag_goes_where_the_blanket_goes(self):
        run = Run(TakeSpec(self.character, self.setup, "hop and land", 0, 30))
        self.assertEqual(run.stage_kinds(), [(0, 0, 1), (0, 1, 0)])
        chunks = list(run.chunks())
        skeleton, node = self.character.skeleton, run.props[0].node
        self.assertIn(node, run.translated)
        keyed = run.keyed(np.arange(31))
        final = keyed.copy()
        final.rotations[:, run.rotated] = np.concatenate([chunk.rotations for chunk in chunks])
        final.translations[:, run.translated] = np.concatenate([chunk.translations for chunk in chunks])
        keyed_world, world = world_matrices(skeleton, keyed), world_matrices(skeleton, final)
        mesh = self.character.mesh_index("blanket")
        columns = np.searchsorted(run.moved[mesh], self.points)
        offsets = np.concatenate([chunk.offsets for chunk in chunks])[:, columns].astype(float)
        points = skinned_through(subset(self.character.meshes[mesh], np.array(self.points)), keyed_world).astype(float)
        before = np.linalg.norm(points.mean(1) - keyed_world[:, node, :, 3], axis=1)
        after = np.linalg.norm((points + offsets).mean(1) - world[:, node, :, 3], axis=1)
        self.assertGreater(np.linalg.norm(offsets.mean(1), axis=1).max(), 0.01)
        np.testing.assert_allclose(after, before, atol=1e-3)

    def test_the_document_keeps_it_and_removing_it_lets_go(self):
        again = loads(dumps(self.setup))
        self.assertEqual(again, self.setup)
        self.assertEqual(edits.without_follower(again, "girth").layer("bags").rides, "")
        for fault in ('"mesh": 7', '"vertices": []'):
            name = fault.split(":")[0]
            text = dumps(self.setup)
            at = text.index(name, text.index('"followers"'))
            end = text.index("]", at) + 1 if "vertices" in fault else text.index(",", at)
            with self.assertRaises(BadInput):
                loads(text[:at] + fault + text[end:])
        with self.assertRaisesRegex(BadInput, "rides"):
            loads(dumps(self.setup).replace("follower:girth", "follower:none"))

    def test_what_would_hang_on_itself_is_refused(self):
        chain = replace(self.setup.layer("bags"), id="spine", name="Spine", kind="chain", chains=(), values={})
        pick = type(self.setup.layer("bags").chains[0])("hips", "spine_2")
        setup = replace(self.setup, layers=(replace(chain, chains=(pick,)), self.setup.layer("saddle-blanket")))
        with self.assertRaisesRegex(BadInput, "in a circle"):
            Run(TakeSpec(self.character, setup, "walk"))
