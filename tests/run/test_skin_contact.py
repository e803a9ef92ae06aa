"""Skin that touches skin: two crossing arms come apart, both give way, smoothly, and only where they touch."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.bake.joints import gather
from quiver.demo import shapes
from quiver.errors import BadInput
from quiver.kernels import separate as kernel
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.rig.character import Character, Mesh
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.rig.skinning import skinned_positions
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, from_document, loads, to_document
from quiver.setup.model import Setup
from tests.makers import Run, clips_of, moving_clip, skeleton_of

RADIUS, DEEP, SPREAD = 0.06, 0.02, 0.05
NEAR = 1e-4
"""What is left of a crossing, at most: the solver's last rounds stop there [m]."""


def arms(deep=DEEP):
    """Two arms, one along X and one along Z above it, each on a joint; the clip lowers the upper one until they cross ``deep`` [m]."""
    skeleton = skeleton_of([(0, 0, 0), (0, 0.3, 0)], [-1, -1], names=("lower", "upper"))
    meshes = []
    for node, ends in enumerate((((-0.4, 0, 0), (0.4, 0, 0)), ((0, 0, -0.4), (0, 0, 0.4)))):
        vertices, triangles, _, _ = shapes.tube(ends, (RADIUS, RADIUS), 60, 32)
        # A tube's own way around looks inwards.
        normals = shapes.vertex_normals(vertices, triangles)
        is_outwards = (normals[960] @ (vertices[960] - np.mean(vertices[960 - 960 % 32 :][:32], axis=0))) > 0.0
        meshes.append(Mesh(skeleton.names[node], node, vertices.astype(np.float32), triangles if is_outwards else triangles[:, ::-1]))
    clip = moving_clip(1, [0.0, 1.0], [(0, 0.3, 0), (0, 2 * RADIUS - deep, 0)])
    return Character("arms", skeleton, tuple(meshes), (clip,))


def touching(character, **values):
    setup = Setup(preroll_frames=0.0)
    for mesh in character.meshes:
        levels = np.full(len(mesh.positions), regions.IN_FULL, np.uint8)
        setup = edits.with_new_region(setup, mesh.name, mesh.name, len(levels), regions.encode(levels))
    setup = edits.with_new_soft(setup, "skin_contact", "upper", **({"margin": 0.0, "spread": 1000.0 * SPREAD} | values))
    return edits.with_layer(setup, replace(setup.layers[0], other="lower"))


def take(setup, character=None):
    run = Run(TakeSpec(character or arms(), setup, "clip"))
    chunks = list(run.chunks())
    _, _, offsets, added = gather(iter(chunks))
    clips, _ = clips_of(chunks, run.layer_ids[0])
    starts = np.cumsum([0, *map(len, run.moved.values())])
    moves = {mesh: offsets[:, starts[k] : starts[k + 1]] for k, mesh in enumerate(run.moved)}
    return run, moves, clips, added[:, 0]


class CrossingTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.character = arms()
        cls.taken, cls.moves, cls.clips, cls.added = take(touching(cls.character))

    def test_they_come_apart(self):
        self.assertAlmostEqual(self.clips[-1, 1], DEEP, delta=0.1 * DEEP)
        self.assertLess(self.clips[:, 0].max(), NEAR)

    def test_an_own_look_at_the_end_says_so_too(self):
        """No vertex of one arm is nearer to the other's middle line than its skin, which both sides' moves shift alike."""
        world = world_matrices(self.character.skeleton, self.character.clips[0].sample(self.character.skeleton, np.array([1.0])))[0]
        lowest, highest = np.inf, -np.inf
        for index, mesh in enumerate(self.character.meshes):
            positions = skinned_positions(mesh, world).astype(float)
            positions[self.taken.skin_filters[0].vertices[index]] += self.moves[index][-1]
            at_crossing = np.linalg.norm(positions[:, [0, 2]], axis=1) < 0.02
            if index == 0:
                highest = positions[at_crossing, 1].max()
            else:
                lowest = positions[at_crossing, 1].min()
        self.assertGreater(lowest - highest, -5e-4)

    def test_both_sides_share_the_way(self):
        lower, upper = (np.linalg.norm(self.moves[mesh][-1], axis=1).max() for mesh in (0, 1))
        self.assertAlmostEqual(lower / upper, 1.0, delta=0.15)
        self.assertAlmostEqual(lower + upper, DEEP, delta=0.3 * DEEP)

    def test_nothing_far_off_moves_and_around_it_is_smooth(self):
        for index, mesh in enumerate(self.character.meshes):
            rest, own = mesh.positions, self.taken.skin_filters[0].vertices[index]
            moves = np.zeros_like(rest)
            moves[own] = self.moves[index][-1]
            away = np.abs(rest[:, [0, 2]]).max(1) > 0.06 + 4.0 * SPREAD
            self.assertLess(np.linalg.norm(moves[away], axis=1).max(), 0.02 * DEEP)
            links = topology(rest, mesh.triangles)
            placed = np.zeros((len(links.positions), 3))
            placed[links.place_of] = moves
            ends = links.links.tocoo()
            steps = np.linalg.norm(placed[ends.row] - placed[ends.col], axis=1)
            # Over an edge the skin moves by a share of what it moves at all.
            self.assertLess(steps.max(), 0.4 * np.linalg.norm(moves, axis=1).max())

    def test_before_they_touch_nothing_moves(self):
        apart = self.clips[:, 1] == 0.0
        self.assertGreater(apart.sum(), 10)
        self.assertEqual(self.added[apart].max(), 0.0)

    def test_from_frame_to_frame_it_moves_as_the_arms_do(self):
        speed = (0.3 - 2 * RADIUS + DEEP) / 24.0
        for moves in self.moves.values():
            self.assertLess(np.linalg.norm(np.diff(moves, axis=0), axis=2).max(), 1.2 * speed)

    def test_a_take_comes_out_the_same_again(self):
        again = take(touching(self.character))[1]
        for mesh, moves in self.moves.items():
            np.testing.assert_array_equal(moves, again[mesh])


class DialTest(TestCase):
    def test_a_share_of_nothing_leaves_the_region_as_it_is(self):
        _, moves, clips, _ = take(touching(arms(), share=0.0))
        self.assertEqual(np.abs(moves[1]).max(), 0.0)
        self.assertLess(clips[:, 0].max(), NEAR)

    def test_what_is_left_out_neither_pushes_nor_moves(self):
        character = arms()
        setup, rest = touching(character), character.meshes[0].positions
        levels = np.where(np.abs(rest[:, 0]) < 0.2, regions.IN_FULL, regions.OUT).astype(np.uint8)
        setup = edits.with_new_region(setup, "middle", "lower", len(levels), regions.encode(levels))
        setup = edits.set_fields(setup, setup.layers[0].id, leaves_out="middle")
        self.assertEqual(loads(dumps(setup)), setup)
        _, _, _, added = take(setup, character)
        self.assertEqual(added.max(), 0.0)
        with self.assertRaisesRegex(BadInput, "used by"):
            edits.without_region(setup, "middle")
        # A layer stands for what it carries.
        setup = edits.with_new_soft(setup, "sheet", "middle")
        setup = edits.set_fields(setup, setup.layers[0].id, leaves_out=f"layer:{setup.layers[1].id}")
        setup = edits.switch_layers(setup, [setup.layers[1].id], False)
        self.assertEqual(loads(dumps(setup)), setup)
        self.assertEqual(take(setup, character)[3].max(), 0.0)
        gone = edits.without_layers(setup, [setup.layers[1].id])
        self.assertEqual(gone.layers[0].leaves_out, "")
        with self.assertRaisesRegex(BadInput, "nobody"):
            loads(dumps(edits.set_fields(setup, setup.layers[0].id, leaves_out="layer:nobody")))

    def test_a_margin_is_kept(self):
        _, moves, _, _ = take(touching(arms(0.0), margin=4.0), arms(0.0))
        lower, upper = (np.abs(moves[mesh][-1, :, 1]).max() for mesh in (0, 1))
        self.assertAlmostEqual(lower + upper, 0.004, delta=0.001)

    def test_half_the_amount_leaves_half_of_it(self):
        setup = touching(arms())
        whole, half = (take(edits.with_layer(setup, replace(setup.layers[0], amount=((0.0, share),))))[1] for share in (1.0, 0.5))
        np.testing.assert_allclose(half[0], 0.5 * whole[0], atol=1e-7)

    def test_what_is_close_at_rest_may_stay_so(self):
        character = arms()
        near = replace(character.skeleton.rest, translations=np.array([(0, 0, 0), (0, 2 * RADIUS - DEEP, 0)], float))
        skeleton = replace(character.skeleton, rest=near)
        still = Character("arms", skeleton, character.meshes, character.clips)
        _, _, clips, _ = take(touching(still), still)
        # At the end of the clip it stands as it rests.
        self.assertLess(clips[-1, 1], 1e-4)

    def test_scale_and_units_do_not_matter(self):
        character = arms()
        large = replace(character.skeleton.rest, translations=character.skeleton.rest.translations * 100.0)
        meshes = tuple(replace(mesh, positions=mesh.positions * 100.0) for mesh in character.meshes)
        clip = moving_clip(1, [0.0, 1.0], [(0, 30.0, 0), (0, 200 * RADIUS - 100 * DEEP, 0)])
        grown = Character("arms", replace(character.skeleton, rest=large), meshes, (clip,))
        _, moves, clips, _ = take(replace(touching(grown), metres_per_unit=0.01), grown)
        _, same, _, _ = take(touching(character), character)
        self.assertLess(clips[:, 0].max(), NEAR)
        self.assertAlmostEqual(np.abs(moves[0]).max(), 100.0 * np.abs(same[0]).max(), delta=0.05)


