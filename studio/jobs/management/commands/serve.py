"""``manage.py serve``: the app on the loopback address, with its worker."""
import os
import subprocess
import sys
import threading

import uvicorn
from django.core.management.base import BaseCommand
from django.db import connection

from studio.jobs import services

LOOK_SECONDS = 0.5


class Command(BaseCommand):
    help = "Serve the app on the loopback address and keep one worker running"

    def add_arguments(self, parser):
        parser.add_argument("--port", type=int, default=8040)

    def handle(self, *args, port, **options):
        keeper = WorkerKeeper()
        keeper.start()
        try:
            uvicorn.run("studio.config.asgi:application", host="127.0.0.1", port=port, log_level="warning", lifespan="off")
        finally:
            keeper.stop()


class WorkerKeeper:
    """Starts the worker, starts it again when it ends, and reaps the jobs that it left."""

    def __init__(self):
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._keep, daemon=True)
        self._worker = None

    def start(self):
        services.reap()
        self._spawn()
        self._thread.start()

    def stop(self):
        self._over.set()
        self._thread.join()
        self._worker.terminate()
        try:
            self._worker.wait(10)
        except subprocess.TimeoutExpired:
            self._worker.kill()

    def _spawn(self):
        self._worker = subprocess.Popen([sys.executable, "manage.py", "work"], env=os.environ)

    def _keep(self):
        while not self._over.wait(LOOK_SECONDS):
            ended = self._worker.poll() is not None
            services.reap(self._worker.pid if ended else None)
            if ended:
                self._spawn()
        connection.close()
