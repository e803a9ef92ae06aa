"""Poke a character live: wishes of the hand go in, frames come out, a little ahead of what the stage has shown."""

import json
import queue
import struct
import threading
import time

import numpy as np

from quiver.errors import BadInput, QuiverError
from quiver.formats import frames
from quiver.poke import Poke
from studio.characters.models import Character
from studio.characters.services import loaded

AHEAD = 2
"""Frames that may be under way to the stage; what it has not shown yet is not added to."""
PATIENCE = 0.2
"""How long to wait for the stage before looking again whether it is still there [s]."""


def play(pk, begin, wishes, send):
    """Poke until the hand goes away. ``begin`` has the "clip" and the "frame" to stand in.

    wishes  a queue of what the stage sends, already read: {"do": ...} of the core's Poke, {"seen": frames shown so far}, None at the end
    send    takes whole messages of the stream for the stage (quiver/formats/frames.py)

    Raises BadInput where the character cannot be poked.
    """
    row = Character.objects.select_related("current").filter(pk=pk).first()
    if row is None:
        raise BadInput("expected a character of the library, this one is gone")
    character, _ = loaded(pk)
    clip, frame = begin.get("clip", row.active_clip), begin.get("frame", 0)
    if not isinstance(clip, str) or isinstance(frame, bool) or not isinstance(frame, int | float) or not 0 <= frame < 1e6:
        raise BadInput("expected a clip's name and a frame to stand in")
    poke = Poke(character, row.setup, clip, frame)
    run, step = poke.run.plan, frames.OFFSET_STEP / row.setup.metres_per_unit
    send(encoded({"things": poke.sizes}))
    send(frames.header(run.rotated, run.translated, [], poke.rate, 0, 1, run.moved))
    made = seen = 0
    due = time.monotonic()
    while True:
        try:
            wish = wishes.get(timeout=PATIENCE) if made - seen >= AHEAD else wishes.get_nowait()
        except queue.Empty:
            if made - seen >= AHEAD:
                continue
        else:
            if wish is None:
                return
            if "seen" in wish:
                seen = wish["seen"] if isinstance(wish["seen"], int) else seen
            else:
                _obey(poke, wish, send)
            continue
        chunk, things = poke.step()
        offsets, used = frames.quantised(chunk.offsets, step)
        made += 1
        message = encoded({"frame": made, "things": things, "costMs": round(chunk.cost_ms, 2)})
        send(message + frames.chunk(0, chunk.rotations, chunk.translations, None, offsets, used))
        due = max(due + 1.0 / poke.rate, time.monotonic())
        time.sleep(max(0.0, due - time.monotonic()))


def _obey(poke, wish, send):
    try:
        poke.obey(wish)
    except BadInput as error:
        send(encoded({"refused": str(error)}))


def encoded(facts):
    """A message of plain facts for the stage."""
    body = json.dumps(facts, default=_plain).encode()
    return struct.pack("<II", len(body), 0) + body


def _plain(value):
    return np.asarray(value).tolist()


def play_from(pk, lines, send):
    """As `play`, with what the stage sends as lines of JSON (bytes), ``begin`` first; what goes wrong is told to the stage."""
    wishes = queue.Queue()
    try:
        begin = _read(next(lines, b"{}"))
        threading.Thread(target=_pass_on, args=(lines, wishes), daemon=True).start()
        play(pk, begin, wishes, send)
    except QuiverError as error:
        send(encoded({"end": True, "message": str(error)}))


def _pass_on(lines, wishes):
    for line in lines:
        wishes.put(_read(line))
    wishes.put(None)


def _read(line):
    """A wish from its line; what is none becomes one that is refused."""
    try:
        wish = json.loads(line)
    except ValueError:
        return {}
    return wish if isinstance(wish, dict) else {}
