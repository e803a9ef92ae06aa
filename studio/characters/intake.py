"""Reading what is brought in: one file after another, in a process of its own that is bound in memory and time and ends with its client."""

import base64
import contextlib
import json
import subprocess
import sys
import tempfile
import threading
import time

from django.conf import settings

from quiver.errors import BadFormat, BadInput, Finding
from studio.characters import services

LOOK_SECONDS = 0.1
LONGEST_SECONDS = 180.0
PART_BYTES = 2**20
_turn = threading.Lock()


class Intake:
    """One file on its way in. `steps` yields where it is, again and again; then ``row`` is there. Closing it ends the process.

    Raises BadFormat with all findings, or BadInput; then nothing is kept.
    """

    def __init__(self, file, owner=None):
        if file is None:
            raise BadInput("no file was chosen: choose a GLB or glTF file")
        if file.size > settings.LARGEST_UPLOAD:
            raise BadInput(f"the file has {file.size / 2**20:.0f} MB; at most {settings.LARGEST_UPLOAD >> 20} MB can be read")
        self.name, self.size, self.owner, self.row = file.name, file.size, owner, None
        # The request's own file goes when the request does.
        self._copy = tempfile.NamedTemporaryFile(dir=settings.DATA_DIR, prefix="incoming-")  # noqa: SIM115 - closed in `close`
        for part in file.chunks(PART_BYTES):
            self._copy.write(part)
        self._copy.flush()
        self._process = None

    def steps(self):
        """Yield "waiting" while other files are read, then "reading"; at the end the character is kept."""
        with contextlib.ExitStack() as stack:
            stack.callback(self.close)
            while not _turn.acquire(timeout=LOOK_SECONDS):
                yield "waiting"
            stack.callback(_turn.release)
            yield "reading"
            said = yield from self._read()
        if said is None:
            raise BadInput(f"reading took more than {LONGEST_SECONDS:.0f} s or too much memory, and was stopped")

    def _read(self):
        """Run the process; keeps what it says of the file. Returns None where it said nothing."""
        command = [sys.executable, "-m", "quiver", "intake", self._copy.name, "--name", services.plain_name(self.name)]
        with tempfile.TemporaryFile(dir=settings.DATA_DIR) as out:
            self._process = subprocess.Popen(command, stdout=out, cwd=settings.BASE_DIR, stdin=subprocess.DEVNULL)
            end = time.monotonic() + LONGEST_SECONDS
            while self._process.poll() is None and time.monotonic() < end:
                time.sleep(LOOK_SECONDS)
                yield "reading"
            self.end()
            out.seek(0)
            try:
                said = json.loads(out.read())
            except ValueError:
                return None
        if "refused" in said:
            raise BadFormat(said["refused"], [Finding(**finding) for finding in said["findings"]])
        said["picture"] = base64.b64decode(said["picture"])
        self._copy.seek(0)
        parts = iter(lambda: self._copy.read(PART_BYTES), b"")
        self.row = services.keep(self.name, said, parts, self.size, owner=self.owner)
        return said

    def end(self):
        """End the process, however far it is."""
        if self._process and self._process.poll() is None:
            self._process.kill()
        if self._process:
            self._process.wait()

    def close(self):
        """Nothing of it is left."""
        self.end()
        self._copy.close()


def bring_in(file, owner=None):
    """Read an uploaded file and keep it as a new Character of an owner. Raises BadFormat, BadInput."""
    intake = Intake(file, owner)
    for _ in intake.steps():
        pass
    return intake.row
