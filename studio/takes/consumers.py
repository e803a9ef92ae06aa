"""One stream of events to each open page: what changed in the setup, and of the shown take its status, its score and its frames."""

import asyncio
import contextlib
import json
import struct

from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer

from studio.events import hub
from studio.jobs import services as jobs
from studio.takes.sending import Watch

LOOK_SECONDS = 5.0
"""Without any event it looks for itself so often, as events of other processes are not heard."""
LONGEST_WISH = 200
TOO_LONG, GONE = 4413, 4404


class CharacterStream(AsyncWebsocketConsumer):
    """Texts are JSON: {"kind": "setup", ...}, or {"kind": "take", ...} with HTML for the status and the score. Bytes are the number of a
    take (u32, little-endian), then one message of its stream of frames. The page says which take it looks at, and which one beside it, as
    {"take": number or "", "beside": number or ""}.
    """

    task = listener = None

    async def connect(self):
        self.pk = self.scope["url_route"]["kwargs"]["pk"]
        self.watch = Watch(self.pk, self.scope.get("clip"))
        await self.accept()
        self.listener = hub.Listener(self.pk)
        self.listener.__enter__()
        self.task = asyncio.create_task(self._run())
        await sync_to_async(jobs.opened)(self.pk)

    async def receive(self, text_data=None, bytes_data=None):
        if text_data is None or len(text_data) > LONGEST_WISH:
            await self.close(TOO_LONG)
            return
        with contextlib.suppress(ValueError):
            wish = json.loads(text_data)
            if isinstance(wish, dict):
                self.watch.look(*(str(wish.get(name, ""))[:20] for name in ("take", "beside")))
                self.listener.hear({"character": self.pk, "kind": "look"})

    async def disconnect(self, code):
        if self.listener:
            self.listener.__exit__()
        if self.task:
            self.task.cancel()

    async def _run(self):
        events = [{"kind": "look"}]
        while True:
            for event in events:
                if event["kind"] in ("setup", "job"):
                    await self.send(text_data=json.dumps(event))
            if not await self._show():
                await self.close(GONE)
                return
            try:
                events = await asyncio.wait_for(self.listener.events(), LOOK_SECONDS)
            except TimeoutError:
                events = [{"kind": "look"}]

    async def _show(self):
        """Send what is new of the shown take; False where the character is gone."""
        found = await sync_to_async(self.watch.frames)()
        if found is None:
            return False
        # The frames first: the score takes longer to write, and what moves is waited for.
        for take_id, messages in found:
            for message in messages:
                await self.send(bytes_data=struct.pack("<I", take_id) + message)
        facts = await sync_to_async(self.watch.facts)()
        if facts is not None:
            await self.send(text_data=json.dumps(facts))
        return True
