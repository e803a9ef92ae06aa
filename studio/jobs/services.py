"""Starting, stopping, running and reaping jobs."""

import os
import threading
import time
from datetime import timedelta

from django.db import connection, transaction
from django.utils import timezone
from django_tasks import TaskResultStatus, task
from django_tasks_db.models import DBTaskResult

from quiver.errors import QuiverError
from studio.jobs.handlers import handler_of
from studio.jobs.models import Job

BEAT_SECONDS = 1.0
SILENT_SECONDS = 8.0
"""A running job without a heartbeat for so long has lost its worker."""
ASK_SECONDS = 0.05
"""How often a running job looks whether it should stop."""


@task(queue_name="default")
def run_job(job_id):
    """Run one job in the worker; every way it can end is written into its row."""
    started = Job.objects.filter(pk=job_id, state=Job.State.QUEUED, stop_asked=False).update(
        state=Job.State.RUNNING, started=timezone.now(), heartbeat=timezone.now(), worker_pid=os.getpid()
    )
    if not started:
        Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(state=Job.State.STOPPED, ended=timezone.now())
        return
    context = JobContext(job_id)
    with context.beating():
        try:
            handler_of(Job.objects.values_list("kind", flat=True).get(pk=job_id))(job_id, context)
            _end(job_id, Job.State.STOPPED if context.was_stopped else Job.State.FINISHED)
        except QuiverError as error:
            _end(job_id, Job.State.FAILED, str(error))
        except Exception as error:
            _end(job_id, Job.State.FAILED, f"This is a fault of the program: {type(error).__name__}: {error}")
            raise


def _end(job_id, state, message=""):
    Job.objects.filter(pk=job_id, state=Job.State.RUNNING).update(state=state, ended=timezone.now(), message=message)


class JobContext:
    """What a handler sees of its job: whether to go on, and where to say how far it is."""

    def __init__(self, job_id):
        self.job_id = job_id
        self.was_stopped = False
        self._asked = 0.0

    def keep_going(self):
        """False once the job was asked to stop; looks at the row at most twenty times a second."""
        now = time.monotonic()
        if not self.was_stopped and now - self._asked > ASK_SECONDS:
            self._asked = now
            self.was_stopped = not Job.objects.filter(pk=self.job_id, stop_asked=False).exists()
        return not self.was_stopped

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
            Job.objects.filter(pk=self._job_id).update(heartbeat=timezone.now())
        connection.close()


def start(kind, total=0):
    """Make a job row; call `enqueue` once everything it needs is saved."""
    return Job.objects.create(kind=kind, total=total)


def enqueue(job, priority=0):
    """Hand a job to the worker once the current transaction is through."""
    transaction.on_commit(lambda: run_job.using(priority=priority).enqueue(job.pk))


def ask_to_stop(jobs):
    """Ask jobs (a queryset) to stop; those that still wait end at once."""
    jobs.filter(state=Job.State.QUEUED).update(state=Job.State.STOPPED, stop_asked=True, ended=timezone.now())
    jobs.filter(state=Job.State.RUNNING).update(stop_asked=True)


def reap(dead_pid=None):
    """End the jobs whose worker is gone as interrupted: those of ``dead_pid``, and all that fell silent. Returns how many."""
    running = Job.objects.filter(state=Job.State.RUNNING)
    silent = running.filter(heartbeat__lt=timezone.now() - timedelta(seconds=SILENT_SECONDS))
    lost = silent | running.filter(worker_pid=dead_pid) if dead_pid else silent
    message = "The worker ended in the middle of it. Nothing else was lost; run it again."
    count = lost.update(state=Job.State.INTERRUPTED, ended=timezone.now(), message=message)
    if dead_pid or count:
        # The queue's own row would stay running for ever.
        orphans = DBTaskResult.objects.filter(status=TaskResultStatus.RUNNING)
        alive = Job.objects.filter(state=Job.State.RUNNING).exists()
        if not alive:
            orphans.update(status=TaskResultStatus.FAILED, finished_at=timezone.now())
    return count
