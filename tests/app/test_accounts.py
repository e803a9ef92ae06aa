"""Who is let in, and what they see: every address, as somebody else."""

import io
import os
import subprocess
import sys
import time
from unittest.mock import patch

from asgiref.sync import async_to_sync
from asgiref.testing import ApplicationCommunicator
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import CommandError, call_command
from django.test import Client, TestCase, TransactionTestCase, override_settings
from django.urls import get_resolver

from studio.accounts import attempts
from studio.bakes.models import Bake
from studio.characters.models import Character, Share
from studio.characters.rights import Right, right_at, right_on
from studio.characters.services import forget_loaded
from studio.config.asgi import application
from studio.motion.models import OwnPreset
from studio.takes import ringing, services, solving
from tests.app.helpers import arm_in_library, run_waiting_jobs
from tests.browser.server import ROOT
from tests.formats.makers import arm, glb_bytes

OUTSIDE = "192.0.2.7"
NOT_A_CHARACTERS = {"", "upload/", "results/", "setup.schema.json", "login/", "logout/", "password/"}
"""Addresses without a number in them."""


def person(name, password=None):
    """Somebody who may log in."""
    return get_user_model().objects.create_user(name, password=password)


def all_routes(patterns=None, prefix=""):
    """The route of every address of the app, such as "takes/<int:pk>/stop/"."""
    for each in get_resolver().url_patterns if patterns is None else patterns:
        route = prefix + str(each.pattern)
        yield from all_routes(each.url_patterns, route) if hasattr(each, "url_patterns") else [route]


class _House:
    """Wren owns a character with a take, a bake, a ring test and a search; Pike looks on."""

    def setUp(self):
        forget_loaded()
        cache.clear()
        self.wren, self.pike = person("wren"), person("pike")
        self.row = arm_in_library(clips=("wave", "run"))
        Character.objects.update(owner=self.wren)

    def as_(self, who):
        client = Client(REMOTE_ADDR=OUTSIDE)
        client.force_login(who)
        return client

    def share(self, who, may_edit=False):
        return Share.objects.create(character=self.row, person=who, may_edit=may_edit)


