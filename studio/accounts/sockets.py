"""The same for sockets, which stay open: whoever loses the right to look, or logs out, is cut off."""

import asyncio
from importlib import import_module

from asgiref.sync import sync_to_async
from channels.auth import get_user
from channels.sessions import CookieMiddleware
from django.conf import settings

from studio.characters.pages import chosen_clip
from studio.characters.rights import Right, right_on
from studio.faults import is_locked

LOOK_SECONDS = 3.0
"""So often it is asked again."""
GONE = 4404


class ReadersOnly:
    """Opens a socket of a character for those who may look at it. The right is asked for again while it is open."""

    def __init__(self, application):
        self.application = CookieMiddleware(_Watched(application))

    async def __call__(self, scope, receive, send):
        await self.application(scope, receive, send)


class _Watched:
    def __init__(self, application):
        self.application = application

    async def __call__(self, scope, receive, send):
        if not settings.ACCOUNTS:
            await self.application(scope, receive, send)
            return
        right, session = await _standing(scope)
        if right < Right.READ:
            await _refuse(scope, send)
            return
        if right == Right.READ:
            scope["clip"] = await sync_to_async(session.get)(chosen_clip(scope["url_route"]["kwargs"]["pk"]))
        is_open = True

        async def guarded(message):
            if is_open:
                await send(message)

        async def watch():
            nonlocal is_open
            while is_open:
                await asyncio.sleep(LOOK_SECONDS)
                try:
                    right, _ = await _standing(scope)
                    is_open = right >= Right.READ
                except Exception as error:
                    # A database that is busy is asked again; whatever else goes wrong lets nobody look on.
                    is_open = is_locked(error)
            await send({"type": "websocket.close", "code": GONE})

        watching = asyncio.create_task(watch())
        try:
            await self.application(scope, receive, guarded)
        finally:
            watching.cancel()


async def _refuse(scope, send):
    """Answer that there is nothing here, before anything is opened."""
    if "websocket.http.response" in scope.get("extensions", {}):
        await send({"type": "websocket.http.response.start", "status": 404, "headers": []})
        await send({"type": "websocket.http.response.body", "body": b""})
    else:
        await send({"type": "websocket.close", "code": GONE})


async def _standing(scope):
    """(Right on the character, session) of a socket's cookies, as the database has it now."""
    session = import_module(settings.SESSION_ENGINE).SessionStore(scope["cookies"].get(settings.SESSION_COOKIE_NAME))
    user = await get_user({"session": session})
    return await sync_to_async(right_on)(user, scope["url_route"]["kwargs"]["pk"]), session
