"""Results by digest: what a part of a run yields is kept under the digest of all that it depends on, and used again."""

import hashlib
import threading
from dataclasses import fields, is_dataclass

import numpy as np
from cachetools import LRUCache

MOST_BYTES = 2**30
"""What is kept at the most, where nobody says otherwise."""


def digest_of(*values):
    """A short name for values: numbers, texts, bytes, arrays, None, and tuples, lists, sets, dicts and dataclasses of such."""
    hasher = hashlib.blake2b(digest_size=16)
    _feed(hasher, values)
    return hasher.hexdigest()


def _feed(hasher, value):
    if isinstance(value, np.ndarray):
        hasher.update(f"a{value.dtype.str}{value.shape}".encode())
        hasher.update(np.ascontiguousarray(value).tobytes())
    elif isinstance(value, bytes):
        hasher.update(b"b%d:" % len(value) + value)
    elif isinstance(value, dict):
        _feed(hasher, sorted(value.items()))
    elif isinstance(value, set | frozenset):
        _feed(hasher, sorted(value))
    elif isinstance(value, tuple | list):
        hasher.update(b"(%d" % len(value))
        for each in value:
            _feed(hasher, each)
    elif is_dataclass(value):
        _feed(hasher, [type(value).__name__, *(getattr(value, field.name) for field in fields(value))])
    elif isinstance(value, str):
        text = value.encode("utf-8", "surrogatepass")
        hasher.update(b"s%d:" % len(text) + text)
    else:
        # Numbers and None: what Python writes of a float reads back as the same float. NumPy's numbers write as Python's.
        plain = value.item() if isinstance(value, np.generic) else value
        hasher.update(f"n{type(plain).__name__}{plain!r};".encode())


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
        self.hits = self.misses = 0

    def get(self, *key):
        """What is kept under a key, or None. It must not be changed."""
        with self._lock:
            found = self._store.get(key)
            self.hits, self.misses = self.hits + (found is not None), self.misses + (found is None)
            return found

    def put(self, value, *key):
        """Keep a value; one that is larger than the whole bound is let go."""
        with self._lock:
            if bytes_of(value) <= self._store.maxsize:
                self._store[key] = value

    @property
    def bytes(self):
        """How much is kept."""
        return self._store.currsize

    def clear(self):
        """Forget everything."""
        with self._lock:
            self._store.clear()
