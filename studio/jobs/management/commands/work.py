"""``manage.py work``: the warm worker. Ends by itself when the process that started it is gone."""

import os
import threading
import time

from django.core.management import call_command
from django.core.management.base import BaseCommand

from quiver.warm import warm

POLL_SECONDS = 0.02


class Command(BaseCommand):
    help = "Run the worker that simulates and bakes"

    def handle(self, *args, **options):
        threading.Thread(target=_end_with_parent, args=(os.getppid(),), daemon=True).start()
        warm()
        call_command("db_worker", queue_name="*", interval=POLL_SECONDS, startup_delay=False, reload=False, verbosity=0)


def _end_with_parent(parent):
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(0)
