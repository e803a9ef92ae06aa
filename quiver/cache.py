"""Things made of a character that are kept for the next run."""

import threading

from cachetools import LRUCache


class Cache:
    """The last few things that were made of characters. What is kept must not be changed by those who use it."""

    def __init__(self, most):
        self._things, self._lock = LRUCache(most), threading.Lock()

    def get(self, character, key, make):
        """What ``make()`` returned for this character and key the last time, or makes now."""
        key = (id(character), *key)
        with self._lock:
            found = self._things.get(key)
        # The character is kept with it: its id stays its own that way.
        if found is None or found[0] is not character:
            found = character, make()
            with self._lock:
                self._things[key] = found
        return found[1]
