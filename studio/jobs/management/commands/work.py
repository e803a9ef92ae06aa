"""``manage.py work``: the warm worker. Ends by itself when the process that started it is gone."""

import os
import signal
import threading
import time

from django.core.management.base import BaseCommand
from django.db import connection
from django_tasks_db.management.commands.db_worker import Worker

from quiver.warm import warm

LOOK_SECONDS = 0.01
EVERYTHING_READY = {"batch": True, "interval": 0, "startup_delay": False, "max_tasks": None, "excluded_queue_names": []}
"""A worker that runs whatever is ready, then returns."""


class Command(BaseCommand):
    help = "Run the worker that simulates and bakes"

    def handle(self, *args, **options):
        # Ctrl-C in a terminal reaches every process of it; the one that started this one ends it.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        threading.Thread(target=_end_with_parent, args=(os.getppid(),), daemon=True).start()
        warm()
        # It asks a hundred times a second whether there is work, so it keeps its connection.
        connection.settings_dict["CONN_MAX_AGE"] = None
        worker = Worker(worker_id=str(os.getpid()), queue_names=["*"], backend_name="default", **EVERYTHING_READY)
        seen = None
        while True:
            version = _data_version()
            if version == seen:
                time.sleep(LOOK_SECONDS)
                continue
            seen = version
            worker.run()


def _data_version():
    """A number that changes when another connection has written; far cheaper to ask for than the queue."""
    with connection.cursor() as cursor:
        return cursor.execute("PRAGMA data_version").fetchone()[0]


def _end_with_parent(parent):
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(0)
