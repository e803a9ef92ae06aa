"""``manage.py work``: the warm worker. News come by its standard input, events go by its standard output; it ends when the input does."""

import json
import logging
import os
import signal
import sys
import threading

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import OperationalError, connection

from quiver.warm import warm
from studio.events import hub
from studio.jobs import forehand, handlers, services
from studio.jobs.housekeeping import keep_house
from studio.jobs.lanes import Lanes

log = logging.getLogger(__name__)
LOOK_SECONDS = 5.0
"""So often it looks for jobs that nobody told it of, such as those of another command."""
RETRY_SECONDS = 1.0


class Command(BaseCommand):
    help = "Run the worker that simulates and bakes"

    def handle(self, *args, **options):
        # Ctrl-C in a terminal reaches every process of it; the one that started this one ends it.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        if settings.CLUSTER:
            # What was started for it ends with it, in order.
            signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        # Without a buffer, whose lock would be held by the thread that waits for the next line.
        news = News(sys.stdin.buffer.raw)
        out, lock = os.fdopen(os.dup(sys.stdout.fileno()), "w"), threading.Lock()
        # Whatever else writes must not come between the events.
        os.dup2(sys.stderr.fileno(), sys.stdout.fileno())

        def tell(event):
            with lock:
                out.write(json.dumps(event) + "\n")
                out.flush()

        hub.send_to(tell)
        warm()
        # Nothing is kept yet, whatever the one before said.
        handlers.forget_parts()
        lanes = Lanes(news.come)
        try:
            while True:
                self._work(lanes)
                news.wait(LOOK_SECONDS)
        finally:
            handlers.end()

    @staticmethod
    def _work(lanes):
        """Do all that waits, then what may be asked for. Whatever happens, the worker goes on."""
        try:
            if handlers.places():
                if not lanes.fill():
                    keep_house()
                return
            while True:
                job_id = services.claim_next()
                if job_id is not None:
                    services.run_job(job_id)
                elif not forehand.make_ready():
                    break
            keep_house()
        except OperationalError:
            log.exception("The database does not answer; it is tried again")
            connection.close()
        except Exception:
            log.exception("A job ended badly")


class News:
    """Lines that the server sends. When they end the server is gone, however it went, and so is this process."""

    def __init__(self, lines):
        self._something = threading.Event()
        threading.Thread(target=self._listen, args=(lines,), daemon=True).start()

    def wait(self, seconds):
        self._something.wait(seconds)
        self._something.clear()

    def come(self):
        """There is something to do."""
        self._something.set()

    def _listen(self, lines):
        for line in iter(lines.readline, b""):
            words = line.decode().split()
            if words[:1] == ["stop"]:
                services.stop_here(int(words[1]))
            elif words[:1] == ["forget"]:
                handlers.forget_parts()
            elif words[:1] == ["open"]:
                forehand.opened_here(int(words[1]))
            self._something.set()
        os._exit(0)
