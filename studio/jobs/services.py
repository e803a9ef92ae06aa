"""Starting, stopping, running and reaping jobs."""

import logging
import os
import threading
import time
from datetime import timedelta

from django.db import OperationalError, connection, transaction
from django.utils import timezone

from quiver.errors import QuiverError
from studio.events import hub
from studio.faults import fault_message, is_disk_full
from studio.jobs.handlers import handler_of
from studio.jobs.models import Job

log = logging.getLogger(__name__)
BEAT_SECONDS = 1.0
SILENT_SECONDS = 8.0
"""A running job without a heartbeat for so long has lost its worker."""
ASK_SECONDS = 1.0
"""How often a running job looks at its row whether it should stop; usually it is told at once."""
RETRY_SECONDS = 0.5
"""After so long a write is tried again that the database refused."""
DISK_FULL = "The disk is full. Free some space, then run it again."
_stopped = set()
_wake = []


def on_news(tell):
    """Let ``tell(words)`` pass on to the worker that a job waits ("wake") or should stop ("stop 7"), a page was opened ("open 3"), or
    what is kept is to be let go ("forget").
    """
    _wake.append(tell)


def _tell(words):
    for tell in _wake:
        tell(words)


def opened(character):
    """A page of a character, by its number, was opened: what it may ask for is made ready."""
    _tell(f"open {character}")


def forget_parts():
    """Let the worker let go of what it keeps for later jobs."""
    _tell("forget")


def stop_here(job_id):
    """In the worker: a job is to stop."""
    _stopped.add(job_id)


def start(kind, total=0):
    """Make a job row; call `enqueue` once everything it needs is saved."""
    return Job.objects.create(kind=kind, total=total)


def enqueue(job, priority=0):
    """Let the worker have a job, once the current transaction is through."""
    Job.objects.filter(pk=job.pk, state=Job.State.PREPARED).update(state=Job.State.QUEUED, priority=priority)
    transaction.on_commit(lambda: _tell("wake"))


def claim_next(kinds=None):
    """Take the next job that waits for this process, of some kinds, of any if not said: its number, or None."""
    with transaction.atomic():
        waiting = Job.objects.filter(state=Job.State.QUEUED).order_by("-priority", "pk")
        if kinds is not None:
            waiting = waiting.filter(kind__in=kinds)
        job_id = waiting.values_list("pk", flat=True).first()
        if job_id is not None:
            now = timezone.now()
            Job.objects.filter(pk=job_id).update(state=Job.State.RUNNING, started=now, heartbeat=now, worker_pid=os.getpid())
    return job_id


def run_job(job_id):
    """Run a job that was claimed; every way it can end is written into its row."""
    context = JobContext(job_id)
    with context.beating():
        try:
            context.kind = Job.objects.values_list("kind", flat=True).get(pk=job_id)
            handler_of(context.kind)(job_id, context)
            if context.was_put_off:
                persistently(lambda: Job.objects.filter(pk=job_id, state=Job.State.RUNNING).update(state=Job.State.QUEUED))
            else:
                _end(job_id, Job.State.STOPPED if context.was_stopped else Job.State.FINISHED)
        except QuiverError as error:
            # What could not be made because it was to stop did not fail.
            _end(job_id, Job.State.STOPPED if context.was_stopped else Job.State.FAILED, str(error))
        except Exception as error:
            # Also of a full disk the log knows where it was met.
            message = fault_message(error)
            _end(job_id, Job.State.FAILED, DISK_FULL if is_disk_full(error) else message)
        finally:
            _stopped.discard(job_id)
            if context.character is not None:
                hub.publish(context.character, "job", job=context.kind)


def _end(job_id, state, message=""):
    """Write how a job ended, however long the database refuses it: nobody else will."""
    persistently(lambda: Job.objects.filter(pk=job_id, state=Job.State.RUNNING).update(state=state, ended=timezone.now(), message=message))


def persistently(write):
    """What ``write()`` returns, tried again until the database takes it."""
    while True:
        try:
            return write()
        except OperationalError:
            log.exception("The database refuses a write; it is tried again")
            connection.close()
            time.sleep(RETRY_SECONDS)


class JobContext:
    """What a handler sees of its job: whether to go on, and where to say how far it is. It says for which ``character`` it works, and
    whether it ``gives_way`` to jobs of a higher priority, to begin anew after them.
    """

    kind, character, gives_way = "", None, False

    def __init__(self, job_id):
        self.job_id = job_id
        self.was_stopped = self.was_put_off = False
        self._asked = time.monotonic()

    def keep_going(self):
        """False once the job was asked to stop, its row is gone, or another one comes first."""
        if self.job_id in _stopped:
            self.was_stopped = True
        now = time.monotonic()
        if not self.was_stopped and now - self._asked > ASK_SECONDS:
            self._asked = now
            self.was_stopped = not Job.objects.filter(pk=self.job_id, stop_asked=False).exists()
            self.was_put_off = self.gives_way and not self.was_stopped and self._is_another_first()
        return not self.was_stopped and not self.was_put_off

    def _is_another_first(self):
        own = Job.objects.filter(pk=self.job_id).values("priority")
        return Job.objects.filter(state=Job.State.QUEUED, priority__gt=own).exists()

    def progress(self, done, total, message=""):
        Job.objects.filter(pk=self.job_id).update(done=done, total=total, message=message, heartbeat=timezone.now())

    def beating(self):
        return _Heart(self.job_id)


class _Heart:
    """Writes the heartbeat from a thread of its own, so that a long silent computation is not taken for dead."""

    def __init__(self, job_id):
        self._job_id = job_id
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._beat, daemon=True)

    def __enter__(self):
        self._thread.start()

    def __exit__(self, *error):
        self._over.set()
        self._thread.join()

    def _beat(self):
        while not self._over.wait(BEAT_SECONDS):
            try:
                Job.objects.filter(pk=self._job_id).update(heartbeat=timezone.now())
            except OperationalError:
                # Locked or full: the next beat tries again.
                connection.close()
        connection.close()


def ask_to_stop(jobs):
    """Ask jobs (a queryset) to stop; those that still wait end at once."""
    running = list(jobs.filter(state=Job.State.RUNNING).values_list("pk", flat=True))
    waiting = jobs.filter(state__in=[Job.State.PREPARED, Job.State.QUEUED])
    waiting.update(state=Job.State.STOPPED, stop_asked=True, ended=timezone.now())
    Job.objects.filter(pk__in=running).update(stop_asked=True)
    transaction.on_commit(lambda: [_tell(f"stop {job_id}") for job_id in running])


def reap(dead_pid=None):
    """End the jobs whose worker is gone as interrupted: those of ``dead_pid``, and all that fell silent. Returns how many."""
    running = Job.objects.filter(state=Job.State.RUNNING)
    silent = running.filter(heartbeat__lt=timezone.now() - timedelta(seconds=SILENT_SECONDS))
    lost = silent | running.filter(worker_pid=dead_pid) if dead_pid else silent
    message = "The worker stopped in the middle of it. Nothing else was lost; run it again."
    return lost.update(state=Job.State.INTERRUPTED, ended=timezone.now(), message=message)
