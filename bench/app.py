"""Rows of the running app: its pages while a take runs, and the first frames after a dial changed."""

import json
import re
import statistics
import subprocess
import sys
import time
from importlib.util import find_spec

from websockets.sync.client import connect

from bench import memory
from bench.rows import row
from tests.browser.server import RunningApp

PAGES = ("/", *(f"/characters/{{}}/{step}/" for step in ("rig", "motion", "contacts", "takes", "bake")))
ROUNDS = 12
MEMORY_BOUND = 500.0
NUDGES, NUDGE_BOUND = 10, 8192.0


def rows():
    with RunningApp(with_demo=True) as app:
        app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'finished'") == 4)
        yield from first_frames_rows(app)
        yield nudge_row(app)
        yield stroke_row(app)
        yield page_row(app)
    yield from memory_rows()


def memory_rows():
    """What big bakes take of memory, each in a process of its own."""
    for form in ("pc2", "glb", "usdc"):
        if form == "usdc" and not find_spec("pxr"):
            # The extra is not there: there is nothing to measure.
            continue
        said = subprocess.run([sys.executable, "-m", "bench.memory", form], check=True, capture_output=True, text=True).stdout
        note = f"{memory.VERTICES} vertices x {memory.FRAMES} frames baked as {form}, the whole process; baseline: the bound"
        yield row(f"bake_{form}_mb", float(said), MEMORY_BOUND, "MB", note)


def page_row(app):
    mudwick = app.mudwick
    idle = _pages(app, mudwick)
    long_arm = app.bring_in_long_arm()
    app.post(f"/characters/{long_arm}/takes/run/")
    app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'running' AND done > 0"))
    busy = _pages(app, mudwick)
    if not app.query("SELECT count(*) FROM jobs_job WHERE state = 'running'"):
        raise AssertionError("the take ended before the pages were timed")
    note = f"{len(PAGES)} pages, {ROUNDS} times each, while a take runs; baseline: no take runs"
    return row("page_median_ms", busy, idle, "ms", note)


def _pages(app, character):
    times = []
    for _ in range(ROUNDS):
        for page in PAGES:
            began = time.perf_counter()
            app.get(page.format(character))
            times.append(time.perf_counter() - began)
    return statistics.median(times) * 1e3


def first_frames_rows(app):
    first, whole = zip(*(_change(app, 1.0 + 0.2 * k) for k in range(8)), strict=True)
    figures = statistics.median(first[1:]), statistics.median(whole[1:]), "s"
    note = "Mudwick, walk: from posting a dial until an open page has its first frames; baseline: to the last frame"
    yield row("edit_to_first_frames_s", *figures, note)
    yield row("first_frames_s", *figures, "the same, by its name of before")


def nudge_row(app):
    """What one new value of a dial adds to the database, without the take that follows it."""
    character = app.mudwick
    app.post(f"/characters/{character}/motion/follow/")
    before = _stored(app)
    for k in range(NUDGES):
        app.post(f"/characters/{character}/motion/belly/dial/", dial="settle_time", value=f"{5 + k}")
    added = (_stored(app) - before) / NUDGES
    app.post(f"/characters/{character}/motion/follow/")
    return row("nudge_bytes", added, NUDGE_BOUND, "bytes", "a dial of Mudwick's, all columns of all tables; baseline: the bound")


def _stored(app):
    """Bytes of all values of all tables."""
    tables = app.rows("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
    total = 0
    for (table,) in tables:
        columns = " + ".join(f'coalesce(length(CAST("{column[1]}" AS BLOB)), 0)' for column in app.rows(f'PRAGMA table_info("{table}")'))
        total += app.query(f'SELECT coalesce(sum({columns}), 0) FROM "{table}"')
    return total


def _change(app, rate):
    """Seconds from a dial's change to the first and to the last frames, as an open page hears of them."""
    layer = re.search(r"/motion/([a-z0-9-]+)/dial/", app.get(f"/characters/{app.mudwick}/motion/"))[1]
    address = f"{app.base.replace('http', 'ws', 1)}/characters/{app.mudwick}/events"
    with connect(address, origin=app.base, proxy=None, max_size=None) as page:
        began, first = time.perf_counter(), None
        app.post(f"/characters/{app.mudwick}/motion/{layer}/dial/", dial="wobble_rate", value=f"{rate:g}")
        take = app.query("SELECT max(id) FROM takes_take")
        while True:
            heard = page.recv(60)
            if isinstance(heard, str) or int.from_bytes(heard[:4], "little") != take:
                continue
            now = time.perf_counter() - began
            # The take's number, then one message: its length, its kind (1 for frames), and what it holds.
            if heard[8] == 1:
                first = first or now
            elif json.loads(heard[12:]).get("end"):
                return first, now


def stroke_row(app):
    """A stroke over the whole of Mudwick's skin, until it is kept; against the smallest stroke."""

    def paint(radius):
        stroke = {"dabs": [[0, 0.8, 0], [0, 0.8, 0.3]], "radius": radius, "strength": 0.01, "falloff": "soft", "mode": "add"}
        began = time.perf_counter()
        app.post_json(f"/characters/{app.mudwick}/regions/belly/paint/", stroke)
        return time.perf_counter() - began

    app.post(f"/characters/{app.mudwick}/motion/belly/change/", action="switch")
    app.wait_for(lambda: not app.query("SELECT count(*) FROM jobs_job WHERE state IN ('queued', 'running')"))
    paint(0.1)
    large, small = (statistics.median(paint(radius) for _ in range(7)) for radius in (3.0, 0.1))
    return row("stroke_store_ms", large * 1e3, small * 1e3, "ms", "a stroke that reaches all vertices; baseline: one that reaches a few")
