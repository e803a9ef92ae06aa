"""The real app on a free port, with its own data folder and its own worker."""

import contextlib
import copy
import http.cookiejar
import json
import os
import pathlib
import re
import resource
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.parse
import urllib.request
import uuid

from tests.formats.makers import arm, glb_bytes

ROOT = pathlib.Path(__file__).resolve().parent.parent.parent
PATIENCE = 90.0
"""Seconds to wait for anything: far more than it takes, so that a busy machine does not fail a test."""


class RunningApp:
    """A context manager: serves while it is open. ``with_demo`` brings Mudwick in first, or the demo characters that it names."""

    def __init__(self, with_demo=False):
        self.folder = pathlib.Path(tempfile.mkdtemp(prefix="keen-test-"))
        self.environment = os.environ | {"KEEN_DATA": str(self.folder)}
        self.with_demo = with_demo
        self.base = ""
        self._process = None
        self._jar = http.cookiejar.CookieJar()
        # The address is the loopback's: no proxy of the environment may come between.
        self._opener = urllib.request.build_opener(urllib.request.ProxyHandler({}), urllib.request.HTTPCookieProcessor(self._jar))

    def __enter__(self):
        self._manage("migrate", "-v", "0")
        if self.with_demo:
            self._manage("load_demo", *(self.with_demo if isinstance(self.with_demo, tuple) else ["Mudwick"]))
        self.base = f"http://127.0.0.1:{_free_port()}"
        self.serve()
        self.wait_for(self._answers)
        return self

    def __exit__(self, *error):
        self._process.terminate()
        self._process.wait(20)
        shutil.rmtree(self.folder, ignore_errors=True)

    def _manage(self, *words):
        subprocess.run(
            [sys.executable, "manage.py", *words], cwd=ROOT, env=self.environment, check=True, stdout=subprocess.DEVNULL, timeout=300
        )

    def _answers(self):
        try:
            return self.get("/")
        except OSError:
            return None

    def wait_for(self, condition, seconds=PATIENCE):
        """The first true value of ``condition()``; AssertionError when it takes too long."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            value = condition()
            if value:
                return value
            time.sleep(0.05)
        raise AssertionError(f"waited {seconds:g} s in vain")

    def get(self, path):
        with self._opener.open(self.base + path, timeout=60) as response:
            return response.read().decode("utf-8", "replace")

    def post(self, path, **fields):
        self._send(path, urllib.parse.urlencode(fields).encode(), "application/x-www-form-urlencoded")

    def post_for_status(self, path, **fields):
        """As `post` from a page that shows messages: (status, text)."""
        try:
            self._send(path, urllib.parse.urlencode(fields).encode(), "application/x-www-form-urlencoded", {"HX-Request": "true"})
        except urllib.error.HTTPError as error:
            return error.code, error.read().decode()
        return 200, ""

    def another_client(self):
        """The same app, asked by another browser."""
        other = copy.copy(self)
        other._jar = http.cookiejar.CookieJar()
        other._opener = urllib.request.build_opener(urllib.request.ProxyHandler({}), urllib.request.HTTPCookieProcessor(other._jar))
        return other

    def setup(self, character):
        """The character's setup, as a document."""
        return json.loads(self.get(f"/characters/{character}/motion/setup.json"))

    @property
    def worker(self):
        """The worker's process id, or None."""
        return next(
            (pid for pid, words in processes() if words[-2:] == ["manage.py", "work"] and parent_of(pid) == self._process.pid), None
        )

    def kill_worker(self):
        os.kill(self.wait_for(lambda: self.worker), signal.SIGKILL)

    def may_write(self, allowed, process=None):
        """Whether a process (the server's) may write files, as if its disk had room or none."""
        resource.prlimit(
            process or self._process.pid, resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY if allowed else 0, resource.RLIM_INFINITY)
        )

    def kill_server(self):
        """End the server as a crash would."""
        self._process.kill()
        self._process.wait()

    def serve(self):
        """Serve (again), on the same port and data."""
        port = self.base.rpartition(":")[2]
        self._process = subprocess.Popen(
            [sys.executable, "manage.py", "serve", "--port", port], cwd=ROOT, env=self.environment, stdout=subprocess.DEVNULL
        )

    def post_json(self, path, value):
        self._send(path, json.dumps(value).encode(), "application/json")

    def upload(self, data, name):
        """Bring a file in; returns the character's number."""
        edge = uuid.uuid4().hex
        head = f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\nContent-Type: model/gltf-binary\r\n\r\n'
        url = self._send("/upload/", head.encode() + data + f"\r\n--{edge}--\r\n".encode(), f"multipart/form-data; boundary={edge}")
        return int(re.search(r"/characters/(\d+)/", url)[1])

    def _send(self, path, body, content_type, extra=None):
        if not any(cookie.name == "csrftoken" for cookie in self._jar):
            self.get("/")
        token = next(cookie.value for cookie in self._jar if cookie.name == "csrftoken")
        headers = {"Content-Type": content_type, "X-CSRFToken": token, "Referer": self.base} | (extra or {})
        with self._opener.open(urllib.request.Request(self.base + path, body, headers), timeout=60) as response:
            response.read()
            return response.url

    def query(self, sql):
        """The first value of the first row of the app's own database, or None."""
        rows = self.rows(sql)
        return rows[0][0] if rows else None

    def rows(self, sql):
        """All rows of the app's own database that a query finds."""
        connection = sqlite3.connect(f"file:{self.folder / 'quiver.sqlite3'}?mode=ro", uri=True, timeout=20)
        try:
            return connection.execute(sql).fetchall()
        finally:
            connection.close()

    @property
    def mudwick(self):
        """Mudwick's number."""
        return self.demo("Mudwick")

    def demo(self, name):
        """The number of a demo character."""
        return self.query(f"SELECT id FROM characters_character WHERE is_demo AND name = '{name}'")

    def bring_in_long_arm(self):
        """A character whose clip lasts long enough to be interrupted; a chain is on it, and nothing runs yet."""
        character = self.upload(glb_bytes(arm(seconds=600.0)), "long arm.glb")
        self.post(f"/characters/{character}/motion/follow/")
        self.post(f"/characters/{character}/motion/add/", joints="upper")
        return character


def processes():
    """(process id, words of its command) of all processes."""
    for folder in pathlib.Path("/proc").iterdir():
        if folder.name.isdigit():
            with contextlib.suppress(OSError):
                yield int(folder.name), [word.decode() for word in (folder / "cmdline").read_bytes().split(b"\0") if word]


def parent_of(pid):
    """The process that started another, or None where it is gone."""
    with contextlib.suppress(OSError):
        return int((pathlib.Path("/proc") / str(pid) / "stat").read_text().rpartition(")")[2].split()[1])
    return None


def _free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]
