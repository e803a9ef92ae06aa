"""Who is served, what stands at the door, and a file on its way in whose sender goes away."""

import errno
import io
import os
import subprocess
import sys
import tempfile
from unittest.mock import patch

from asgiref.sync import async_to_sync
from asgiref.testing import ApplicationCommunicator
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import CommandError, call_command
from django.test import TestCase, TransactionTestCase

from studio.characters.intake import Intake
from studio.characters.models import Character
from studio.config.asgi import application
from tests.app.helpers import DeskTest, arm_in_library
from tests.browser.server import ROOT
from tests.formats.makers import arm, glb_bytes


class LoopbackTest(TestCase):
    def test_another_machine_is_refused_whatever_it_says_of_itself(self):
        self.assertEqual(self.client.get("/").status_code, 200)
        for address in ("192.0.2.7", "::ffff:192.0.2.7", "", "127.0.0.1.example"):
            response = self.client.get("/", REMOTE_ADDR=address, HTTP_X_FORWARDED_FOR="127.0.0.1")
            self.assertEqual(response.status_code, 403, address)
            self.assertIn("without accounts", response.content.decode())

    def test_runserver_serves_the_loopback_alone(self):
        for address in ("0.0.0.0:8999", "[::]:8999"):
            with self.assertRaisesRegex(CommandError, "without accounts"):
                call_command(
                    "runserver", address, "--noreload", "--skip-checks", *(["--ipv6"] if "[" in address else []), stdout=io.StringIO()
                )

    def test_a_port_that_is_none_is_named(self):
        for port in (0, -1, 99999):
            with self.assertRaisesRegex(CommandError, f"expected a port from 1 to 65535, got {port}"):
                call_command("serve", port=port)

    def test_a_data_folder_that_is_none_is_named_without_a_traceback(self):
        with tempfile.NamedTemporaryFile() as file:
            done = subprocess.run(
                [sys.executable, "manage.py", "check"], cwd=ROOT, env=os.environ | {"KEEN_DATA": file.name}, capture_output=True, text=True
            )
        self.assertNotEqual(done.returncode, 0)
        self.assertIn("needs a folder that it can write to", done.stderr)
        self.assertNotIn("Traceback", done.stderr)


class SocketTest(TransactionTestCase):
    def opened(self, path, origin, client="127.0.0.1"):
        """Whether a socket opens, and the code that it was closed with."""

        async def ask():
            headers = [(b"host", b"127.0.0.1:8040"), *([(b"origin", origin.encode())] if origin else [])]
            scope = {
                "type": "websocket",
                "path": path,
                "headers": headers,
                "client": (client, 50000),
                "query_string": b"",
                "subprotocols": [],
            }
            socket = ApplicationCommunicator(application, scope)
            await socket.send_input({"type": "websocket.connect"})
            answer = await socket.receive_output(5)
            if answer["type"] == "websocket.close":
                return False, answer["code"]
            await socket.send_input({"type": "websocket.disconnect", "code": 1000})
            await socket.wait(5)
            return True, None

        return async_to_sync(ask)()

    def test_a_page_of_ours_is_let_in_and_no_other(self):
        path = f"/characters/{arm_in_library().pk}/events"
        self.assertTrue(self.opened(path, "http://127.0.0.1:8040")[0])
        for origin in ("http://127.0.0.1:9000", "http://example.org", "http://example.org:8040", "null", ""):
            self.assertEqual(self.opened(path, origin), (False, 4403), origin)
        self.assertEqual(self.opened(path, "http://127.0.0.1:8040", "192.0.2.7"), (False, 4403))

    def test_a_socket_of_no_address_is_closed(self):
        self.assertEqual(self.opened("/nothing/here", "http://127.0.0.1:8040"), (False, 4404))


class IntakeTest(TransactionTestCase):
    def test_when_the_sender_goes_its_process_ends_and_the_next_file_is_read(self):
        file = SimpleUploadedFile("arm.glb", glb_bytes(arm()))
        gone = Intake(file)
        steps = gone.steps()
        self.assertEqual([next(steps), next(steps)], ["reading", "reading"])
        # It is at work; a second file waits for its turn.
        waiting = Intake(SimpleUploadedFile("arm.glb", glb_bytes(arm())))
        others = waiting.steps()
        self.assertEqual(next(others), "waiting")
        steps.close()
        self.assertIsNotNone(gone._process.poll())
        for _ in others:
            pass
        self.assertEqual([row.name for row in Character.objects.all()], [waiting.row.name])

    def test_reading_that_takes_too_long_is_stopped_and_nothing_is_kept(self):
        with patch("studio.characters.intake.LONGEST_SECONDS", 0.0):
            response = self.client.post("/upload/", {"file": SimpleUploadedFile("arm.glb", glb_bytes(arm()))}, HTTP_HX_REQUEST="true")
            said = b"".join(response) if response.streaming else response.content
        self.assertIn("was stopped", said.decode())
        self.assertFalse(Character.objects.exists())


class NumbersTest(DeskTest):
    def test_numbers_that_are_none_are_no_server_errors(self):
        huge = "9" * 5000
        for number in ("²", "٣", "9" * 22, huge, "-1", "1.5", ""):
            state = self.client.get(self.url("state.json"), {"take": number}, headers={"X-Setup-Version": number})
            self.assertEqual((state.status_code, state.json()["take"]), (200, None), number[:30])
            removed = self.post("motion/arm/remove-chain/", index=number)
            self.assertEqual(removed.status_code, 422, number[:30])
            self.assertEqual(self.post("bake/start/", take=number).status_code, 422, number[:30])


class DiskFullTest(DeskTest):
    def test_files_that_find_no_room_are_named_too(self):
        full = OSError(errno.ENOSPC, "No space left on device")
        with patch("studio.characters.intake.tempfile.NamedTemporaryFile", side_effect=full), self.assertLogs("studio.config.errors"):
            response = self.client.post("/upload/", {"file": SimpleUploadedFile("arm.glb", b"x")}, headers={"HX-Request": "true"})
        self.assertContains(response, "The disk is full", status_code=507)
