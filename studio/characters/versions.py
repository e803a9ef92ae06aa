"""Setup versions as they are stored: small documents, in which whatever is long stands as the digest of a blob that is stored once."""

import hashlib
import json
import threading
import zlib

from cachetools import LRUCache

from quiver.setup import document as setup_document

LONG = 256
"""Texts from so many characters on are blobs."""
KEPT_SETUPS = 64
LONG_FIELDS = {"regions": ("values",), "layers": ("built", "form")}
"""Fields of the parts of a document that can be long; a form's mesh is inside of it."""


def packed(setup):
    """(bytes of the small document, {digest: long text})."""
    document, blobs = setup_document.to_document(setup), {}
    for part, names in LONG_FIELDS.items():
        for item in document.get(part, ()):
            for name in names:
                if isinstance(item.get(name), dict):
                    _take_out(item[name], "mesh", blobs)
                else:
                    _take_out(item, name, blobs)
    return zlib.compress(json.dumps(document, separators=(",", ":"), ensure_ascii=False).encode(), 9), blobs


def _take_out(item, name, blobs):
    text = item.get(name)
    if isinstance(text, str) and len(text) >= LONG:
        digest = hashlib.sha256(text.encode()).hexdigest()
        blobs[digest] = text
        item[name] = {"blob": digest}


_parsed = LRUCache(KEPT_SETUPS)
_lock = threading.Lock()


def setup_of(data, read_texts):
    """The Setup of a small document, parsed once: what it says, digests and all, is what it is. ``read_texts()`` gives the long texts."""
    with _lock:
        known = _parsed.get(data)
    if known is None:
        known = unpacked(data, read_texts())
        with _lock:
            _parsed[data] = known
    return known


def unpacked(data, texts):
    """The Setup of a small document; texts {digest: long text}."""

    def whole(value):
        if isinstance(value, dict):
            return texts[value["blob"]] if value.keys() == {"blob"} else {key: whole(each) for key, each in value.items()}
        return [whole(each) for each in value] if isinstance(value, list) else value

    return setup_document.from_document(whole(json.loads(zlib.decompress(data))))


def text_bytes(text):
    """A long text as it is stored."""
    return zlib.compress(text.encode(), 6)


def bytes_text(data):
    """The text again."""
    return zlib.decompress(bytes(data)).decode()