class RefusalTest(TestCase):
    def test_a_region_cannot_touch_itself(self):
        setup = touching(arms())
        with self.assertRaisesRegex(BadInput, "two different regions"):
            take(edits.with_layer(setup, replace(setup.layers[0], other="upper")))

    def test_a_region_of_the_whole_mesh_has_no_rest(self):
        setup = touching(arms())
        with self.assertRaisesRegex(BadInput, "that its region leaves out"):
            take(edits.with_layer(setup, replace(setup.layers[0], other="")))

    def test_the_other_region_is_kept_and_checked(self):
        setup = touching(arms())
        self.assertEqual(from_document(to_document(setup)), setup)
        document = to_document(setup)
        document["layers"][0]["other"] = "no-such"
        with self.assertRaisesRegex(BadInput, "no-such"):
            from_document(document)
        with self.assertRaises(BadInput):
            edits.without_region(setup, "lower")
        with self.assertRaises(BadInput):
            loads("{}")


class KernelTest(TestCase):
    def scene(self):
        rng = np.random.default_rng(4)
        positions = 30
        starts, others = (
            np.arange(0, 2 * positions + 1, 2),
            np.stack([np.arange(positions) - 1, np.arange(positions) + 1], 1).ravel() % positions,
        )
        points, corners = rng.integers(0, 15, 9), rng.integers(15, positions, (9, 3))
        corner_weights = rng.dirichlet(np.ones(3), 9)
        normals = rng.normal(size=(9, 3))
        normals /= np.linalg.norm(normals, axis=1, keepdims=True)
        takes = rng.uniform(0.2, 1.0, positions)
        takes[3] = 0.0
        return (
            np.zeros((positions, 3)),
            takes,
            starts,
            others,
            0.8,
            12,
            30,
            1e-9,
            points,
            corners,
            corner_weights,
            normals,
            rng.normal(0.0, 0.01, 9),
        )

    def test_the_plain_copy_does_the_same(self):
        moves, *scene = self.scene()
        kernel.separate(moves, *scene)
        plain, *scene = self.scene()
        kernel._separate(plain, *scene)
        np.testing.assert_allclose(plain, moves, atol=1e-12)
        self.assertGreater(np.abs(moves).max(), 1e-3)
        np.testing.assert_array_equal(moves[3], 0.0)

    def test_one_push_closes_a_gap_and_keeps_what_both_carry(self):
        moves = np.zeros((4, 3))
        arrays = np.array([0]), np.array([[1, 2, 3]]), np.array([[0.2, 0.3, 0.5]]), np.array([[0.0, 1.0, 0.0]]), np.array([-0.01])
        worst = kernel.push(moves, np.ones(4), *arrays)
        self.assertAlmostEqual(worst, 0.01)
        self.assertAlmostEqual(moves[0, 1] - [0.2, 0.3, 0.5] @ moves[1:, 1], 0.01)
        self.assertAlmostEqual(moves[:, 1].sum(), 0.0)


class RestTest(TestCase):
    def test_the_rest_pose_is_not_touched(self):
        character = arms()
        run = Run(TakeSpec(character, touching(character), "clip"))
        touch = run.skin_filters[0]
        moves, depths, _ = touch.advance(rest_matrices(character.skeleton)[None], {}, np.ones(1))
        self.assertEqual(max(np.abs(each).max(initial=0.0) for each in moves.values()), 0.0)
        self.assertEqual(depths.max(), 0.0)
