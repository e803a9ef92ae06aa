"""Short names for values: what has the same digest is the same."""

import hashlib
from dataclasses import fields, is_dataclass

import numpy as np


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
