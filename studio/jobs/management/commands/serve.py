"""``manage.py serve``: the app on the loopback address, with its worker."""

import os
import signal
import socket
import subprocess
import sys
import threading
import time
import warnings

import uvicorn
from django.core.management.base import BaseCommand, CommandError
from django.db import connection

from studio.jobs import services

HOST = "127.0.0.1"
LOOK_SECONDS = 0.5


class Command(BaseCommand):
    help = "Serve the app on the loopback address and keep one worker running"

    def add_arguments(self, parser):
        parser.add_argument("--port", type=int, default=8040)
        parser.add_argument("--began", type=int, help="when setting up began, seconds since 1970")

    def handle(self, *args, port, began, **options):
        if _is_taken(port):
            raise CommandError(f"Port {port} is in use; perhaps the app runs already. Choose another: ./keen demo --port {port + 1}")
        # Frames are dense already: squeezing them once more would take longer than sending them.
        sockets = {"ws": "websockets-sansio", "ws_per_message_deflate": False}
        options = {"host": HOST, "port": port, "log_level": "warning", "lifespan": "off", **sockets}
        server = uvicorn.Server(uvicorn.Config("studio.config.asgi:application", **options))
        # Static files come whole from a synchronous package; they are small enough to be read at once.
        warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
        keeper = WorkerKeeper()
        # The server hands the signal on once it has shut down; the worker must still be ended then.
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        keeper.start()
        threading.Thread(target=self._say_when_up, args=(server, port, began), daemon=True).start()
        try:
            server.run()
        finally:
            keeper.stop()

    def _say_when_up(self, server, port, began):
        while not server.started:
            time.sleep(0.05)
        took = f" (set up in {max(0, int(time.time()) - began)} s)" if began else ""
        self.stdout.write(f"Keen Quiver is at http://127.0.0.1:{port}/{took}. Stop it with Ctrl-C.")


def _is_taken(port):
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, port))
        except OSError:
            return True
    return False


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
        self._worker.wait()
        services.reap(self._worker.pid)

    def _spawn(self):
        self._worker = subprocess.Popen([sys.executable, "manage.py", "work"], env=os.environ)

    def _keep(self):
        while not self._over.wait(LOOK_SECONDS):
            ended = self._worker.poll() is not None
            services.reap(self._worker.pid if ended else None)
            if ended:
                self._spawn()
        connection.close()
