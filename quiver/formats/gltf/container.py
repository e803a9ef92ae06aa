"""The outer shell of glTF 2.0: GLB chunks or JSON with data URIs, kept whole so that what is not touched goes out as it came in."""

import base64
import binascii
import copy
import json
import re
import struct
from dataclasses import dataclass, field

from quiver.errors import BadFormat, Finding
from quiver.formats.gltf.structure import read_parts

GLB_MAGIC = 0x46546C67
JSON_CHUNK, BINARY_CHUNK = 0x4E4F534A, 0x004E4942
PART_BYTES = 2**20
LONE_SURROGATE = re.compile(rb"\\u[dD][89a-fA-F]")
LARGEST_FILE = 256 * 2**20
"""Bytes; far above any character, far below what would fill the memory of a small machine."""


@dataclass
class Document:
    """A glTF asset: its JSON as plain Python values and its buffers as bytes. ``is_binary`` says whether it came as GLB.

    ``tail`` are bytes that come after those of the first buffer: what was added and is too big to be copied. It is written, not read.
    ``parts`` are those of the tree that are read, checked (structure.py); ``arrays`` accessors that were read already.
    """

    tree: dict
    buffers: list = field(default_factory=list)
    is_binary: bool = True
    tail: list = field(default_factory=list)
    parts: dict = field(default_factory=dict)
    arrays: dict = field(default_factory=dict)

    def length_of(self, index):
        """How many bytes a buffer has."""
        return len(self.buffers[index]) + (sum(map(len, self.tail)) if index == 0 else 0)

    def copy(self):
        """A copy that can be added to; the buffers' bytes are shared until one grows."""
        return Document(copy.deepcopy(self.tree), [bytes(buffer) for buffer in self.buffers], self.is_binary, list(self.tail), self.parts)

    def check(self):
        """Check the parts of the tree anew, after it was changed by hand. Raises BadFormat."""
        self.parts, self.arrays = read_parts(self.tree), {}

    @property
    def byte_count(self):
        """How many bytes all buffers have."""
        return sum(map(len, self.buffers))


def refused(identifier, message, where, hint="Export the file again from where it was made."):
    """A BadFormat with one finding."""
    return BadFormat(message, [Finding("refused", message, hint, where, identifier)])


def parse(data):
    """Read GLB or glTF JSON from bytes. Raises BadFormat: too large, broken, cut short, or pointing outside itself."""
    if len(data) > LARGEST_FILE:
        raise refused("too-large", f"expected at most {LARGEST_FILE >> 20} MB, got {len(data) / 2**20:.0f} MB", "file")
    if data[:4] == b"glTF":
        json_bytes, binary = _split_chunks(data)
    elif data.lstrip()[:1] == b"{":
        json_bytes, binary = data, None
    else:
        raise refused(
            "not-gltf", "expected a GLB or glTF 2.0 file, got something else", "file", "Choose a file that ends in .glb or .gltf."
        )
    try:
        tree = json.loads(json_bytes.decode("utf-8"), parse_constant=_no_constant)
    except (UnicodeDecodeError, ValueError, RecursionError) as error:
        raise refused("broken-json", f"expected glTF's JSON, could not read it: {str(error)[:200]}", "file") from error
    if LONE_SURROGATE.search(json_bytes):
        tree = _without_surrogates(tree)
    if not isinstance(tree, dict):
        raise refused("broken-json", "expected a JSON object at the top of the file", "file")
    version = tree.get("asset", {}).get("version") if isinstance(tree.get("asset"), dict) else None
    if not isinstance(version, str) or not version.startswith("2."):
        raise refused("version", f"expected glTF version 2, got {version!r}", "asset.version")
    document = Document(tree, [], binary is not None, parts=read_parts(tree))
    for index, buffer in enumerate(document.parts["buffers"]):
        document.buffers.append(_buffer_bytes(buffer, index, binary))
    for index, image in enumerate(document.parts["images"]):
        if image.uri is not None:
            _data_uri(image.uri, f"images[{index}].uri")
    return document


def _without_surrogates(value):
    """The same JSON values with texts that can be written: half a character is replaced."""
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, dict):
        return {_without_surrogates(key): _without_surrogates(each) for key, each in value.items()}
    return [_without_surrogates(each) for each in value] if isinstance(value, list) else value


