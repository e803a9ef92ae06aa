"""``manage.py serve``: the app, with its worker. Where it listens, and for whom, say the settings: KEEN_LISTEN, KEEN_HOSTS, KEEN_PROXY."""

import contextlib
import json
import logging
import os
import signal
import socket
import subprocess
import sys
import threading
import time
import warnings

import uvicorn
from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError
from django.db import OperationalError, connection

from studio.events import hub
from studio.jobs import services

log = logging.getLogger(__name__)
NO_TLS = "Passwords and characters go over the network in the clear. Outside of a network that you trust put a proxy with TLS before it."
NO_NAMES = "It answers to this machine's own address alone. Name what others call it: --host NAME"
NOBODY = "Nobody can log in yet. Add somebody: ./keen python manage.py add_user NAME"
LOOK_SECONDS = 0.5
REAP_SECONDS = 4.0
"""So often it looks for jobs that fell silent."""


class Command(BaseCommand):
    help = "Serve the app and keep one worker running"

    def add_arguments(self, parser):
        parser.add_argument("--port", type=int, default=8040)
        parser.add_argument("--began", type=int, help="when setting up began, seconds since 1970")

    def handle(self, *args, port, began, **options):
        if not 0 < port < 65536:
            raise CommandError(f"expected a port from 1 to 65535, got {port}")
        if _is_taken(port):
            raise CommandError(f"Port {port} is in use; perhaps the app runs already. Choose another: ./keen demo --port {port + 1}")
        # Frames are dense already: squeezing them once more would take longer than sending them.
        sockets = {"ws": "websockets-sansio", "ws_per_message_deflate": False}
        # A proxy is believed for whom it asks; without accounts nobody who comes by one is served (security.py).
        forwarded = {"forwarded_allow_ips": settings.PROXY or "127.0.0.1", "proxy_headers": bool(settings.PROXY) or not settings.ACCOUNTS}
        options = {"host": settings.LISTEN, "port": port, "log_level": "warning", "lifespan": "off", **sockets, **forwarded}
        server = uvicorn.Server(uvicorn.Config("studio.config.asgi:application", **options))
        # Static files come whole from a synchronous package; they are small enough to be read at once.
        warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
        keeper = WorkerKeeper()
        # The server hands the signal on once it has shut down; the worker must still be ended then.
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        keeper.start()
        threading.Thread(target=self._say_when_up, args=(server, port, began, list(_notes())), daemon=True).start()
        try:
            server.run()
        finally:
            keeper.stop()

    def _say_when_up(self, server, port, began, notes):
        while not server.started:
            time.sleep(0.05)
        took = f" (set up in {max(0, int(time.time()) - began)} s)" if began else ""
        host = f"[{settings.LISTEN}]" if ":" in settings.LISTEN else settings.LISTEN
        self.stdout.write(f"Keen Quiver is at http://{host}:{port}/{took}. Stop it with Ctrl-C.")
        for note in notes:
            self.stdout.write(note)


def _notes():
    """What whoever serves it to others should know."""
    if not settings.ACCOUNTS:
        return
    if not get_user_model().objects.filter(is_active=True).exists():
        yield NOBODY
    if not settings.PROXY:
        yield NO_TLS
    if not settings.NAMES:
        yield NO_NAMES


def _is_taken(port):
    with socket.socket(socket.AF_INET6 if ":" in settings.LISTEN else socket.AF_INET) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((settings.LISTEN, port))
        except OSError:
            return True
    return False


class WorkerKeeper:
    """Starts the worker, starts it again when it ends, and reaps the jobs that it left. Nothing that goes wrong ends its watch."""

    def __init__(self):
        self._over, self._lock = threading.Event(), threading.Lock()
        self._thread = threading.Thread(target=self._keep, daemon=True)
        self._worker, self._dead, self._reaped = None, set(), float("-inf")
        services.on_news(self.tell)

    def start(self):
        self._spawn()
        self._thread.start()

    def stop(self):
        self._over.set()
        self._thread.join()
        self._worker.terminate()
        self._worker.wait()
        with contextlib.suppress(OperationalError):
            services.reap(self._worker.pid)

    def tell(self, words):
        """Pass news on to the worker; one that is gone is replaced anyway, and looks for itself."""
        with self._lock, contextlib.suppress(OSError, ValueError):
            self._worker.stdin.write(f"{words}\n".encode())
            self._worker.stdin.flush()

    def _spawn(self):
        pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE}
        worker = subprocess.Popen([sys.executable, "manage.py", "work"], env=os.environ, cwd=settings.BASE_DIR, **pipes)
        with self._lock:
            self._worker = worker
        threading.Thread(target=self._listen, args=(worker,), daemon=True).start()

    @staticmethod
    def _listen(worker):
        """Pass the worker's events on until it ends."""
        for line in worker.stdout:
            try:
                hub.pass_on(json.loads(line))
            except Exception:
                log.exception("An event of the worker could not be passed on")

    def _keep(self):
        while not self._over.wait(LOOK_SECONDS):
            try:
                self._look()
            except Exception:
                log.exception("The watch over the worker goes on")
                connection.close()
        connection.close()

    def _look(self):
        # The new worker first: it does not need the database to be started, and the old one's jobs can wait for it.
        if self._worker.poll() is not None:
            self._dead.add(self._worker.pid)
            self._spawn()
        for pid in sorted(self._dead):
            services.reap(pid)
            self._dead.discard(pid)
        now = time.monotonic()
        if now - self._reaped > REAP_SECONDS:
            self._reaped = now
            services.reap()
