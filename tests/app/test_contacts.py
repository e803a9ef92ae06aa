"""The Contacts step: colliders are added, fitted, set, moved, mirrored and matched with layers; every change is one version."""

import json
from dataclasses import replace

import numpy as np
from django.test import TestCase

from quiver.bodies import fitting, picking
from quiver.contact.contacts import Contacts, flesh_carriers
from quiver.demo import mudwick
from quiver.errors import BadInput
from quiver.rig.pose import rest_matrices
from studio.characters.services import bring_in, forget_loaded
from studio.contacts import services
from tests.app.helpers import DeskTest, RunningDeskTest, run_waiting_jobs


class ColliderDeskTest(DeskTest):
    def setUp(self):
        super().setUp()
        self.post("contacts/add/", shape="ball", joint="root")

    @property
    def collider(self):
        return self.fresh.setup.colliders[0]

    def set(self, field, value):
        return self.post(f"contacts/{self.collider.id}/set/", field=field, value=value)

    def test_the_page_shows_it_and_the_stage_gets_its_shape(self):
        self.assertContains(self.client.get(self.url("contacts/")), "Collision table")
        (shape,) = self.client.get(self.url("contacts/shapes")).json()["colliders"]
        self.assertEqual((shape["shape"], shape["isOn"]), ("ball", True))
        self.assertEqual(len(shape["place"]), 3)

    def test_numbers_are_in_millimetres_and_degrees(self):
        for field, value in (("size 0", "120"), ("place 1", "-350"), ("turn 2", "90"), ("friction", "0.7"), ("surface", "grips")):
            self.assertEqual(self.set(field, value).status_code, 200)
        made = self.collider
        self.assertEqual((made.size, made.place[1]), ((0.12,), -0.35))
        np.testing.assert_allclose(made.turn, [0, 0, np.sqrt(0.5), np.sqrt(0.5)], atol=1e-9)
        self.assertGreater(made.friction, 1000.0)
        for field, value in (("size 3", "1"), ("size 0", "-2"), ("place 0", "nan"), ("friction", "9"), ("nonsense", "1")):
            self.assertContains(self.set(field, value), "xpected", status_code=422)
        self.assertEqual(self.collider, made)

    def test_turns_read_back_as_they_were_set(self):
        self.post("contacts/add/", shape="box", joint="root")
        name = self.fresh.setup.colliders[-1].id
        for field, value in (("turn 0", "20"), ("turn 1", "-35"), ("turn 2", "70")):
            self.post(f"contacts/{name}/set/", field=field, value=value)
        page = self.client.get(self.url(f"contacts/?collider={name}"))
        for value in ("20", "-35", "70"):
            self.assertContains(page, f'value="{value}"')

    def test_the_stage_moves_it(self):
        url = self.url(f"contacts/{self.collider.id}/move/")

        def move(body):
            return self.client.post(url, json.dumps(body), content_type="application/json", HTTP_HX_REQUEST="true")

        whole = {"place": [1, 2, 3], "turn": [0, 0.6, 0, 0.8], "size": [0.4]}
        self.assertEqual(move(whole).status_code, 204)
        self.assertEqual((self.collider.place, self.collider.turn, self.collider.size), ((1.0, 2.0, 3.0), (0.0, 0.6, 0.0, 0.8), (0.4,)))
        for wrong in ({"place": [1, 2]}, {"place": [1, 2, "x"]}, {"size": [-1]}, {"turn": [0, 0, 0, 0]}, {"turn": [0, 1]}, {"turn": "x"}):
            self.assertContains(move(whole | wrong), "xpected", status_code=422)
        self.assertContains(move([]), "xpected", status_code=422)

    def test_it_is_moved_clear_of_fixed_roots(self):
        for field, value in (("size 0", "400"), ("place 1", "0")):
            self.set(field, value)
        made = self.collider
        page = self.client.get(self.url(f"contacts/?collider={made.id}"))
        self.assertContains(page, "mm inside")
        cleared = self.post(f"contacts/{made.id}/change/", action="clear")
        self.assertEqual(cleared.status_code, 200)
        self.assertNotContains(cleared, "mm inside")
        self.assertNotEqual(self.fresh.setup.collider(made.id).place, made.place)
        self.assertContains(self.post(f"contacts/{made.id}/change/", action="clear"), "there is none", status_code=422)

    def test_the_whole_skin_is_watched_with_every_layer_off(self):
        self.post("motion/arm/change/", action="switch")
        page = self.post("contacts/watch/", watch="on")
        self.assertContains(page, 'name="watch" checked')
        self.assertTrue(self.fresh.setup.watches_skin)
        run_waiting_jobs()
        take = self.fresh.takes.latest("pk")
        self.assertEqual(take.layer_ids, ["skin:"])
        self.assertEqual(len(take.measures["skin:"]["clip"]), take.frame_count)
        self.assertIn("Whole skin", self.heard()["score"])
        self.assertNotContains(self.post("contacts/watch/"), 'name="watch" checked')

    def test_switched_renamed_mirrored_ridden_removed_undone(self):
        name = self.collider.id
        for action, text in (("switch", ""), ("rename", "Stone"), ("ride", "hand"), ("fit", ""), ("mirror", "")):
            self.assertEqual(self.post(f"contacts/{name}/change/", action=action, text=text).status_code, 200, action)
        first, second = self.fresh.setup.colliders
        self.assertEqual((first.name, first.joint, first.is_on), ("Stone", "hand", False))
        self.assertAlmostEqual(second.place[0], -first.place[0])
        self.assertContains(self.post(f"contacts/{name}/change/", action="ride", text="wing"), "wing", status_code=422)
        self.assertContains(self.post(f"contacts/{name}/change/", action="fly"), "xpected one of", status_code=422)
        self.post(f"contacts/{name}/change/", action="remove")
        self.assertEqual(len(self.fresh.setup.colliders), 1)
        self.post("motion/undo/")
        self.assertEqual(len(self.fresh.setup.colliders), 2)

    def test_what_cannot_be_added_is_refused(self):
        for fields, words in (
            ({"shape": "cone"}, "of the shape"),
            ({"shape": "ball", "joint": "wing"}, "wing"),
            ({"shape": "skin:x"}, "meshes"),
        ):
            self.assertContains(self.post("contacts/add/", **fields), words, status_code=422)
        self.post("contacts/add/", shape="skin:strip")
        self.assertEqual((self.fresh.setup.colliders[-1].shape, self.fresh.setup.colliders[-1].mesh), ("skin", "strip"))
        self.assertContains(self.client.get(self.url("contacts/?collider=strip")), "as it moves with the joints")
        self.assertEqual(len(self.client.get(self.url("contacts/shapes")).json()["colliders"]), 1)

    def test_a_layer_is_told_to_meet_and_to_spare(self):
        meet = f"contacts/{self.collider.id}/meet/"
        self.post(meet, layer="arm", meets="no")
        self.assertEqual(self.collider.spares, ("arm",))
        self.post(meet, layer="arm", meets="yes")
        self.assertEqual((self.collider.meets, self.collider.spares), ((), ()))
        self.post(f"contacts/{self.collider.id}/change/", action="ride", text="lower")
        self.assertContains(self.post(meet, layer="arm", meets="yes"), "circle", status_code=422)

    def test_capsules_for_all_joints_leave_out_what_chains_drive(self):
        self.post("contacts/fit/")
        joints = {each.joint for each in self.fresh.setup.colliders}
        self.assertFalse(joints & {"upper", "lower", "hand", "finger"})
        self.assertContains(self.post("contacts/fit/"), "joint that moves skin", status_code=422)

    def test_rows_columns_and_many_colliders_are_changed_at_once(self):
        for shape in ("ball", "capsule", "box"):
            self.post("contacts/add/", shape=shape, joint="root")
        ids = [each.id for each in self.fresh.setup.colliders]
        self.post("contacts/meet/", layer="arm", meets="no")
        self.assertTrue(all("arm" in each.spares for each in self.fresh.setup.colliders))
        self.post("contacts/meet/", collider=ids[0], meets="yes")
        self.assertEqual(["arm" in each.spares for each in self.fresh.setup.colliders], [False, *[True] * (len(ids) - 1)])
        self.post("contacts/several/", collider=ids[:2], action="off")
        self.assertEqual([each.is_on for each in self.fresh.setup.colliders][:3], [False, False, True])
        self.post("contacts/several/", collider=ids[1:], action="remove")
        self.assertEqual([each.id for each in self.fresh.setup.colliders], ids[:1])
        self.assertContains(self.post("contacts/several/", action="remove"), "o collider is ticked", status_code=422)
        self.assertContains(self.post("contacts/several/", collider=ids[:1], action="burn"), "on, off or remove", status_code=422)


