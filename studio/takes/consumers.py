"""One stream of events to each open page: what changed in the setup, and of the shown take its status, its score and its frames."""

import asyncio
import contextlib
import json
import struct

from asgiref.sync import sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.template.loader import render_to_string

from studio.characters.models import Character
from studio.events import hub
from studio.takes import services
from studio.takes.sending import FrameSender, score_context, status_context

LOOK_SECONDS = 5.0
"""Without any event it looks for itself so often, as events of other processes are not heard."""
LONGEST_WISH = 200
TOO_LONG, GONE = 4413, 4404


class CharacterStream(AsyncWebsocketConsumer):
    """Texts are JSON: {"kind": "setup", ...}, or {"kind": "take", ...} with HTML for the status and the score. Bytes are the number of a
    take (u32, little-endian), then one message of its stream of frames. The page says {"take": number or ""} which one it looks at.
    """

    task = listener = None

    async def connect(self):
        self.pk, self.wanted, self.senders, self.shown = self.scope["url_route"]["kwargs"]["pk"], "", {}, None
        await self.accept()
        self.listener = hub.Listener(self.pk)
        self.listener.__enter__()
        self.task = asyncio.create_task(self._run())

    async def receive(self, text_data=None, bytes_data=None):
        if text_data is None or len(text_data) > LONGEST_WISH:
            await self.close(TOO_LONG)
            return
        with contextlib.suppress(ValueError):
            wish = json.loads(text_data)
            if isinstance(wish, dict):
                self.wanted, self.shown = str(wish.get("take", ""))[:20], None
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
        found = await sync_to_async(self._news)()
        if found is None:
            return False
        facts, take_id, messages = found
        # The score before the frames: what is heard first is drawn first, and a late take's frames name their take.
        if facts is not None:
            await self.send(text_data=json.dumps(facts))
        for message in messages:
            await self.send(bytes_data=struct.pack("<I", take_id) + message)
        return True

    def _news(self):
        """(the facts of the shown take if they changed, its number, messages of its stream), or None; reads the database."""
        row = Character.objects.select_related("current").defer("picture", "findings").filter(pk=self.pk).first()
        if row is None:
            return None
        take = services.take_of(row, self.wanted)
        context = status_context(row, take)
        facts = {"kind": "take", "take": take.pk if take else None, "state": take.job.state if take else "", "isStale": context["is_stale"]}
        facts |= {"done": take.job.done, "version": row.current_id} if take else {"version": row.current_id}
        sender = messages = None
        if take:
            sender = self.senders.setdefault(take.pk, FrameSender(take.pk))
            self.senders = {take.pk: sender}
            messages = sender.messages()
        if facts == self.shown and not messages:
            return None if row is None else (None, 0, [])
        self.shown = dict(facts)
        facts["status"] = render_to_string("takes/status.html", context)
        facts["score"] = render_to_string("takes/score.html", score_context(row, take))
        return facts, take.pk if take else 0, messages or []
