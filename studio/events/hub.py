"""What happens, told at once to whoever listens: inside one process, and from the worker to the server.

An event is a small dict with the "character" that it concerns (its number), a "kind" and plain values. Listeners look up the rest.
"""

import asyncio
import threading

_lock = threading.Lock()
_listeners = set()
_sink = None


class Listener:
    """Hears the events of one character, in an event loop. Those of one key that were not taken yet are one: the latest."""

    def __init__(self, character):
        self.character = character
        self._loop, self._waiting, self._ready = asyncio.get_running_loop(), {}, asyncio.Event()

    def __enter__(self):
        with _lock:
            _listeners.add(self)
        return self

    def __exit__(self, *error):
        with _lock:
            _listeners.discard(self)

    def hear(self, event):
        """Called in any thread."""
        self._loop.call_soon_threadsafe(self._put, event)

    def _put(self, event):
        self._waiting[event["kind"], event.get("take")] = event
        self._ready.set()

    async def events(self):
        """The events since the last time, at least one."""
        await self._ready.wait()
        self._ready.clear()
        found, self._waiting = list(self._waiting.values()), {}
        return found


def publish(character, kind, **values):
    """Tell that something happened to a character."""
    pass_on({"character": character, "kind": kind, **values})


def pass_on(event):
    """Tell an event as it is."""
    if _sink is not None:
        _sink(event)
        return
    with _lock:
        heard = [listener for listener in _listeners if listener.character == event["character"]]
    for listener in heard:
        listener.hear(event)


def send_to(sink):
    """In a process that serves nobody itself: hand every event to ``sink(event)``."""
    global _sink
    _sink = sink
