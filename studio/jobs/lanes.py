"""Jobs that run beside each other in one worker, where they compute elsewhere; of those that compute here, one runs at a time."""

import logging
import threading

from django.db import connection

from studio.jobs import handlers, services

log = logging.getLogger(__name__)


class Lanes:
    """``wake()`` is called when one is free again."""

    def __init__(self, wake):
        self._wake, self._lock, self._beside, self._here = wake, threading.Lock(), 0, 0

    def fill(self):
        """Begin all jobs that there is a place for. Returns whether any runs."""
        elsewhere = handlers.kinds_beside()
        here = handlers.all_kinds() - elsewhere
        while self._beside < handlers.places() and self._begin(elsewhere, is_beside=True):
            pass
        while not self._here and self._begin(here, is_beside=False):
            pass
        return bool(self._beside or self._here)

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
            if is_beside:
                self._beside += change
            else:
                self._here += change