class FittedTest(TestCase):
    def setUp(self):
        forget_loaded()
        glb, setup = mudwick.build()
        self.row = bring_in(glb, "mudwick.glb", replace(setup, colliders=()))

    def test_what_is_small_is_left_out_unless_it_is_wanted(self):
        services.fit_all(self.row)
        few = {each.joint for each in self.row.setup.colliders}
        services.fit_all(self.row, with_small=True)
        self.assertGreater(len(self.row.setup.colliders), len(few))
        self.assertIn("chest", few)

    def test_no_capsule_holds_at_rest_what_hangs_there(self):
        services.fit_all(self.row)
        setup, character = self.row.setup, services.loaded(self.row.pk)[0]
        fitted = {character.skeleton.names[node]: each[2] for node, each in fitting.fit_all(character).items()}
        contacts, driven = Contacts(character, setup), picking.driven_nodes(character, setup.layers)
        world, thinned = rest_matrices(character.skeleton), 0
        for layer in setup.layers:
            nodes = sorted(picking.driven_nodes(character, [layer])) if layer.chains else []
            for index in contacts.met_by(layer, driven, flesh_carriers(character, setup, layer)) if nodes else ():
                collider = setup.collider(contacts.colliders[index].id)
                inside = collider.radius - contacts.distances(world[nodes, :, 3])[:, index].min()
                # A joint on the very middle of a capsule leaves it as thin as it may be.
                is_thinnest = collider.radius <= services.LEAST_SHARE * fitted[collider.joint] + 1e-9
                self.assertTrue(inside <= 1e-6 or is_thinnest, (layer.name, collider.name, inside))
                thinned += collider.radius < fitted[collider.joint] - 1e-9
        self.assertGreater(thinned, 0)