def write_glb(document):
    """The document as GLB bytes: the first buffer as the binary chunk, others as data URIs."""
    return b"".join(glb_parts(document))


def glb_parts(document):
    """The same in parts, none of them large, so that a big file need not be in memory twice."""
    tree = copy.deepcopy(document.tree)
    for index, buffer in enumerate(tree.get("buffers", [])):
        buffer.pop("uri", None)
        buffer["byteLength"] = document.length_of(index)
        if index > 0:
            buffer["uri"] = _as_data_uri(document.buffers[index])
    text = json.dumps(tree, separators=(",", ":"), ensure_ascii=False).encode()
    text += b" " * (-len(text) % 4)
    size = document.length_of(0) if document.buffers else 0
    padding = b"\0" * (-size % 4)
    total = 12 + 8 + len(text) + (8 + size + len(padding) if document.buffers else 0)
    yield struct.pack("<III", GLB_MAGIC, 2, total) + struct.pack("<II", len(text), JSON_CHUNK)
    yield text
    if document.buffers:
        yield struct.pack("<II", size + len(padding), BINARY_CHUNK)
        for binary in (document.buffers[0], *document.tail):
            for start in range(0, len(binary), PART_BYTES):
                yield memoryview(binary)[start : start + PART_BYTES]
        yield padding


def write_gltf(document):
    """The document as glTF JSON bytes, all buffers as data URIs."""
    tree = copy.deepcopy(document.tree)
    for index, buffer in enumerate(tree.get("buffers", [])):
        buffer["byteLength"] = document.length_of(index)
        buffer["uri"] = _as_data_uri(b"".join([document.buffers[index], *(document.tail if index == 0 else [])]))
    return json.dumps(tree, indent=1, ensure_ascii=False).encode()


def _split_chunks(data):
    if len(data) < 20:
        raise refused("cut-short", f"expected a GLB of at least 20 bytes, got {len(data)}", "file")
    _, version, total = struct.unpack_from("<III", data)
    if version != 2:
        raise refused("version", f"expected GLB version 2, got {version}", "file")
    if total > len(data):
        raise refused("cut-short", f"expected {total} bytes as the file itself says, got {len(data)}", "file", "Copy the file again.")
    json_bytes, binary, at = None, b"", 12
    while at + 8 <= total:
        length, kind = struct.unpack_from("<II", data, at)
        if at + 8 + length > total:
            raise refused("cut-short", "a chunk of the file is longer than the file", f"byte {at}", "Copy the file again.")
        content = data[at + 8 : at + 8 + length]
        if kind == JSON_CHUNK and json_bytes is None:
            json_bytes = content
        elif kind == BINARY_CHUNK and not binary:
            binary = content
        at += 8 + length
    if json_bytes is None:
        raise refused("broken-json", "expected a JSON chunk in the GLB, found none", "file")
    return json_bytes, binary


def _buffer_bytes(buffer, index, binary):
    where = f"buffers[{index}]"
    expected = buffer.byte_length
    if expected > LARGEST_FILE:
        raise refused("absurd-size", f"expected a buffer of 0 to {LARGEST_FILE} bytes, got {expected}", where)
    if buffer.uri is not None:
        content = _data_uri(buffer.uri, f"{where}.uri")
    elif index == 0 and binary is not None:
        content = binary
    else:
        raise refused("missing-bytes", "expected the buffer's bytes in the file, found none", where)
    if len(content) < expected:
        raise refused("missing-bytes", f"expected {expected} bytes, got {len(content)}", where, "Copy the file again.")
    return bytes(content[:expected])


def _data_uri(uri, where):
    if not uri.startswith("data:"):
        shown = str(uri)[:60]
        hint = "Export as one GLB, or with everything embedded."
        raise refused("outside-uri", f"expected the data inside the file, got a reference to “{shown}”", where, hint)
    _, comma, payload = uri.partition(",")
    try:
        return base64.b64decode(payload, validate=True) if comma else b""
    except (binascii.Error, ValueError) as error:
        raise refused("broken-data-uri", f"expected base64 data: {error}", where) from error


def _as_data_uri(content):
    return "data:application/octet-stream;base64," + base64.b64encode(content).decode()


def _no_constant(name):
    raise ValueError(f"{name} is not a number that JSON allows")