@override_settings(ACCOUNTS=True)
class EveryAddressTest(_House, TestCase):
    def setUp(self):
        super().setUp()
        self.row.refresh_from_db()
        self.take = services.start_take(self.row)
        run_waiting_jobs()
        self.as_(self.wren).post(
            f"/characters/{self.row.pk}/bake/start/", {"take": self.take.pk, "form": "glb", "first": 0, "last": 3, "step": 1, "name": "b"}
        )
        self.numbers = {
            "characters": self.row.pk,
            "takes": self.take.pk,
            "bakes": Bake.objects.get().pk,
            "rings": ringing.start_ring(self.row, "arm").pk,
            "sweeps": services.start_sweep(self.row, [("arm", "drag", 1.0, 5.0, 2)]).pk,
            "solves": solving.start_solve(self.row, "arm", ["settle_time"], {"moves": 20.0}).pk,
        }
        run_waiting_jobs()

    def addresses(self):
        """Every address that has a number in it, of Wren's things."""
        for route in sorted(set(all_routes())):
            if route in NOT_A_CHARACTERS:
                continue
            prefix = route.split("/", 1)[0]
            filled = route.replace("<int:pk>", str(self.numbers[prefix]))
            for name in ("<ids:layers>", "<slug:layer>", "<slug:collider>", "<slug:region>", "<slug:muscle>"):
                filled = filled.replace(name, "arm")
            self.assertNotIn("<", filled)
            yield "/" + filled

    def test_to_somebody_else_nothing_is_there_and_nothing_changes(self):
        before = Character.objects.values().get(), self.row.versions.count(), self.row.takes.count()
        client, count = self.as_(self.pike), 0
        for address in self.addresses():
            for ask in (client.get, client.post, client.head):
                self.assertEqual(ask(address).status_code, 404, address)
            count += 1
        self.assertGreater(count, 70)
        self.assertEqual(before, (Character.objects.values().get(), self.row.versions.count(), self.row.takes.count()))
        self.assertNotContains(client.get("/"), self.row.name)
        self.assertNotContains(client.get("/results/"), self.take.label)
        refused = client.post("/results/", {"action": "remove", "take": [self.take.pk], "bake": [self.numbers["bakes"]]})
        self.assertEqual((refused.status_code, Bake.objects.count()), (422, 1))

    def test_nobody_is_sent_to_log_in_and_parts_of_pages_too(self):
        client = Client(REMOTE_ADDR=OUTSIDE)
        for address in (*self.addresses(), "/", "/results/", "/upload/", "/setup.schema.json", "/password/"):
            for ask in (client.get, client.post):
                answer = ask(address)
                self.assertEqual((answer.status_code, answer.headers["Location"].split("?")[0]), (302, "/login/"), address)
        part = client.get(f"/characters/{self.row.pk}/motion/", HTTP_HX_REQUEST="true", HTTP_HX_CURRENT_URL="http://testserver/results/")
        self.assertEqual((part.status_code, part.headers["HX-Redirect"].split("?")[0]), (401, "/login/"))

    def test_who_may_look_gets_every_page_and_changes_nothing(self):
        self.share(self.pike)
        before = Character.objects.values().get(), self.row.versions.count(), self.row.takes.count()
        client = self.as_(self.pike)
        may_post = {f"/characters/{self.row.pk}/clip/"}
        for address in self.addresses():
            if address not in may_post:
                self.assertEqual(client.post(address).status_code, 403, address)
        for step in ("rig", "regions", "motion", "contacts", "takes", "bake"):
            page = client.get(f"/characters/{self.row.pk}/{step}/")
            self.assertContains(page, "data-reads-only")
        self.assertEqual(client.get(f"/characters/{self.row.pk}/sharing/").status_code, 403)
        self.assertContains(client.get("/"), self.row.name)
        self.assertNotContains(client.get("/"), f"/characters/{self.row.pk}/delete/")
        self.assertContains(client.get("/results/"), f'name="take" value="{self.take.pk}" disabled')
        self.assertNotContains(self.as_(self.wren).get("/results/"), "disabled")
        self.assertEqual(b"".join(client.get(f"/bakes/{self.numbers['bakes']}/download"))[:4], b"glTF")
        self.assertEqual(client.post("/results/", {"action": "remove", "take": [self.take.pk]}).status_code, 422)
        # The clip that they look at is theirs alone.
        client.post(f"/characters/{self.row.pk}/clip/", {"clip": "run"})
        self.assertEqual(client.get(f"/characters/{self.row.pk}/state.json").json()["clip"]["name"], "run")
        self.assertEqual(before, (Character.objects.values().get(), self.row.versions.count(), self.row.takes.count()))

    def test_who_may_edit_changes_it_but_neither_removes_nor_shares_it(self):
        self.share(self.pike, may_edit=True)
        client, base = self.as_(self.pike), f"/characters/{self.row.pk}"
        self.assertEqual(client.post(f"{base}/motion/arm/dial/", {"dial": "settle_time", "value": "2"}).status_code, 200)
        for tail in ("delete/", "restore/", "sharing/"):
            self.assertEqual(client.post(f"{base}/{tail}").status_code, 403, tail)
        self.assertEqual(client.post("/results/", {"action": "pin", "take": [self.take.pk]}).status_code, 302)

    def test_every_number_in_an_address_leads_to_a_character(self):
        for prefix, number in self.numbers.items():
            self.assertEqual(right_at(self.wren, f"{prefix}/<int:pk>/", number), Right.OWN, prefix)
            for none in (10**6, 10**30):
                self.assertEqual(right_at(self.wren, f"{prefix}/<int:pk>/", none), Right.NONE, prefix)
        self.assertEqual(right_at(self.wren, "unknown/<int:pk>/", self.row.pk), Right.NONE)


