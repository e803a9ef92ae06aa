"""Edits of the setup: each is checked, kept as a version, and can be undone."""

import io
import json
from unittest import skipUnless

from django.core.files.uploadedfile import SimpleUploadedFile

from quiver.layers import kind_of, kinds
from quiver.mesh import regions
from quiver.setup import document as setup_document
from quiver.setup import edits
from studio.jobs.models import Job
from studio.motion.models import OwnPreset, SolidBuild
from studio.takes.models import Take
from tests.app.helpers import DeskTest, RunningDeskTest, run_waiting_jobs
from tests.bodies.test_conforming import HAS_PACKAGE
from tests.formats.makers import arm, glb_bytes


class EditTest(DeskTest):
    def value(self, name):
        return self.fresh.setup.layer("arm").value(name)

    def test_a_dial_is_a_new_version_and_starts_a_take(self):
        before = self.fresh.current_id
        response = self.dial("wobble_rate", "3.5")
        self.assertEqual(self.value("wobble_rate"), 3.5)
        self.assertNotEqual(self.fresh.current_id, before)
        take = Take.objects.get()
        self.assertEqual(take.version_id, self.fresh.current_id)
        self.assertEqual(json.loads(response.headers["HX-Trigger"])["setup-changed"]["take"], take.pk)

    def test_without_following_changes_no_take_starts(self):
        self.post("motion/follow/")
        Take.objects.all().delete()
        self.dial("wobble_rate", "3.5")
        self.assertEqual(Take.objects.count(), 0)

    def test_a_value_out_of_range_says_the_range_and_keeps_what_was(self):
        before = self.fresh.current_id
        for bad in ("99", "-1", "nan", "inf", "fast", ""):
            response = self.dial("wobble_rate", bad)
            self.assertContains(response, "from 0 to 12", status_code=422)
        self.assertEqual(self.dial("wobbliness", "1").status_code, 422)
        self.assertEqual(self.dial("wobble_rate", "1", layer="no-such").status_code, 422)
        self.assertEqual(self.fresh.current_id, before)

    def test_one_dial_goes_back_to_its_default(self):
        self.dial("wobble_rate", "3.5")
        self.dial("settle_time", "50")
        self.post("motion/arm/dial/", dial="wobble_rate", reset="1", value="3.5")
        self.assertEqual((self.value("wobble_rate"), self.value("settle_time")), (2.0, 50.0))

    def test_undo_and_redo_go_through_the_versions(self):
        for value in ("3", "4", "5"):
            self.dial("wobble_rate", value)
        self.post("motion/undo/")
        self.post("motion/undo/")
        self.assertEqual(self.value("wobble_rate"), 3.0)
        self.post("motion/redo/")
        self.assertEqual(self.value("wobble_rate"), 4.0)
        # A new edit makes a new branch; the old one stays in the database.
        self.dial("wobble_rate", "6")
        self.assertIsNone(self.fresh.redo_version)
        self.assertEqual(self.fresh.versions.count(), 5)
        for _ in range(9):
            self.post("motion/undo/")
        self.assertEqual(self.fresh.current.label, "Brought in")

    def test_chains_are_added_and_refused_with_the_reason(self):
        self.post("motion/add/", joints="hand")
        self.assertEqual([layer.name for layer in self.fresh.setup.layers], ["Arm", "hand"])
        for fields, words in (
            ({"joints": "no such joint"}, "no such joint"),
            ({"joints": ""}, "click one"),
            ({"joints": "lower"}, "Arm"),
        ):
            self.assertContains(self.post("motion/add/", **fields), words, status_code=422)
        self.assertEqual(len(self.fresh.setup.layers), 2)

    def test_a_chain_of_named_joints_goes_into_a_layer_and_out_again(self):
        self.post("motion/add/", joints="hand, finger", to_layer="arm")
        chains = self.fresh.setup.layer("arm").chains
        self.assertEqual([chain.picked for chain in chains], [(), ()])
        for fields in ({"joints": "root, finger"}, {"joints": "finger", "to_layer": "no-such"}):
            self.assertEqual(self.post("motion/add/", **fields).status_code, 422, fields)
        self.assertContains(self.client.get(self.url("motion/")), "Remove hand → finger from this layer")
        self.post("motion/arm/remove-chain/", index="0")
        self.assertEqual([str(chain) for chain in self.fresh.setup.layer("arm").chains], ["hand → finger"])
        self.assertContains(self.post("motion/arm/remove-chain/", index="0"), "not its last", status_code=422)

    def test_layers_are_switched_moved_renamed_and_removed(self):
        self.post("motion/add/", joints="hand")
        self.post("motion/hand/change/", action="up")
        self.post("motion/hand/change/", action="switch")
        self.post("motion/hand/change/", action="rename", value="Forearm")
        layers = self.fresh.setup.layers
        self.assertEqual([(layer.name, layer.is_on) for layer in layers], [("Forearm", False), ("Arm", True)])
        self.post("motion/arm/change/", action="remove")
        self.assertEqual([layer.id for layer in self.fresh.setup.layers], ["hand"])
        self.assertEqual(self.post("motion/hand/change/", action="explode").status_code, 422)

    def test_amount_keys_are_set_replaced_and_removed(self):
        self.post("motion/arm/amount/", frame=["0"], value=["0"], new_frame="12", new_value="1", add="1")
        self.assertEqual(self.fresh.setup.layer("arm").amount, ((0.0, 0.0), (12.0, 1.0)))
        self.post("motion/arm/amount/", frame=["0", "12"], value=["0", "1"], new_frame="", new_value="1", remove="0")
        self.assertEqual(self.fresh.setup.layer("arm").amount, ((12.0, 1.0),))
        self.assertContains(self.post("motion/arm/amount/", frame=["x"], value=["1"]), "expected numbers", status_code=422)
        self.assertContains(self.post("motion/arm/amount/", frame=["0"], value=["7"]), "from 0 to 1", status_code=422)

    def test_presets_and_other_layers_are_starts(self):
        for name in kind_of("chain").presets:
            self.post("motion/arm/like/", like=f"preset:{name}")
            self.assertEqual(self.fresh.setup.layer("arm").values, kind_of("chain").preset(name))
        self.post("motion/add/", joints="hand")
        self.post("motion/hand/like/", like="layer:arm")
        self.assertEqual(self.fresh.setup.layer("hand").values, self.fresh.setup.layer("arm").values)
        for like in ("preset:Jelly from nowhere", "layer:none", ""):
            self.assertEqual(self.post("motion/arm/like/", like=like).status_code, 422)

    def test_every_preset_is_within_its_dials(self):
        for kind in kinds():
            for name in kind.presets:
                for dial, value in kind.preset(name).items():
                    self.assertEqual(kind.dial(dial).checked(value), value, (name, dial))

    def test_the_frame_rate_counts_the_clips_anew(self):
        self.post("motion/scene/", dial="frame_rate", value="60")
        self.assertEqual(self.fresh.clip_facts()["frames"], 91)
        self.assertEqual(Take.objects.first().last_frame, 90)
        self.assertEqual(self.post("motion/scene/", dial="gravity", value="1").status_code, 422)