class HullsTest(TestCase):
    def test_hulls_for_all_joints_but_those_that_have_a_collider_or_that_chains_drive(self):
        forget_loaded()
        glb, setup = mudwick.build()
        row = bring_in(glb, "mudwick.glb", replace(setup, colliders=()))
        flat = {"frill_3_2"}
        row.save_setup(replace(row.setup, layers=tuple(layer for layer in row.setup.layers if layer.id != "frill")), "no frill")
        services.fit_all(row, "hull", with_small=True)
        made = row.setup.colliders
        # What is flat has no hull, and does not keep the others from theirs.
        self.assertFalse(flat & {each.joint for each in made})
        self.assertGreater(len(made), 10)
        self.assertEqual({each.shape for each in made}, {"hull"})
        self.assertIn("head", {each.joint for each in made})
        self.assertFalse({"tail_2", "barbel_l_1"} & {each.joint for each in made})
        self.assertEqual(len(services.shapes(row)), len(made))
        for shape, words in (("hull", "joint that moves skin"), ("cone", "capsules or hulls")):
            with self.assertRaisesRegex(BadInput, words):
                services.fit_all(row, shape)


class MeasuredTest(RunningDeskTest):
    def test_a_take_keeps_the_clip_depth_and_the_score_shows_it(self):
        self.post("contacts/add/", shape="ground")
        take = self.fresh.takes.first()
        run_waiting_jobs()
        take.refresh_from_db()
        kept = take.measures["arm"]
        self.assertEqual(len(kept["clip"]), take.frame_count)
        self.assertEqual(len(kept["deepest"][0]), 2)
        self.assertIn("clip", self.heard()["score"])

    def test_a_collider_that_makes_a_layer_move_more_is_named(self):
        self.dial("wobble_rate", "8")
        run_waiting_jobs()
        self.assertNotIn("pushes it", self.heard()["score"])
        free = np.array(self.fresh.takes.first().measures["arm"]["turn"]).max()
        # A ball where the keys swing the arm through.
        self.post("contacts/add/", shape="ball")
        ball = self.fresh.setup.colliders[0]
        for field, value in (("place 0", "-450"), ("place 1", "1000"), ("place 2", "0"), ("size 0", "300")):
            self.post(f"contacts/{ball.id}/set/", field=field, value=value)
        self.post(f"contacts/{ball.id}/change/", action="rename", text="Pillar")
        run_waiting_jobs()
        take = self.fresh.takes.first()
        turned, against = (np.array(take.measures["arm"][name]) for name in ("turn", "against"))
        self.assertGreater(turned.max(), 1.5 * free)
        self.assertEqual((int(against.min()), int(against.max())), (-1, 0))
        self.assertRegex(self.heard()["score"], r"“Pillar” pushes it: \d+° off its keys")

    def test_skin_is_kept_from_skin_and_its_lane_says_how_deep_and_what_it_costs(self):
        for fields in ({"of": "joints:", "joints": ""}, {"of": "no-such"}, {"of": "joints:", "joints": "nobody"}):
            self.assertContains(self.post("contacts/skin-contact/", **fields), "", status_code=422)
        self.assertContains(self.post("contacts/skin-contact/", of="joints:", joints="lower", against=""), "and the rest of its mesh")
        layer = self.fresh.setup.layers[-1]
        self.assertEqual((layer.kind, layer.other), ("skin_contact", ""))
        take = self.fresh.takes.first()
        run_waiting_jobs()
        take.refresh_from_db()
        kept = take.measures[layer.id]
        self.assertEqual(len(kept["keyed_clip"]), take.frame_count)
        self.assertGreater(kept["cost"], 0.0)
        self.assertContains(self.client.get(self.url(f"motion/?layer={layer.id}")), "Largest depth")
        self.post("contacts/add/", shape="ground")
        self.assertContains(
            self.post(f"contacts/{self.fresh.setup.colliders[0].id}/meet/", layer=layer.id, meets="yes"),
            "does not collide",
            status_code=422,
        )

    def test_a_limb_is_kept_clear_of_colliders_and_its_lane_shows_by_how_much(self):
        self.assertContains(self.post("motion/add/", joints="lower", kind="limb_clearance"), "colliders on it", status_code=422)
        self.post("contacts/add/", shape="ball", joint="hand")
        self.post("contacts/add/", shape="box", joint="root")
        self.assertContains(self.post("motion/add/", joints="lower", kind="limb_clearance"), "Turn limit")
        layer = self.fresh.setup.layers[-1]
        take = self.fresh.takes.first()
        run_waiting_jobs()
        take.refresh_from_db()
        self.assertEqual(take.job.state, "finished", take.job.message)
        self.assertEqual(len(take.measures[layer.id]["keyed_clip"]), take.frame_count)
        self.assertNotContains(self.client.get(self.url("contacts/")), f"{layer.name} collides with")