@override_settings(ACCOUNTS=True)
class OwnThingsTest(_House, TestCase):
    def test_what_one_brings_in_is_ones_own(self):
        client = self.as_(self.pike)
        client.post("/upload/", {"file": SimpleUploadedFile("their arm.glb", glb_bytes(arm()))})
        row = Character.objects.get(name="their arm")
        self.assertEqual((row.owner, right_on(self.wren, row.pk)), (self.pike, Right.NONE))
        self.assertNotContains(self.as_(self.wren).get("/"), "their arm")
        client.post(f"/characters/{row.pk}/delete/")
        self.assertNotContains(self.as_(self.wren).get("/"), "was removed")
        self.assertContains(client.get("/"), "was removed")
        self.assertEqual(self.as_(self.wren).post(f"/characters/{row.pk}/restore/").status_code, 404)

    def test_a_setup_travels_from_what_one_may_see_only(self):
        other = arm_in_library()
        Character.objects.filter(pk=other.pk).update(owner=self.pike)
        wren = self.as_(self.wren)
        tail = f"/characters/{self.row.pk}/motion/"
        self.assertEqual(wren.post(f"{tail}over/", {"other": other.pk}).status_code, 422)
        self.assertEqual(list(wren.get(tail).context["others"]), [])
        Share.objects.create(character=other, person=self.wren)
        self.assertEqual(wren.post(f"{tail}over/", {"other": other.pk}).status_code, 200)

    def test_presets_are_ones_own(self):
        self.share(self.pike, may_edit=True)
        self.as_(self.wren).post(f"/characters/{self.row.pk}/motion/arm/preset/", {"name": "lazy"})
        own = OwnPreset.objects.get()
        self.assertEqual(own.owner, self.wren)
        pike, tail = self.as_(self.pike), f"/characters/{self.row.pk}/motion/arm/"
        self.assertNotContains(pike.get(f"/characters/{self.row.pk}/motion/?layer=arm"), "own:")
        self.assertEqual(pike.post(f"{tail}like/", {"like": f"own:{own.pk}"}).status_code, 422)
        pike.post(f"{tail}preset/", {"forget": own.pk})
        self.assertTrue(OwnPreset.objects.exists())

    def test_what_belongs_to_nobody_is_nobodys_until_it_is_given(self):
        Character.objects.update(owner=None)
        self.assertEqual(self.as_(self.wren).get(f"/characters/{self.row.pk}/rig/").status_code, 404)
        said = io.StringIO()
        call_command("give_characters", "pike", stdout=said)
        self.assertEqual(Character.objects.get().owner, self.pike)
        call_command("give_characters", "wren", of="pike", stdout=said)
        self.assertEqual(Character.objects.get().owner, self.wren)
        with self.assertRaisesRegex(CommandError, "nobody named “heron”"):
            call_command("give_characters", "heron")

    def test_the_owner_shares_it_and_takes_it_back(self):
        wren, tail = self.as_(self.wren), f"/characters/{self.row.pk}/sharing/"
        for name, words in (("heron", "nobody named “heron”"), ("wren", "your own already")):
            self.assertContains(wren.post(tail, {"name": name, "may": "look"}), words, status_code=422)
        self.assertEqual(wren.post(tail, {"name": "pike", "may": "everything"}).status_code, 422)
        for may, right in (("look", Right.READ), ("edit", Right.EDIT), ("look", Right.READ), ("nothing", Right.NONE)):
            self.assertEqual(wren.post(tail, {"name": "pike", "may": may}).status_code, 302)
            self.assertEqual(right_on(self.pike, self.row.pk), right)
        self.assertContains(wren.get(tail), "Nobody else sees it yet")


