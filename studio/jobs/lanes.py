"""Jobs that run beside each other in one worker, where they compute elsewhere; of those that compute here, one runs at a time."""

import logging
import threading
from collections import Counter

from django.db import connection

from studio.jobs import handlers, services

log = logging.getLogger(__name__)


class Lanes:
    """``wake()`` is called when one is free again."""

    def __init__(self, wake):
        # How many run, by whether they are beside each other.
        self._wake, self._lock, self._running = wake, threading.Lock(), Counter()

    def fill(self):
        """Begin all jobs that there is a place for. Returns whether any runs."""
        elsewhere = handlers.kinds_beside()
        here = handlers.all_kinds() - elsewhere
        while self._running[True] < handlers.places() and self._begin(elsewhere, is_beside=True):
            pass
        while not self._running[False] and self._begin(here, is_beside=False):
            pass
        return self._running.total() > 0

    def _begin(self, kinds, is_beside):
        job_id = services.claim_next(kinds)
        if job_id is not None:
            self._count(is_beside, 1)
            threading.Thread(target=self._run, args=(job_id, is_beside), daemon=True).start()
        return job_id is not None

    def _run(self, job_id, is_beside):
        try:
            services.run_job(job_id)
        except Exception:
            log.exception("A job ended badly")
        finally:
            connection.close()
            self._count(is_beside, -1)
            self._wake()

    def _count(self, is_beside, change):
        with self._lock:
            self._running[is_beside] += change
