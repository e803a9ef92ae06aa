"""Results by digest: what a part of a run yields is kept under the digest of all that it depends on, and used again."""

import threading

import numpy as np
from cachetools import LRUCache

MOST_BYTES = 2**30
"""What is kept at the most, where nobody says otherwise."""


def bytes_of(value):
    """How much memory arrays in tuples, lists and dicts take."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, dict):
        return sum(bytes_of(each) for each in value.values())
    if isinstance(value, tuple | list):
        return sum(bytes_of(each) for each in value)
    return 64


class Results:
    """A bounded store: {(digest, first frame, end frame): outputs and the state after them}; the least recently used go first."""

    def __init__(self, most_bytes=MOST_BYTES):
        self._store = LRUCache(max(most_bytes, 1), getsizeof=bytes_of)
        self._lock = threading.Lock()
        self.hits = 0

    def get(self, *key):
        """What is kept under a key, or None. It must not be changed."""
        with self._lock:
            found = self._store.get(key)
            self.hits += found is not None
            return found

    def put(self, value, *key):
        """Keep a value; one that is larger than the whole bound is let go."""
        with self._lock:
            if bytes_of(value) <= self._store.maxsize:
                self._store[key] = value

    def clear(self):
        """Keep nothing of what is there."""
        with self._lock:
            self._store.clear()

    @property
    def bytes(self):
        """How much is kept."""
        return self._store.currsize