class SetupFileTest(DeskTest):
    def bring(self, text):
        file = io.BytesIO(text.encode() if isinstance(text, str) else text)
        file.name = "setup.json"
        return self.post("motion/import/", file=file)

    def test_export_comes_back_the_same(self):
        self.dial("drag", "12.5")
        self.post("motion/arm/amount/", frame=["0", "9"], value=["0.25", "1"])
        text = self.client.get(self.url("motion/setup.json")).content
        setup = self.fresh.setup
        self.post("motion/arm/change/", action="remove")
        self.assertEqual(self.bring(text).status_code, 200)
        self.assertEqual(self.fresh.setup, setup)

    def test_names_that_do_not_match_are_listed_and_nothing_changes(self):
        document = setup_document.to_document(self.fresh.setup)
        document["layers"][0]["chains"] = [{"root": "left wing"}, {"picked": ["upper", "right wing"]}]
        response = self.bring(json.dumps(document))
        self.assertContains(response, "left wing, right wing", status_code=422)
        self.assertEqual(self.fresh.current.label, "Brought in")

    def test_regions_of_another_character_are_listed(self):
        document = setup_document.to_document(
            edits.with_new_region(self.fresh.setup, "Wing", "feathers", 3, regions.encode(regions.nothing(3)))
        )
        self.assertContains(self.bring(json.dumps(document)), "Wing (on feathers)", status_code=422)

    def test_what_is_no_setup_is_refused(self):
        for text in ("", "[]", '{"format": "else"}', b"\xff\xfe\x00", "[" * 100_000):
            self.assertEqual(self.bring(text).status_code, 422, text[:20])
        self.assertContains(self.post("motion/import/"), "of at most 16 MB, got none", status_code=422)

    def test_the_schema_is_published(self):
        schema = json.loads(self.client.get("/setup.schema.json").content)
        self.assertEqual(schema["title"], "Keen Quiver setup")
        self.assertIn("wobble_rate", schema["$defs"]["ChainDials"]["properties"])