@override_settings(ACCOUNTS=True, PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"])
class DoorTest(TestCase):
    def setUp(self):
        cache.clear()
        person("wren", "a long enough one")
        self.door = Client(REMOTE_ADDR=OUTSIDE)

    def login(self, name="wren", password="wrong", address=OUTSIDE):
        return self.door.post("/login/", {"username": name, "password": password, "next": "/results/"}, REMOTE_ADDR=address)

    def test_the_right_password_leads_where_one_wanted_to_go(self):
        self.assertContains(self.login(), "do not belong together")
        done = self.login(password="a long enough one")
        self.assertRedirects(done, "/results/")
        self.assertContains(self.door.get("/"), "Logged in as")
        self.door.post("/logout/")
        self.assertEqual(self.door.get("/").status_code, 302)
        for elsewhere in ("https://example.org/", "//example.org"):
            sent = {"username": "wren", "password": "a long enough one", "next": elsewhere}
            self.assertEqual(self.door.post("/login/", sent).headers["Location"], "/")

    def test_after_some_wrong_ones_the_right_one_is_not_looked_at(self):
        answers = [self.login().status_code for _ in range(attempts.MOST_BY_NAME + 1)]
        self.assertEqual(answers, [200] * attempts.MOST_BY_NAME + [429])
        self.assertEqual(self.login(password="a long enough one").status_code, 429)
        self.assertEqual(self.login(name="WREN").status_code, 429)
        # From elsewhere it is open, so nobody can be shut out of their own account.
        self.assertEqual(self.login(password="a long enough one", address="192.0.2.8").status_code, 302)
        with patch("django.core.cache.backends.locmem.time.time", return_value=time.time() + attempts.WINDOW_SECONDS + 1):
            self.assertEqual(self.login(password="a long enough one").status_code, 302)

    def test_one_address_cannot_try_many_names(self):
        for number in range(attempts.MOST_BY_ADDRESS):
            self.assertEqual(self.login(name=f"name {number}").status_code, 200)
        self.assertEqual(self.login(name="one more").status_code, 429)

    def test_an_address_of_a_network_is_that_network(self):
        for number in range(attempts.MOST_BY_NAME):
            self.login(address=f"2001:db8::{number + 1:x}")
        self.assertEqual(self.login(address="2001:db8::ffff").status_code, 429)
        self.assertEqual(self.login(address="2001:db8:0:1::1").status_code, 200)
        self.assertEqual(self.login(address="::ffff:192.0.2.9").status_code, 200)

    def test_right_ones_do_not_count(self):
        for _ in range(attempts.MOST_BY_ADDRESS + 5):
            self.assertEqual(self.login(password="a long enough one").status_code, 302)

    def test_somebody_is_added_with_a_password_that_is_none_of_the_common_ones(self):
        for name, password, words in (
            ("wren", "x", "already"),
            ("pike", "short", "too short"),
            ("pike", "password1", "too common"),
            ("a b", "x", "valid"),
        ):
            with self.assertRaisesRegex(CommandError, words), patch("sys.stdin", io.StringIO(password + "\n")):
                call_command("add_user", name)
        with patch("sys.stdin", io.StringIO("three reeds by the water\n")):
            call_command("add_user", "pike", stdout=io.StringIO())
        self.assertEqual(self.login("pike", "three reeds by the water").status_code, 302)

    def test_without_the_token_nobody_logs_in(self):
        strict = Client(REMOTE_ADDR=OUTSIDE, enforce_csrf_checks=True)
        self.assertEqual(strict.post("/login/", {"username": "wren", "password": "a long enough one"}).status_code, 403)


@override_settings(ACCOUNTS=True)
class SocketsTest(_House, TransactionTestCase):
    def opened(self, tail, client=None, then=None):
        """What a socket answers at once to the one who is logged in with a client; with ``then()``, how it goes on after that was done."""
        cookie = client.cookies["sessionid"].value if client else "none"
        headers = [(b"host", b"127.0.0.1"), (b"origin", b"http://127.0.0.1"), (b"cookie", f"sessionid={cookie}".encode())]
        path = f"/characters/{self.row.pk}/{tail}"
        scope = {"type": "websocket", "path": path, "headers": headers, "client": (OUTSIDE, 50000), "query_string": b"", "subprotocols": []}

        async def ask():
            socket = ApplicationCommunicator(application, scope)
            await socket.send_input({"type": "websocket.connect"})
            answer = await socket.receive_output(20)
            if then:
                await socket.receive_output(20)
                await then()
                while (answer := await socket.receive_output(20))["type"] == "websocket.send":
                    pass
            if answer["type"] != "websocket.close" or then:
                await socket.send_input({"type": "websocket.disconnect", "code": 1000})
                await socket.wait(20)
            return answer

        return async_to_sync(ask)()

    def test_they_open_for_those_who_may_look(self):
        closed = {"type": "websocket.close", "code": 4404}
        for tail in ("events", "poke"):
            self.assertEqual(self.opened(tail), closed, tail)
            self.assertEqual(self.opened(tail, self.as_(self.pike)), closed, tail)
        self.assertEqual(self.opened("events", self.as_(self.wren))["type"], "websocket.accept")
        self.share(self.pike)
        self.assertEqual(self.opened("events", self.as_(self.pike))["type"], "websocket.accept")

    def test_who_may_look_no_longer_or_logs_out_hears_no_more(self):
        share, looker, owner = self.share(self.pike), self.as_(self.pike), self.as_(self.wren)
        with patch("studio.accounts.sockets.LOOK_SECONDS", 0.05):
            for client, lose in ((looker, share.adelete), (owner, owner.session.aflush)):
                answer = self.opened("events", client, lose)
                self.assertEqual((answer["type"], answer["code"]), ("websocket.close", 4404))


class StartTest(TestCase):
    def settings_of(self, **environment):
        """Some settings, as a process of that environment has them, or what it says where it does not start."""
        names = ("ACCOUNTS", "SESSION_COOKIE_SECURE", "CSRF_COOKIE_SECURE", "ALLOWED_HOSTS")
        code = f"from studio.config import settings as s; print([getattr(s, name) for name in {names}])"
        clean = {name: value for name, value in os.environ.items() if name not in ("KEEN_LISTEN", "KEEN_PROXY", "KEEN_HOSTS")}
        done = subprocess.run([sys.executable, "-c", code], cwd=ROOT, env=clean | environment, capture_output=True, text=True)
        return done.stdout.strip() or done.stderr.strip()

    def test_there_are_accounts_as_soon_as_others_can_reach_it(self):
        own = "'127.0.0.1', 'localhost', '[::1]'"
        self.assertEqual(self.settings_of(), f"[False, False, False, [{own}, '127.0.0.1']]")
        self.assertEqual(self.settings_of(KEEN_LISTEN="::1")[:7], "[False,")
        self.assertEqual(self.settings_of(KEEN_LISTEN="0.0.0.0", KEEN_HOSTS="quiver.example")[:21], "[True, False, False, ")
        self.assertIn("'quiver.example'", self.settings_of(KEEN_LISTEN="::", KEEN_HOSTS="quiver.example"))
        self.assertEqual(self.settings_of(KEEN_PROXY="127.0.0.1")[:19], "[True, True, True, ")
        self.assertIn("expected an IP address", self.settings_of(KEEN_LISTEN="everywhere"))
