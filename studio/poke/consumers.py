"""The WebSocket between a stage and the process that pokes its character."""

import asyncio
import struct
import sys

from channels.generic.websocket import AsyncWebsocketConsumer
from django.conf import settings

MOST_AT_ONCE = 2
"""Stages that may poke at the same time; each takes a process."""
LONGEST_WISH = 4096
TOO_MANY, TOO_LONG = 4429, 4413


class PokeConsumer(AsyncWebsocketConsumer):
    """Passes wishes on to the process, line by line, and its messages to the stage, whole."""

    running = set()

    async def connect(self):
        self.process = None
        await self.accept()
        if len(self.running) >= MOST_AT_ONCE:
            await self.close(TOO_MANY)
            return
        self.running.add(self)
        pk = self.scope["url_route"]["kwargs"]["pk"]
        pipes = {"stdin": asyncio.subprocess.PIPE, "stdout": asyncio.subprocess.PIPE}
        self.process = await asyncio.create_subprocess_exec(sys.executable, "manage.py", "poke", str(pk), cwd=settings.BASE_DIR, **pipes)
        self.pump = asyncio.create_task(self._pump())

    async def receive(self, text_data=None, bytes_data=None):
        if text_data is None or len(text_data) > LONGEST_WISH:
            await self.close(TOO_LONG)
        elif self.process and self.process.returncode is None:
            self.process.stdin.write(text_data.replace("\n", " ").encode() + b"\n")

    async def _pump(self):
        out = self.process.stdout
        try:
            while True:
                head = await out.readexactly(8)
                await self.send(bytes_data=head + await out.readexactly(struct.unpack_from("<I", head)[0]))
        except asyncio.IncompleteReadError:
            await self.close()

    async def disconnect(self, code):
        self.running.discard(self)
        if not self.process:
            return
        self.pump.cancel()
        if self.process.returncode is None:
            self.process.kill()
        await self.process.wait()