class SoftTest(DeskTest):
    """Volumes of what joints move, riding, mirroring, own presets."""

    def test_a_volume_of_what_joints_move(self):
        self.post("motion/add/", of="joints:", joints="hand, finger")
        layer = self.fresh.setup.layers[-1]
        region = self.fresh.setup.region(layer.region)
        self.assertEqual((layer.kind, region.mesh), ("volume", "strip"))
        self.assertTrue(regions.is_in(regions.decode(region.values, region.vertices)).any())
        for wrong in (
            {"of": "joints:", "joints": ""},
            {"of": "joints:", "joints": "nobody"},
            {"of": "tea:x"},
            {"of": "mesh:strip"},
            {"of": "mesh:strip", "kind": "chain"},
        ):
            self.assertEqual(self.post("motion/add/", **wrong).status_code, 422, wrong)

    def test_a_sheet_of_a_whole_mesh_and_its_presets(self):
        page = self.post("motion/add/", of="mesh:strip", kind="sheet")
        self.assertContains(page, "Bending length")
        layer = self.fresh.setup.layers[-1]
        self.assertEqual(layer.kind, "sheet")
        self.post(f"motion/{layer.id}/like/", like="preset:Silk scarf")
        self.assertEqual(self.fresh.setup.layers[-1].value("bending_length"), 12.0)

    def test_a_sheet_of_a_shape_placed_by_hand(self):
        self.post("motion/add/", of="mesh:strip", kind="sheet")
        layer = self.fresh.setup.layers[-1].id
        self.assertEqual(self.client.get(self.url(f"motion/{layer}/form/box")).json(), {"colliders": []})
        self.assertContains(self.post(f"motion/{layer}/form/", shape="dome"), "Drag its box")
        made = self.fresh.setup.layers[-1]
        self.assertEqual((made.form.shape, made.value("made_of")), ("dome", "form"))
        (box,) = self.client.get(self.url(f"motion/{layer}/form/box")).json()["colliders"]
        self.assertEqual(tuple(box["size"][:3]), made.form.size)

        def move(layer, body):
            url = self.url(f"motion/{layer}/form/move/")
            return self.client.post(url, json.dumps(body), content_type="application/json", HTTP_HX_REQUEST="true")

        sent = {"place": [1, 2, 3], "turn": [0, 0, 0.6, 0.8], "size": [0.5, 0.6, 0.7, 0]}
        self.assertEqual(move(layer, sent).status_code, 204)
        form = self.fresh.setup.layers[-1].form
        self.assertEqual((form.place, form.turn, form.size), ((1.0, 2.0, 3.0), (0.0, 0.0, 0.6, 0.8), (0.5, 0.6, 0.7)))
        for wrong in ({"size": [1]}, {"turn": [0, 0, 0, 0]}, {"place": "x"}, {"size": [1, -1, 1]}):
            self.assertContains(move(layer, sent | wrong), "xpected", status_code=422)
        self.assertContains(move("arm", sent), "nly a sheet", status_code=422)
        for name, words in (("cone", "one of dome"), ("own", "one of dome")):
            self.assertContains(self.post(f"motion/{layer}/form/", shape=name), words, status_code=422)
        mirrored = self.post(f"motion/{layer}/mirror/")
        self.assertEqual(mirrored.status_code, 200)
        self.assertEqual(self.fresh.setup.layers[-1].form.place, (-1.0, 2.0, 3.0))

    def test_a_sheet_of_an_own_mesh(self):
        self.post("motion/add/", of="mesh:strip", kind="sheet")
        layer = self.fresh.setup.layers[-1].id
        self.post(f"motion/{layer}/form/", file=SimpleUploadedFile("own.glb", glb_bytes(arm(("root",)))))
        form = self.fresh.setup.layers[-1].form
        self.assertEqual(form.shape, "own")
        self.assertGreater(len(form.mesh), 20)
        before = self.fresh.setup
        refused = self.post(f"motion/{layer}/form/", file=SimpleUploadedFile("own.glb", b"glTF but no more"))
        self.assertEqual(refused.status_code, 422)
        self.assertEqual(self.fresh.setup, before)

    def test_a_prop_hangs_on_a_joint_and_only_with_its_like(self):
        self.post("motion/arm/change/", action="remove")
        page = self.post("motion/add/", joints="hand", kind="prop")
        self.assertContains(page, "Swing limit")
        layer = self.fresh.setup.layers[-1]
        self.assertEqual((layer.kind, layer.chains[0].names), ("prop", ["hand", "hand"]))
        for fields, words in (({"kind": "kite"}, "kite"), ({"kind": "chain", "to_layer": layer.id}, "of the kind Chain")):
            self.assertContains(self.post("motion/add/", joints="upper", **fields), words, status_code=422)

    def test_facts_tell_of_other_cells_before_they_are_built(self):
        self.post("motion/add/", of="joints:", joints="hand")
        layer = self.fresh.setup.layers[-1].id
        versions = self.fresh.versions.count()
        counts = []
        for size in ("", "200", "60"):
            page = self.client.get(self.url(f"motion/{layer}/volume/"), {"value": size}).content.decode()
            counts.append(int(page.split(" tetrahedra")[0].rsplit(">", 1)[-1]))
        self.assertLess(counts[1], counts[2])
        self.assertEqual(self.fresh.versions.count(), versions)
        self.assertEqual(self.client.get(self.url(f"motion/{layer}/volume/"), {"value": "0.001"}).status_code, 422)

    def test_a_chain_hangs_on_a_volume_unless_that_is_a_circle(self):
        self.post("motion/add/", of="joints:", joints="root")
        volume = self.fresh.setup.layers[-1].id
        response = self.post("motion/arm/ride/", rides=volume)
        self.assertContains(response, "a circle", status_code=422)
        self.assertEqual(self.fresh.setup.layer("arm").rides, "")

    def test_what_has_no_other_side_is_not_mirrored(self):
        self.assertContains(self.post("motion/arm/mirror/"), "it lies in the middle", status_code=422)
        self.post("motion/add/", of="joints:", joints="hand")
        layer = self.fresh.setup.layers[-1]
        self.post(f"motion/{layer.id}/mirror/")
        copy = self.fresh.setup.layers[-1]
        self.assertEqual((copy.kind, copy.name), ("volume", f"{layer.name}, other side"))
        self.assertNotEqual(copy.region, layer.region)

    def test_own_presets_are_kept_taken_and_forgotten(self):
        self.dial("wobble_rate", "3.25")
        self.post("motion/arm/preset/", name="Like an eel")
        self.dial("wobble_rate", "9")
        preset = OwnPreset.objects.get()
        self.post("motion/arm/like/", like=f"own:{preset.pk}")
        self.assertEqual(self.fresh.setup.layer("arm").value("wobble_rate"), 3.25)
        self.post("motion/arm/preset/", name="Like an eel")
        self.assertEqual(OwnPreset.objects.count(), 1)
        self.assertEqual(self.post("motion/arm/preset/", name=" ").status_code, 422)
        self.post("motion/arm/preset/", forget=str(preset.pk))
        self.assertEqual(self.post("motion/arm/like/", like=f"own:{preset.pk}").status_code, 422)
        self.assertEqual(self.post("motion/arm/like/", like="tea:1").status_code, 422)


