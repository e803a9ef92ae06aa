"""The Regions step: regions are made, painted, changed and used by volumes; every stroke is one version."""

import base64
import json
import re
import tempfile
from unittest import mock, skipUnless

import numpy as np

from quiver.formats import usd
from quiver.formats.frames import read_messages
from quiver.formats.gltf.reading import read_character
from quiver.formats.pointcache import read_mdd, read_pc2
from quiver.mesh import regions
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions
from studio.takes import services
from studio.takes.models import Take
from tests.app.helpers import DeskTest, RunningDeskTest, body_of, run_waiting_jobs
from tests.formats.validator import issues_of

STROKE = {"dabs": [[0.0, 0.75, 0.0]], "radius": 0.4, "strength": 1.0, "falloff": "soft", "mode": "add"}


class RegionDeskTest(DeskTest):
    def setUp(self):
        super().setUp()
        self.post("regions/add/", name="Flesh", mesh="strip")

    def paint(self, **changes):
        body = json.dumps(STROKE | changes)
        return self.client.post(self.url("regions/flesh/paint/"), body, content_type="application/json", HTTP_HX_REQUEST="true")

    @property
    def levels(self):
        region = self.fresh.setup.region("flesh")
        return regions.decode(region.values, region.vertices)

    def test_a_new_region_is_empty_and_can_come_from_a_joint(self):
        self.assertFalse(regions.is_in(self.levels).any())
        self.post("regions/add/", name="Hand", mesh="strip", joint="hand")
        hand = self.fresh.setup.region("hand")
        self.assertGreater(regions.is_in(regions.decode(hand.values, hand.vertices)).sum(), 4)
        for fields, words in (({"mesh": "nothing"}, "one of the meshes"), ({"mesh": "strip", "joint": "wing"}, "wing")):
            self.assertContains(self.post("regions/add/", name="x", **fields), words, status_code=422)

    def test_a_stroke_is_one_version_and_the_answer_is_what_stays(self):
        before = self.fresh.versions.count()
        response = self.paint()
        self.assertEqual(self.fresh.versions.count(), before + 1)
        np.testing.assert_array_equal(np.frombuffer(response.content, np.uint8), self.levels)
        self.assertGreater(regions.is_in(self.levels).sum(), 4)
        self.assertEqual(self.client.get(self.url("regions/flesh/levels")).content, response.content)
        self.assertContains(self.client.get(self.url("regions/flesh/facts/")), "vertices in")
        self.post("motion/undo/")
        self.assertFalse(regions.is_in(self.levels).any())

    def test_paint_keeps_to_what_was_seen_and_to_both_sides(self):
        seen = np.zeros(40, bool)
        seen[::2] = True
        self.paint(seen=base64.b64encode(np.packbits(seen, bitorder="little")).decode())
        self.assertTrue(regions.is_in(self.levels)[0::2].any())
        self.assertFalse(regions.is_in(self.levels)[1::2].any())
        self.paint(dabs=[[0.2, 0.75, 0.0]], radius=0.3, mirrored=True)
        self.assertGreater(regions.is_in(self.levels)[1::2].sum(), 1)

    def test_bad_strokes_are_refused_and_nothing_changes(self):
        before = self.fresh.current_id
        for changes in (
            *({"dabs": []}, {"dabs": [[0, 0]]}, {"dabs": "x"}, {"radius": -1}, {"mode": "melt"}),
            *(
                {"strength": None},
                {"seen": "A"},
                {"command": "gradient", "points": [[0, 0, 0]]},
                {"command": "melt", "points": []},
                {"command": "flood", "points": [["a", 0, 0]]},
            ),
        ):
            self.assertEqual(self.paint(**changes).status_code, 422, changes)
        url = self.url("regions/flesh/paint/")
        for body in ("{", "[]", ""):
            self.assertEqual(self.client.post(url, body, content_type="application/json").status_code, 422)
        self.assertEqual(self.fresh.current_id, before)

    def test_clicked_places_and_whole_commands(self):
        self.paint(command="gradient", points=[[0, 0, 0], [0, 1.5, 0]])
        self.assertEqual((self.levels.min(), self.levels.max()), (0, 254))
        self.post("regions/flesh/change/", command="clear")
        self.paint(command="around", points=[[0, 0.75, 0]], radius=0.4)
        few = regions.is_in(self.levels).sum()
        self.post("regions/flesh/change/", command="grow")
        self.assertGreater(regions.is_in(self.levels).sum(), few)
        self.paint(command="flood", points=[[0, 0, 0]])
        self.assertTrue((self.levels == regions.IN_FULL).all())
        self.post("regions/flesh/change/", command="rename", name="Soft")
        self.assertEqual(self.fresh.setup.region("flesh").name, "Soft")
        self.assertEqual(self.post("regions/flesh/change/", command="melt").status_code, 422)

    def test_two_regions_tell_where_they_overlap_and_are_joined(self):
        self.post("regions/add/", name="Hand", mesh="strip", joint="hand")
        self.post("regions/flesh/change/", command="fill")
        self.assertContains(self.client.get(self.url("regions/?region=flesh")), "are in “Hand” too")
        self.post("regions/flesh/change/", command="difference", other="hand")
        self.assertLess(self.levels.min(), regions.IN_FULL)
        self.post("regions/flesh/change/", command="union", other="hand")
        self.assertGreater(self.levels.min(), 0)

    def test_a_region_that_a_layer_is_made_of_stays(self):
        self.assertContains(self.post("motion/add/", of="region:flesh"), "is empty", status_code=422)
        self.post("regions/flesh/change/", command="fill")
        self.post("motion/add/", of="region:flesh")
        self.assertEqual(self.fresh.setup.layers[-1].kind, "volume")
        self.assertContains(self.post("regions/flesh/change/", command="remove"), "remove the layer first", status_code=422)
        self.assertEqual(self.post("motion/add/", of="region:none").status_code, 422)

    def test_a_renamed_region_is_renamed_in_every_text(self):
        self.post("regions/flesh/change/", command="fill")
        self.post("motion/add/", of="region:flesh")
        self.post(f"motion/{self.fresh.setup.layers[-1].id}/change/", action="rename", value="Wobble")
        self.post("regions/flesh/change/", command="rename", name="Soft side")
        self.assertContains(self.post("regions/flesh/change/", command="remove"), "Soft side", status_code=422)
        self.paint(mode="subtract")
        layer = self.fresh.setup.layers[-1].id
        for page in (f"motion/?layer={layer}", "motion/new/", "contacts/", "regions/?region=flesh"):
            words = re.sub(r"<[^>]*>", " ", self.client.get(self.url(page)).content.decode())
            self.assertIn("Soft side", words, page)
            self.assertNotRegex(words, r"\b[Ff]lesh\b", page)

    def test_only_paint_that_a_layer_feels_makes_a_take_stale(self):
        take = services.start_take(self.fresh)
        self.paint()
        self.assertFalse(services.is_stale(self.fresh, take))
        self.post("motion/add/", of="region:flesh")
        take = Take.objects.first()
        self.paint()
        self.assertTrue(services.is_stale(self.fresh, take))


