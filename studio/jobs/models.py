"""Long work: what it is, how far it is, whether it should stop. The rows are the queue."""

from django.db import models


class Job(models.Model):
    """One piece of long work. The worker writes ``heartbeat`` while it lives; without it the reaper calls the job interrupted."""

    class State(models.TextChoices):
        PREPARED = "prepared", "being prepared"
        QUEUED = "queued", "waiting"
        RUNNING = "running", "running"
        FINISHED = "finished", "finished"
        STOPPED = "stopped", "stopped"
        FAILED = "failed", "failed"
        INTERRUPTED = "interrupted", "interrupted"

    kind = models.CharField(max_length=20)
    state = models.CharField(max_length=12, choices=State, default=State.PREPARED, db_index=True)
    priority = models.IntegerField(default=0)
    done = models.IntegerField(default=0)
    total = models.IntegerField(default=0)
    message = models.TextField(default="", blank=True)
    stop_asked = models.BooleanField(default=False)
    worker_pid = models.IntegerField(null=True)
    heartbeat = models.DateTimeField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)

    @property
    def is_open(self):
        return self.state in (self.State.PREPARED, self.State.QUEUED, self.State.RUNNING)

    @property
    def percent(self):
        return round(100 * self.done / self.total) if self.total else 0
