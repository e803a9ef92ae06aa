"""Colliders in a run: how they fit, who meets them, that chains and flesh keep out of them, and that clip depth says so."""

from dataclasses import replace
from types import SimpleNamespace
from unittest import TestCase

import numpy as np

from quiver.bodies import fitting, picking
from quiver.colliders import Collider
from quiver.contact.contacts import Contacts, flesh_carriers, meets_skin
from quiver.contact.roots import clear_place, inner_roots
from quiver.contact.skins import ClosestPointQuery
from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.rig.character import Character
from quiver.rig.pose import rest_matrices
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.document import dumps, from_document, loads, to_document
from quiver.setup.model import WHOLE_SKIN, Setup
from tests.makers import Run, chain_setup, clips_of, moving_clip, simulate, straight, world_of


def with_ball(setup, place, radius, joint="", **values):
    setup = edits.with_new_collider(setup, "ball", "Ball", joint=joint, place=place, size=(radius,))
    ball = setup.colliders[-1]
    return edits.with_collider(setup, replace(ball, values=ball.values | values))


class ChainTest(TestCase):
    """A chain of six joints in a row that falls."""

    def setUp(self):
        self.skeleton = straight(6)
        self.clip = moving_clip(0, [0.0, 3.0], [(0, 0, 0), (0, 0, 0)])
        self.setup = chain_setup(gravity=100.0, wobble_rate=0.3, settle_time=20.0, thickness=10.0)

    def travel(self, setup, clip=None):
        run, *arrays, _ = simulate(self.skeleton, clip or self.clip, setup)
        return run, world_of(run, *arrays)[:, :, :, 3]

    def test_it_comes_to_lie_on_a_ball(self):
        free = self.travel(self.setup)[1]
        setup = with_ball(self.setup, (0.3, -0.2, 0.0), 0.1, margin=0.0)
        _, travel = self.travel(setup)
        self.assertLess(np.linalg.norm(free - [0.3, -0.2, 0.0], axis=2).min(), 0.09)
        self.assertGreater(np.linalg.norm(travel - [0.3, -0.2, 0.0], axis=2).min(), 0.11 - 2e-3)

    def test_far_from_the_origin_it_is_the_same(self):
        setup = with_ball(self.setup, (0.3, -0.2, 0.0), 0.1)
        here = self.travel(setup)[1]
        far = np.array([4096.0, 0.0, -2048.0])
        clip = moving_clip(0, [0.0, 3.0], [far, far])
        there = self.travel(with_ball(self.setup, tuple(far + np.array([0.3, -0.2, 0.0])), 0.1), clip)[1]
        np.testing.assert_allclose(there - far, here, atol=2e-4)

    def test_what_overlaps_at_rest_stays_and_a_switched_off_one_does_nothing(self):
        setup = with_ball(replace(self.setup, layers=(replace(self.setup.layers[0], values={"gravity": 0.0}),)), (0.3, 0.0, 0.0), 0.2)
        self.assertLess(np.abs(self.travel(setup)[1] - self.travel(replace(setup, colliders=()))[1]).max(), 1e-6)
        setup = with_ball(self.setup, (0.3, -0.2, 0.0), 0.1)
        off = replace(setup, colliders=(replace(setup.colliders[0], is_on=False),))
        np.testing.assert_array_equal(self.travel(off)[1], self.travel(self.setup)[1])

    def test_friction_holds_it_back_and_a_grip_holds_it(self):
        # Its weight alone would swing it three times in four seconds: at that rate it falls as a limp one.
        self.setup = chain_setup(gravity=100.0, wobble_rate=0.8, settle_time=20.0, thickness=10.0)
        ends = {}
        for surface, friction in (("slides", 0.0), ("slides", 1.0), ("grips", 0.0)):
            setup = with_ball(self.setup, (0.25, -0.15, 0.03), 0.1, surface=surface, friction=friction)
            ends[surface, friction] = np.abs(self.travel(setup)[1][-1, -1, 2])
        self.assertGreater(ends["slides", 0.0], ends["grips", 0.0] + 0.01)

    def test_a_ball_that_rides_on_what_the_chain_moves_is_not_met_unless_told_then_it_is_a_circle(self):
        setup = with_ball(self.setup, (0.5, -0.1, 0.0), 0.05, joint="j4")
        self.assertEqual(len(self.travel(setup)[0].chains[0].units[0].met), 0)
        told = edits.with_collider(setup, replace(setup.colliders[0], meets=(setup.layers[0].id,)))
        with self.assertRaisesRegex(BadInput, "in a circle"):
            self.travel(told)

    def test_a_jump_carries_the_colliders_along(self):
        clip = moving_clip(0, [0.0, 1.0, 1.01, 2.0], [(0, 0, 0), (0, 0, 0), (50, 0, 0), (50, 0, 0)])
        run, travel = self.travel(with_ball(self.setup, (0.3, -0.2, 0.0), 0.1, joint="base", margin=0.0), clip)
        positions = np.where(np.arange(len(travel))[:, None] > 24, [50.3, -0.2, 0.0], [0.3, -0.2, 0.0])
        self.assertGreater(np.linalg.norm(travel - positions[:, None], axis=2).min(), 0.11 - 2e-3)
        self.assertEqual(len(run.contacts), 1)

    def test_a_root_that_is_inside_a_collider_is_told_of(self):
        run, _ = self.travel(with_ball(self.setup, (0.05, 0.0, 0.0), 0.12))
        told = [note for note in run.notes if "“j0” is" in note]
        self.assertEqual(len(told), 1)
        self.assertIn("70 mm inside “Ball”", told[0])
        self.assertFalse(any("is inside" in note for note in self.travel(with_ball(self.setup, (0.3, -0.2, 0.0), 0.1))[0].notes))

    def test_a_collider_is_moved_the_shortest_way_off_roots(self):
        for shape, place, size in (
            ("ball", (0.09, 0.02, -0.01), (0.12,)),
            ("capsule", (-0.06, 0.02, 0.0), (0.1, 0.3)),
            ("box", (0.07, 0.0, 0.0), (0.2, 0.3, 0.4, 0.05)),
        ):
            setup = edits.with_new_collider(self.setup, shape, "It", place=place, size=size)
            character = Character("c", self.skeleton, (), ())
            (root,) = inner_roots(character, setup)
            moved = clear_place(character, setup, root.collider.id)
            self.assertAlmostEqual(np.linalg.norm(np.subtract(moved, place)), root.depth, delta=2e-4)
            clear = edits.set_collider(setup, root.collider.id, place=moved)
            self.assertEqual(inner_roots(character, clear), [])
            with self.assertRaisesRegex(BadInput, "there is none"):
                clear_place(character, clear, root.collider.id)
            deep = edits.set_collider(setup, root.collider.id, place=(0.01, 0.0, 0.0))
            with self.assertRaisesRegex(BadInput, "too deep inside"):
                clear_place(character, deep, root.collider.id)

    def test_a_joint_that_is_not_there_is_named(self):
        with self.assertRaisesRegex(BadInput, "Ball.*wing"):
            self.travel(with_ball(self.setup, (0, 0, 0), 0.1, joint="wing"))