class VolumeTakeTest(RunningDeskTest):
    def soft_take(self):
        self.post("regions/add/", name="Flesh", mesh="strip")
        self.post("regions/flesh/change/", command="fill")
        self.post("motion/add/", of="region:flesh")
        run_waiting_jobs()
        return Take.objects.first()

    def bake(self, take, **fields):
        self.post("bake/start/", **{"take": take.pk, "name": "soft", "first": "0", "last": "36", "step": "1"} | fields)
        run_waiting_jobs()
        made = take.bakes.first()
        self.assertEqual(made.job.state, "finished", made.job.message)
        return made, body_of(self.client.get(f"/bakes/{made.pk}/download"))

    def test_baked_shapes_and_point_caches_agree(self):
        take = self.soft_take()
        made, data = self.bake(take, form="glb", shape_limit="0.2")
        issues = issues_of(data)
        self.assertEqual(issues["numErrors"], 0, issues["messages"])
        self.assertGreater(made.report["shapes"], 1)
        self.assertLessEqual(made.report["shape_error_mm"], 0.2)
        _, pc2 = self.bake(take, form="pc2", mesh="0")
        start, _, cached = read_pc2(pc2)
        self.assertEqual((start, cached.shape), (0.0, (37, 40, 3)))
        _, mdd = self.bake(take, form="mdd", mesh="0")
        np.testing.assert_array_equal(read_mdd(mdd)[1], cached)
        character, _ = read_character(data, "soft")
        keyed = character.clip("soft").sample(character.skeleton, np.arange(37) / 24.0)
        plain = np.array([skinned_positions(character.meshes[0], world) for world in world_matrices(character.skeleton, keyed)])
        added = np.concatenate([services.unpack_offsets(take, chunk) * chunk.offset_step for chunk in take.chunks.all()])
        np.testing.assert_allclose(cached, plain + added, atol=1e-5)

    def test_flesh_alone_without_any_chain_is_simulated_streamed_and_baked(self):
        self.post("motion/arm/change/", action="remove")
        take = self.soft_take()
        self.assertEqual((take.job.state, take.rotated, take.layer_ids), ("finished", [], ["flesh"]))
        messages = read_messages(self.frames(take))
        self.assertGreater(len(messages), 2)
        for form in ("glb", "pc2"):
            self.bake(take, form=form)

    def test_the_lattice_of_a_volume_is_there_to_be_seen(self):
        self.soft_take()
        data = self.client.get(self.url("motion/flesh/lattice")).content
        nodes, edges, tets, _ = np.frombuffer(data, "<u4", 4)
        self.assertTrue(nodes > 8 and edges > 20 and tets > 12, (nodes, edges, tets))
        self.assertEqual(self.client.get(self.url("motion/arm/lattice")).status_code, 422)

    @skipUnless(usd.is_there(), "usd-core is not installed")
    def test_usd_holds_the_same_points_as_the_point_cache(self):
        from pxr import Usd, UsdGeom  # noqa: PLC0415  (an optional extra)

        take = self.soft_take()
        *_, cached = read_pc2(self.bake(take, form="pc2", mesh="0")[1])
        # Every third frame says so, and a last one that does not fit is left out.
        start, step, thirds = read_pc2(self.bake(take, form="pc2", mesh="0", first="1", step="3")[1])
        self.assertEqual((start, step), (1, 3))
        np.testing.assert_array_equal(thirds, cached[1::3])
        _, data = self.bake(take, form="usdc")
        with tempfile.NamedTemporaryFile(suffix=".usdc") as file:
            file.write(data)
            file.flush()
            stage = Usd.Stage.Open(file.name)
            mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/arm/Meshes/strip"))
            for frame in (0, 20, 36):
                np.testing.assert_array_equal(np.array(mesh.GetPointsAttr().Get(Usd.TimeCode(float(frame)))), cached[frame])

    def test_a_ring_test_shows_its_curve_or_says_why_not(self):
        self.soft_take()
        self.post("ring/flesh/")
        self.assertContains(self.client.get("/rings/1/"), "Ringing")
        run_waiting_jobs()
        card = self.client.get("/rings/1/").content.decode()
        self.assertIn('class="ring-curve"', card)
        self.assertIn("Within 5 % of the dial", card)
        self.dial("hold_offset", "-1", layer="flesh")
        self.post("ring/flesh/")
        run_waiting_jobs()
        self.assertContains(self.client.get("/rings/2/"), "held everywhere")

    def test_offsets_stream_within_the_bound(self):
        kept = []
        plain = services.frames.quantised

        def remembering(offsets, step):
            kept.append(offsets)
            return plain(offsets, step)

        with mock.patch("studio.takes.services.frames.quantised", remembering):
            take = self.soft_take()
        self.assertEqual(take.job.state, "finished", take.job.message)
        header, chunks, _ = read_messages(self.frames(take))
        self.assertEqual(header["moved"], [{"mesh": 0, "vertices": list(range(40)), "name": ""}])
        streamed, computed = np.concatenate([chunk[4] for chunk in chunks]), np.concatenate(kept)
        self.assertGreater(np.abs(computed).max(), 0.005)
        lengths = {key: len(values) for key, values in take.measures["flesh"].items() if key != "cost"}
        self.assertEqual(lengths, dict.fromkeys(("volume", "stretch", "keyed_volume", "keyed_stretch"), 37))
        self.assertIn("(keyed ", self.heard()["score"])
        self.assertLess(np.abs(streamed - computed).max(), 0.51e-4)


class FinalSkinDeskTest(DeskTest):
    def test_it_is_made_once_for_a_mesh_and_painted_like_a_region(self):
        self.post("regions/final/", mesh="strip")
        region = self.fresh.setup.final_skin("strip")
        self.assertTrue((regions.decode(region.values, region.vertices) == regions.IN_FULL).all())
        self.assertEqual(self.post("regions/final/", mesh="strip").status_code, 422)
        takes = Take.objects.count()
        self.post(f"regions/{region.id}/change/", command="clear")
        self.assertEqual(Take.objects.count(), takes + 1)
        self.assertNotContains(self.client.get(self.url("motion/")), f"region:{region.id}")
        self.post(f"regions/{region.id}/change/", command="remove")
        self.assertIsNone(self.fresh.setup.final_skin("strip"))