class BuildTest(RunningDeskTest):
    def setUp(self):
        super().setUp()
        self.post("motion/add/", of="joints:", joints="hand")
        self.layer = self.fresh.setup.layers[-1].id

    @skipUnless(HAS_PACKAGE, "the optional extra “conforming” is not installed")
    def test_an_open_strip_has_no_inside_and_the_card_says_so(self):
        self.post(f"motion/{self.layer}/build/", command="build")
        run_waiting_jobs()
        self.assertEqual(SolidBuild.objects.get().job.state, Job.State.FAILED)
        self.assertContains(self.client.get(self.url(f"motion/{self.layer}/build/now/")), "no inside was found")
        self.assertEqual(self.fresh.setup.layer(self.layer).built, "")

    def test_one_that_waits_can_be_stopped_and_a_chain_has_none(self):
        self.post(f"motion/{self.layer}/build/", command="build")
        self.post(f"motion/{self.layer}/build/", command="stop")
        self.assertEqual(SolidBuild.objects.get().job.state, Job.State.STOPPED)
        self.assertEqual(self.post("motion/arm/build/", command="build").status_code, 422)
        self.assertEqual(self.post(f"motion/{self.layer}/build/", command="paint").status_code, 422)
        self.assertEqual(self.client.get(self.url("motion/arm/volume/")).status_code, 422)


