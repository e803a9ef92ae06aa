"""Things made of others, such as a character, that are kept for the next run."""

import threading

from cachetools import LRUCache


class Cache:
    """The last few things that were made of others. What is kept must not be changed by those who use it."""

    def __init__(self, most):
        self._things, self._lock = LRUCache(most), threading.Lock()

    def get(self, owner, key, make):
        """What ``make()`` returned for what it is made of (``owner``) and a key the last time, or makes now."""
        key = (id(owner), *key)
        with self._lock:
            found = self._things.get(key)
        # The owner is kept with it: its id stays its own that way.
        if found is None or found[0] is not owner:
            found = owner, make()
            with self._lock:
                self._things[key] = found
        return found[1]
