"""The parts of a glTF document that are read, with the types of their fields: the one place where those are checked.

Every part is checked by itself, so that all that is wrong with a file is listed. What is not declared here is kept, not read.
"""

import re
from typing import Annotated

import msgspec
from msgspec import Meta, Struct

from quiver.errors import BadFormat, Finding

LARGEST = 1e12
"""No number of a node is larger than that."""
MOST_LISTED = 200
"""Findings about the structure that are listed; of more, only how many."""
HINT = "Export the file again from where it was made."

Index = Annotated[int, Meta(ge=0, le=2**31 - 1)]
Size = Annotated[int, Meta(ge=0, le=2**53)]
Number = Annotated[float, Meta(ge=-LARGEST, le=LARGEST)]


class Node(Struct, frozen=True):
    name: str | None = None
    children: tuple[Index, ...] = ()
    mesh: Index | None = None
    skin: Index | None = None
    matrix: Annotated[tuple[Number, ...], Meta(min_length=16, max_length=16)] | None = None
    translation: tuple[Number, Number, Number] | None = None
    rotation: tuple[Number, Number, Number, Number] | None = None
    scale: tuple[Number, Number, Number] | None = None


class Primitive(Struct, frozen=True):
    attributes: dict[str, Index] = {}
    indices: Index | None = None
    mode: Index = 4


class Mesh(Struct, frozen=True):
    name: str | None = None
    primitives: tuple[Primitive, ...] = ()


class Skin(Struct, frozen=True, rename="camel"):
    joints: Annotated[tuple[Index, ...], Meta(min_length=1)]
    inverse_bind_matrices: Index | None = None


class SparsePart(Struct, frozen=True, rename="camel"):
    buffer_view: Index
    byte_offset: Size = 0


class SparseIndices(SparsePart, frozen=True, rename="camel", kw_only=True):
    component_type: Index


class Sparse(Struct, frozen=True):
    count: Annotated[int, Meta(ge=1, le=2**40)]
    indices: SparseIndices
    values: SparsePart


class Accessor(Struct, frozen=True, rename="camel", kw_only=True):
    component_type: Index
    count: Annotated[int, Meta(ge=1, le=2**40)]
    type: str
    buffer_view: Index | None = None
    byte_offset: Size = 0
    normalized: bool = False
    sparse: Sparse | None = None


class BufferView(Struct, frozen=True, rename="camel"):
    buffer: Index
    byte_length: Size
    byte_offset: Size = 0
    byte_stride: Annotated[int, Meta(ge=1, le=2**20)] | None = None


class Buffer(Struct, frozen=True, rename="camel"):
    byte_length: Size
    uri: str | None = None


class Image(Struct, frozen=True):
    uri: str | None = None


class Target(Struct, frozen=True):
    path: str
    node: Index | None = None


class AnimationChannel(Struct, frozen=True):
    sampler: Index
    target: Target


class Sampler(Struct, frozen=True):
    input: Index
    output: Index
    interpolation: str = "LINEAR"


class Animation(Struct, frozen=True):
    name: str | None = None
    samplers: tuple[Sampler, ...] = ()
    channels: tuple[AnimationChannel, ...] = ()


PARTS = {
    "nodes": Node,
    "meshes": Mesh,
    "skins": Skin,
    "accessors": Accessor,
    "bufferViews": BufferView,
    "buffers": Buffer,
    "images": Image,
    "animations": Animation,
}


def read_parts(tree):
    """{name: list of its parts} of a document's tree. Raises BadFormat with all findings."""
    findings, parts = [], {}
    for name, kind in PARTS.items():
        items = tree.get(name, [])
        if not isinstance(items, list):
            findings.append(_finding(f"expected “{name}” to be a list, got {type(items).__name__}", name))
            items = []
        parts[name] = []
        for index, item in enumerate(items):
            try:
                parts[name].append(msgspec.convert(item, kind))
            except (msgspec.ValidationError, OverflowError) as error:
                message, _, place = str(error).partition(" - at `$")
                text = re.sub("`", "", message[:1].lower() + message[1:])
                findings.append(_finding(text, f"{name}[{index}]{place.rstrip('`')}"))
    if findings:
        more = len(findings) - MOST_LISTED
        listed = findings[:MOST_LISTED]
        if more > 0:
            listed.append(Finding("refused", f"{more} more parts are wrong", "", "file", "wrong-type"))
        raise BadFormat(f"{findings[0].message} ({findings[0].where})", listed)
    return parts


def _finding(message, where):
    return Finding("refused", message, HINT, where, "wrong-type")