class PointsTest(DeskTest):
    def test_a_chain_hangs_on_picked_points_until_they_are_removed(self):
        for fields in ({"mesh": "arm", "vertices": ""}, {"mesh": "arm", "vertices": "999999"}, {"mesh": "none", "vertices": "1 2 3"}):
            self.assertContains(self.post("motion/arm/points/", **fields), "", status_code=422)
        mesh = self.fresh.facts["meshes"][0]["name"]
        self.assertContains(self.post("motion/arm/points/", mesh=mesh, vertices="0 1 2"), f"Points of {mesh}")
        (follower,) = self.fresh.setup.followers
        self.assertEqual((follower.vertices, self.fresh.setup.layer("arm").rides), ((0, 1, 2), f"follower:{follower.id}"))
        self.post("motion/arm/ride/", rides="")
        self.assertEqual(self.fresh.setup.layer("arm").rides, "")
        self.post("motion/arm/ride/", rides=f"follower:{follower.id}")
        self.post("motion/arm/points/", forget=follower.id)
        self.assertEqual((self.fresh.setup.followers, self.fresh.setup.layer("arm").rides), ((), ""))


class ProxyTest(DeskTest):
    def test_rows_are_made_failures_told_and_tuned_dials_kept(self):
        self.post("motion/add/", of="joints:", joints="hand")
        soft = self.fresh.setup.layers[-1]
        self.post(f"motion/{soft.id}/change/", action="remove")
        good = self.fresh.setup.regions[-1].id
        table = {"region": [good, "none"], "triangles": ["40", "50"], "like": ["Silk scarf", ""]}
        self.assertContains(self.post("motion/proxies/", **table), "tick its row", status_code=422)
        versions = self.fresh.versions.count()
        page = self.post("motion/proxies/", **table, on=[good, "none"])
        self.assertContains(page, "1 made.")
        self.assertContains(page, "there is no region “none”")
        self.assertEqual(self.fresh.versions.count(), versions + 1)
        layer = self.fresh.setup.layers[-1]
        self.assertEqual((layer.kind, layer.value("made_of"), layer.value("proxy_triangles")), ("sheet", "proxy", 40.0))
        self.post(f"motion/{layer.id}/dial/", dial="give", value="7")
        self.post("motion/proxies/", region=[good], triangles=["60"], like=["Felt blanket"], on=[good])
        again = self.fresh.setup.layers[-1]
        self.assertEqual((again.id, again.value("give"), again.value("proxy_triangles")), (layer.id, 7.0, 60.0))
        drawn = self.client.get(self.url(f"motion/{layer.id}/lattice"))
        self.assertGreater(int.from_bytes(drawn.content[8:12], "little"), 10)