class PlacementTest(TestCase):
    def test_it_rides_rigidly_on_its_joint(self):
        skeleton = straight(3)
        setup = edits.with_new_collider(Setup(), "box", "Box", joint="j1", place=(0.15, 0.05, 0.0), size=(0.1, 0.2, 0.3, 0.02))
        contacts = Contacts(Character("test", skeleton, (), ()), setup)
        world = rest_matrices(skeleton)[None].copy()
        np.testing.assert_allclose(contacts.placements(world)[0, 0], np.column_stack([np.eye(3), [0.15, 0.05, 0.0]]), atol=1e-12)
        turn = np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
        node = skeleton.index("j1")
        joint = world[0, node, :, 3].copy()
        world = world.copy()
        world[0, node, :, :3] = turn
        moved = contacts.placements(world)[0, 0]
        np.testing.assert_allclose(moved[:, 3], joint + turn @ ([0.15, 0.05, 0.0] - joint), atol=1e-12)
        np.testing.assert_allclose(moved[:, :3], turn, atol=1e-12)

    def test_what_each_shape_is_made_of(self):
        box = Collider("b", "B", "box", size=(0.2, 0.4, 0.6, 0.05))
        self.assertEqual(box.radius, 0.05)
        np.testing.assert_allclose(box.core, (0.05, 0.25, 0.15, 0.15))
        np.testing.assert_allclose(Collider("c", "C", "capsule", size=(0.1, 0.3)).core, (0, 0, 0.15, 0.15))
        self.assertEqual(Collider("g", "G", "ground", size=()).core[2], 0.0)


