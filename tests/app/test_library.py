"""Bringing characters in, and what the pages are made of."""

import base64
import json

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, TestCase, override_settings

from quiver.formats.frames import read_messages
from studio.characters.models import Character
from studio.steps import STEPS
from tests.app.helpers import DeskTest
from tests.formats.makers import arm, glb_bytes


class UploadTest(TestCase):
    def upload(self, data, name="arm.glb"):
        return self.client.post("/upload/", {"file": SimpleUploadedFile(name, data)})

    def test_a_good_file_opens_on_the_rig_step_and_comes_back_byte_for_byte(self):
        data = glb_bytes(arm())
        response = self.upload(data)
        row = Character.objects.get()
        self.assertRedirects(response, f"/characters/{row.pk}/rig/")
        self.assertEqual(self.client.get(f"/characters/{row.pk}/source").content, data)
        library = self.client.get("/").content.decode()
        self.assertIn("4 joints", library)
        self.assertIn("wave", library)

    def test_a_text_gltf_with_embedded_data_comes_in(self):
        document = arm()
        blob = document.binary_blob()
        plain = json.loads(document.gltf_to_json())
        plain["buffers"] = [{"byteLength": len(blob), "uri": "data:application/octet-stream;base64," + base64.b64encode(blob).decode()}]
        self.assertEqual(self.upload(json.dumps(plain).encode(), "arm.gltf").status_code, 302)
        self.assertEqual(Character.objects.get().facts["joints"], 4)

    def test_all_findings_are_listed_and_warnings_do_not_stop_it(self):
        self.upload(glb_bytes(arm(weights_sum=0.2)))
        page = self.client.get(f"/characters/{Character.objects.get().pk}/rig/").content.decode()
        self.assertIn("is-warning", page)
        self.assertIn("add up to 0.20", page)

    def test_a_broken_file_is_refused_with_its_findings_and_nothing_is_kept(self):
        good = glb_bytes(arm())
        for data, words in ((good[: len(good) // 2], "bytes"), (b"not a model at all", "glTF"), (b"", "")):
            response = self.upload(data)
            self.assertEqual(response.status_code, 422)
            self.assertContains(response, "was not brought in", status_code=422)
            self.assertIn(words, response.content.decode())
        self.assertEqual(Character.objects.count(), 0)

    def test_no_file_and_a_file_that_is_too_big(self):
        self.assertContains(self.client.post("/upload/"), "o file was chosen", status_code=422)
        with override_settings(LARGEST_UPLOAD=1000):
            self.assertContains(self.upload(glb_bytes(arm())), "at most", status_code=422)

    def test_a_file_name_is_only_a_name(self):
        self.upload(glb_bytes(arm()), "..\\..\\etc/pass<b>wd.glb")
        self.assertNotIn("/", Character.objects.get().file_name)
        self.assertNotContains(self.client.get("/"), "pass<b>wd")


class PagesTest(DeskTest):
    def test_every_step_is_a_whole_page_and_a_fragment(self):
        for step in STEPS:
            page = self.client.get(self.url(f"{step.slug}/"))
            self.assertContains(page, 'id="stage"')
            fragment = self.client.get(self.url(f"{step.slug}/"), HTTP_HX_REQUEST="true")
            self.assertNotContains(fragment, 'id="stage"')
            self.assertContains(fragment, "<h1")

    def test_pages_run_only_their_own_code(self):
        response = self.client.get(self.url("motion/"))
        policy = response.headers["Content-Security-Policy"]
        self.assertIn("script-src 'self'", policy)
        self.assertNotIn("unsafe", policy)
        page = response.content.decode()
        self.assertNotIn("<style", page)
        self.assertNotIn("style=", page)
        self.assertNotRegex(page, r"<script(?![^>]*src=)")
        self.assertNotRegex(page, r"\son[a-z]+=")

    def test_posts_need_the_token(self):
        strict = Client(enforce_csrf_checks=True)
        self.assertEqual(strict.post(self.url("motion/undo/")).status_code, 403)

    def test_other_hosts_are_not_answered(self):
        self.assertEqual(self.client.get("/", HTTP_HOST="example.org").status_code, 400)

    def test_the_clip_can_be_changed_to_one_of_this_character_only(self):
        self.row.facts["clips"].append(self.row.facts["clips"][0] | {"name": "other"})
        self.row.save()
        self.assertEqual(self.client.post(self.url("clip/"), {"clip": "other", "back": "takes"}).url, self.url("takes/"))
        self.assertEqual(self.fresh.active_clip, "other")
        self.assertEqual(self.client.post(self.url("clip/"), {"clip": "none of ours"}).status_code, 422)
        self.assertEqual(self.fresh.active_clip, "other")

    def test_clip_frames_have_every_frame(self):
        body = self.client.get(self.url("clip-frames?clip=wave")).content
        header, chunks, end = read_messages(body)
        self.assertEqual((header["frames"], header["rotated"]), (37, [1, 2, 3, 4]))
        self.assertEqual(sum(len(rotations) for _, rotations, *_ in chunks), 37)
        self.assertEqual(end["state"], "finished")

    def test_removing_is_undone(self):
        self.client.post(self.url("delete/"))
        self.assertContains(self.client.get("/"), f"/characters/{self.row.pk}/restore/")
        self.client.post(self.url("restore/"))
        self.assertEqual(self.client.get(self.url("motion/")).status_code, 200)
        self.assertEqual(self.client.post("/characters/999/restore/").status_code, 422)

    def test_removing_leaves_nothing(self):
        self.post("takes/run/")
        self.client.post(self.url("delete/"))
        self.assertEqual(Character.objects.count(), 0)
        self.assertEqual(self.client.get(self.url("motion/")).status_code, 404)
