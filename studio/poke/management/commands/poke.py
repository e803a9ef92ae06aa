"""``manage.py poke CHARACTER``: pokes one character; the app starts it for a stage and talks to it through its pipes."""

import contextlib
import os
import signal
import sys

from django.core.management.base import BaseCommand

from studio.poke.services import play_from


class Command(BaseCommand):
    help = "Poke a character: wishes as lines of JSON come in, messages for the stage go out"

    def add_arguments(self, parser):
        parser.add_argument("character", type=int)

    def handle(self, *args, character, **options):
        # Ctrl-C in a terminal reaches every process of it; this one ends when its pipe does.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        out = os.fdopen(os.dup(sys.stdout.fileno()), "wb")
        # Whatever else writes must not come between the messages.
        os.dup2(sys.stderr.fileno(), sys.stdout.fileno())

        def send(message):
            out.write(message)
            out.flush()

        with contextlib.suppress(BrokenPipeError):
            play_from(character, iter(sys.stdin.buffer.readline, b""), send)
        # The thread that reads would wait for a line that never comes.
        os._exit(0)