class DocumentTest(TestCase):
    def test_colliders_come_back_and_faults_are_named(self):
        setup = with_ball(chain_setup(), (1, 2, 3), 0.5, joint="j1", friction=0.7)
        setup = edits.with_collider(setup, replace(setup.colliders[0], spares=(setup.layers[0].id,), turn=(0.0, 1.0, 0.0, 0.0)))
        self.assertEqual(loads(dumps(setup)), setup)
        self.assertEqual(edits.without_layers(setup, [setup.layers[0].id]).colliders[0].spares, ())
        for change, words in (
            ({"shape": "cone"}, "shape: expected one of ball"),
            ({"size": [1, 2]}, "size: expected a list of 1 numbers"),
            ({"size": [-1]}, "size\\[0\\]: expected a number from 0"),
            ({"place": [0, 0, 1e12]}, "place\\[2\\]: expected a number from -1e\\+07 to 1e\\+07"),
            ({"turn": [0, 0, 0, 0]}, "not zero"),
            ({"dials": {"friction": 9}}, "dials.friction: expected a number from 0 to 2"),
            ({"colour": "red"}, "only"),
        ):
            document = to_document(setup)
            document["colliders"][0] |= change
            with self.assertRaisesRegex(BadInput, words):
                from_document(document)


def carried(mesh, nodes):
    """Which vertices of a mesh some nodes move."""
    return ((mesh.weights > 0.0) & np.isin(mesh.joints, list(nodes))).any(1)


