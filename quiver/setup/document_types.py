"""What the parts of a setup's document are made of: bounds, types of fields, and how a fault is said."""

from dataclasses import fields
from typing import Annotated

import msgspec
from msgspec import Meta

from quiver.errors import BadInput

LARGEST_DOCUMENT = 16 * 2**20
MOST_LAYERS, MOST_CHAINS, MOST_VERTICES, MOST_KEYS = 500, 5000, 5_000_000, 10_000
MOST_MUSCLES, MOST_DRIVERS = 1000, 16
FAR = 1e7
"""No place or size in a document is larger than that [file units]."""
SHOWN = 80
"""So much of a wrong value is quoted."""

Name = Annotated[str, Meta(max_length=400)]
Identifier = Annotated[str, Meta(pattern="^[a-z0-9][a-z0-9-]{0,99}$", description="a-z, 0-9 and -")]
Number = Annotated[float, Meta(ge=-FAR, le=FAR)]
Three = tuple[Number, Number, Number]
Turn = Annotated[tuple[Number, Number, Number, Number], Meta(description="A quaternion x y z w.")]
Ids = Annotated[tuple[Name, ...], Meta(max_length=MOST_LAYERS)]
Packed = Annotated[str, Meta(max_length=LARGEST_DOCUMENT, extra_json_schema={"contentEncoding": "base64"})]


class Strict(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Unknown fields are refused; fields at their default are left out."""


def values_of_item(item):
    return {field.name: getattr(item, field.name) for field in fields(item)}


def plain_of(struct):
    return msgspec.json.decode(msgspec.json.encode(struct))


def expect(is_right, where, expected, got):
    if not is_right:
        raise BadInput(f"{where}: expected {expected}, got {str(got)[:SHOWN]!r}")