class MudwickTest(TestCase):
    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")
        driven = picking.driven_nodes(cls.character, cls.setup.layers)
        cls.fitted = fitting.fit_all(cls.character, driven)
        names = cls.character.skeleton.names
        for node, (place, turn, radius, length) in cls.fitted.items():
            fields = {"joint": names[node], "place": tuple(place), "turn": turn, "size": (radius, length)}
            cls.setup = edits.with_new_collider(cls.setup, "capsule", names[node], **fields)

    def test_capsules_lie_in_the_skin_on_both_sides_alike(self):
        names = self.character.skeleton.names
        by_name = {names[node]: fitted for node, fitted in self.fitted.items()}
        self.assertIn("head", by_name)
        self.assertNotIn("tail_2", by_name)
        for name in ("fore_upper", "hind_lower"):
            left, right = by_name[f"{name}_l"], by_name[f"{name}_r"]
            self.assertLess(np.linalg.norm(np.array(left[0]) * [-1, 1, 1] - right[0]), 0.04)
            self.assertAlmostEqual(left[2], right[2], delta=0.01)

    def test_flesh_does_not_meet_what_is_inside_of_it(self):
        belly = self.setup.layer("belly")
        inside = {self.character.skeleton.names[node] for node in flesh_carriers(self.character, self.setup, belly)}
        self.assertIn("spine_1", inside)
        contacts = Contacts(self.character, self.setup)
        met = contacts.met_by(belly, set(), flesh_carriers(self.character, self.setup, belly))
        self.assertTrue(len(met))
        self.assertFalse(inside & {contacts.colliders[index].name for index in met})

    def clips(self, setup, layer_id, touches=True):
        run = Run(TakeSpec(self.character, replace(setup, layers=(setup.layer(layer_id),), preroll_frames=4.0), "shake dry", 0, 24))
        if not touches:
            for batch in run.chains:
                batch.contacts = None
            for body in run.soft_bodies:
                body.touching = None
        return clips_of(run.chunks(), layer_id)

    def test_barbels_clip_less_with_contacts_than_without(self):
        depths, deepest = self.clips(self.setup, "barbels")
        through, _ = self.clips(self.setup, "barbels", touches=False)
        self.assertGreater(through[:, 0].max(), 0.03)
        self.assertLess(depths[:, 0].max(), 0.5 * through[:, 0].max())
        np.testing.assert_array_equal(depths[:, 1], through[:, 1])
        worst = int(depths[:, 0].argmax())
        mesh, vertex = deepest[worst]
        self.assertLess(vertex, len(self.character.meshes[mesh].positions))

    def test_what_begins_inside_is_told_of(self):
        skin = tuple(replace(each, meets=("bags",)) for each in self.setup.colliders if each.shape == "skin")
        setup = replace(self.setup, colliders=skin, layers=(self.setup.layer("bags"),))
        # With no pre-roll nothing comes from the rest pose, and here the clip begins with the legs in the bags' way.
        late = next(clip for clip in self.character.clips if clip.name == "hop and land")
        late = replace(late, start=late.start + 9.0 / 24.0)
        character = replace(self.character, clips=(late,))
        self.assertEqual(Run(TakeSpec(character, setup, "hop and land")).notes, ())
        setup = replace(setup, preroll_frames=0.0)
        (note,) = Run(TakeSpec(character, setup, "hop and land")).notes
        self.assertRegex(note, r"Mail bags: starts \d+ mm inside")

    def test_the_whole_skin_is_watched_with_no_layer_at_all(self):
        """A leg that is keyed into the other is told of, and what a mesh is itself or is inside of is not."""
        found = fitting.fit_all(self.character)
        setup = replace(self.setup, layers=(), watches_skin=True)
        self.assertEqual(Run(TakeSpec(self.character, setup, "walk")).layer_ids, (WHOLE_SKIN,))

        def depths(setup, clip):
            return clips_of(Run(TakeSpec(self.character, setup, clip, 0, 12)).chunks(), WHOLE_SKIN)

        # His own skin alone: his gear goes through it, and no vertex of the skin itself is asked.
        skin, where = depths(replace(setup, colliders=tuple(each for each in setup.colliders if each.shape == "skin")), "hop and land")
        self.assertGreater(skin[:, 1].max(), 0.01)
        np.testing.assert_array_equal(skin[:, 0], skin[:, 1])
        index = self.character.mesh_index("skin")
        self.assertNotIn(index, where[skin[:, 0] > 0.0, 0])
        capsules = replace(setup, colliders=())
        for node, (place, turn, radius, length) in found.items():
            name = self.character.skeleton.names[node]
            capsules = edits.with_new_collider(capsules, "capsule", name, joint=name, place=place, turn=turn, size=(radius, length))
        still, _ = depths(capsules, "")
        self.assertLess(still.max(), 1e-6)
        self.assertGreater(depths(capsules, "walk")[0].max(), 1e-3)

    def test_a_belly_lies_on_a_box_and_runs_repeat(self):
        setup = edits.with_new_collider(
            replace(self.setup, colliders=()), "box", "Crate", place=(0.0, 0.2, -0.1), size=(0.6, 0.3, 0.5, 0.05)
        )
        first, _ = self.clips(setup, "belly")
        again, _ = self.clips(setup, "belly")
        np.testing.assert_array_equal(first, again)
        self.assertTrue(np.isfinite(first).all())

    def test_the_blanket_lies_on_the_skin_which_without_contacts_it_goes_through(self):
        setup = replace(self.setup, colliders=tuple(each for each in self.setup.colliders if each.shape == "skin"))
        depths, _ = self.clips(setup, "saddle-blanket")
        through, _ = self.clips(setup, "saddle-blanket", touches=False)
        self.assertLess(depths[:, 0].max(), 0.02)
        self.assertGreater(through[:, 0].max(), 2.0 * depths[:, 0].max())

    def test_a_layer_meets_the_rest_of_the_skin_that_it_is_part_of(self):
        skin = next(each for each in self.setup.colliders if each.shape == "skin")
        mesh = self.character.mesh("skin")
        for name, nodes in (("belly", ()), ("barbels", self.barbels()), ("bell", self.nodes("bell_1"))):
            layer = self.setup.layer(name)
            contacts = Contacts(self.character, replace(self.setup, colliders=(replace(skin, meets=(name,)),)))
            (met,) = contacts.skins_met_by(self.setup, layer, nodes)
            if name == "bell":
                self.assertEqual(len(met.surface.triangles), len(contacts.skins[0].surface.triangles))
                continue
            own = regions.is_in(self.character.painted(self.setup.region(layer.region))[1]) if name == "belly" else carried(mesh, nodes)
            self.assertFalse(own[met.surface.triangles].any())
            self.assertLess(len(met.surface.triangles), len(contacts.skins[0].surface.triangles))
            self.assertGreater(len(met.surface.triangles), 0.5 * len(contacts.skins[0].surface.triangles))

    def test_flesh_may_dent_in_where_it_was_cut_out_of_the_skin_around_it(self):
        skin = next(each for each in self.setup.colliders if each.shape == "skin")
        moved = []
        for meets in ((), ("belly",)):
            only = replace(self.setup, layers=(self.setup.layer("belly"),), colliders=(replace(skin, meets=meets),), preroll_frames=4.0)
            chunks = list(Run(TakeSpec(self.character, only, "walk", 0, 24)).chunks())
            moved.append(np.concatenate([chunk.added[:, 0] for chunk in chunks]))
        self.assertLess(clips_of(chunks, "belly")[0].max(), 1e-3)
        self.assertGreater(moved[0].max(), 0.02)
        self.assertLess(np.abs(moved[1] - moved[0]).max(), 5e-3)

    def test_a_foot_that_barely_clips_does_not_fling_the_rest(self):
        """The neck bends under the frill and gets into its feet by some millimetres, which no turn of the frill could help."""
        skin = next(each for each in self.setup.colliders if each.shape == "skin")
        moved = []
        for meets in ((), ("frill",)):
            only = replace(self.setup, layers=(self.setup.layer("frill"),), colliders=(replace(skin, meets=meets),))
            chunks = list(Run(TakeSpec(self.character, only, "hop and land")).chunks())
            moved.append(np.concatenate([chunk.added[:, 0] for chunk in chunks]).mean())
        self.assertLess(moved[1], 1.4 * moved[0])

    def test_what_capsules_stand_for_is_what_soft_bodies_touch(self):
        capsules = tuple(each for each in self.setup.colliders if each.shape == "capsule")
        setup = replace(self.setup, colliders=capsules)
        for name in ("belly", "saddle-blanket"):
            with self.subTest(name=name):
                only = replace(setup, layers=(setup.layer(name),), preroll_frames=4.0)
                run = Run(TakeSpec(self.character, only, "walk", 0, 24))
                (body,) = run.soft_bodies
                (behind,) = body.skins_met
                self.assertEqual(behind.surface.mesh.name, "skin")
                if name == "belly":
                    own = regions.is_in(self.character.painted(setup.region(setup.layer(name).region))[1])
                    seen = behind.surface.triangles[behind.surface.kinds == 0]
                    self.assertFalse(own[seen].any())
                self.assertLess(clips_of(run.chunks(), name)[0][:, 0].max(), 3e-3)

    def nodes(self, *names):
        skeleton = self.character.skeleton
        return {below for name in names for below in skeleton.below(skeleton.index(name))}

    def barbels(self):
        skeleton = self.character.skeleton
        return {node for node, name in enumerate(skeleton.names) if "barbel" in name}

    def deepest(self, name, clip, touches):
        """How deep the layer gets into the skin as simulated, on average [m], if it meets the skin alone, or nothing."""
        skin = next(each for each in self.setup.colliders if each.shape == "skin")
        only = replace(self.setup, layers=(self.setup.layer(name),), colliders=(replace(skin, meets=(name,)),), preroll_frames=4.0)
        run = Run(TakeSpec(self.character, only, clip, 0, 24))
        if not touches:
            for batch in run.chains:
                batch.contacts = None
            for prop in run.props:
                prop.touching = None
        return float(clips_of(run.chunks(), name)[0][:, 0].mean())

    def test_chains_and_props_lie_on_a_skin(self):
        for name, clip, share in (("bell", "shake dry", 0.6), ("bell", "walk", 0.2), ("barbels", "shake dry", 0.9)):
            with self.subTest(name=name, clip=clip):
                self.assertLess(self.deepest(name, clip, True), share * self.deepest(name, clip, False))

    def test_a_surface_is_met_where_told_and_by_sheets_of_other_meshes_by_themselves(self):
        skin = next(each for each in self.setup.colliders if each.shape == "skin")
        frill = replace(skin, id="frill", mesh="frill")
        belly, blanket, tail = (self.setup.layer(name) for name in ("belly", "saddle-blanket", "tail"))
        self.assertEqual([meets_skin(self.setup, layer, skin) for layer in (belly, blanket, tail)], [False, True, False])
        self.assertIsNone(meets_skin(self.setup, belly, replace(skin, shape="body", size=(0.1,))))
        self.assertTrue(meets_skin(self.setup, tail, replace(skin, meets=("tail",))))
        self.assertFalse(meets_skin(self.setup, belly, frill))
        self.assertTrue(meets_skin(self.setup, belly, replace(frill, meets=("belly",))))
        self.assertFalse(meets_skin(self.setup, blanket, replace(skin, spares=("saddle-blanket",))))

    def test_what_is_beside_the_rim_of_an_open_skin_is_not_behind_it(self):
        corners = np.array([[x, 0.0, z] for x in (0.0, 1.0, 2.0) for z in (0.0, 1.0, 2.0)])
        a = np.array([0, 1, 3, 4])
        triangles = np.concatenate([np.stack([a, a + 1, a + 4], 1), np.stack([a, a + 4, a + 3], 1)])
        points = np.array([[1.0, 0.03, 1.0], [1.2, -0.02, 0.9], [2.05, -0.02, 1.0]])
        surface = SimpleNamespace(rest=corners, triangles=triangles, layout=None, is_rim=np.arange(9) != 4)
        query = ClosestPointQuery(surface, points)
        np.testing.assert_allclose(query.closest, [0.03, -0.02, np.inf], atol=1e-9)
        # What is far inside already may be anywhere; what is far outside is asked to stay out.
        far = ClosestPointQuery(surface, np.array([[1.0, -0.5, 1.0], [1.0, 0.5, 1.0]]))
        np.testing.assert_allclose(far.closest, [-np.inf, 0.5], atol=1e-9)
