"""The setup as a document: JSON out, JSON in with the place of a fault, and its JSON Schema, all from the declarations below.

What a layer's document holds is declared by its kind (quiver/layers); documents of version 1 are read too (quiver/setup/upgrades.py).
"""

import itertools
import json
import math
import re
from functools import lru_cache
from typing import Annotated, Literal, Union

import msgspec
from msgspec import Meta

from quiver import colliders as shapes
from quiver import layers as registry
from quiver.colliders import SIZES, Collider
from quiver.dials import AMOUNT
from quiver.errors import BadInput
from quiver.layers.kinds import JOINTS, MUSCLES
from quiver.mesh import regions as levels
from quiver.setup.document_muscles import MOST_MUSCLES, MuscleDocument, muscle_plain, read_muscle
from quiver.setup.document_types import (
    FAR,
    LARGEST_DOCUMENT,
    MOST_CHAINS,
    MOST_KEYS,
    MOST_LAYERS,
    MOST_VERTICES,
    SHOWN,
    Identifier,
    Ids,
    Name,
    Number,
    Packed,
    Strict,
    Three,
    Turn,
    expect,
    plain_of,
    values_of_item,
)
from quiver.setup.model import (
    FOLLOWER,
    FORMS,
    LAYER,
    MOST_FOLLOWED,
    SCENE_DIALS,
    ChainPick,
    Follower,
    Form,
    Layer,
    Override,
    Region,
    Setup,
)
from quiver.setup.upgrades import upgraded

FORMAT, VERSION = "keen-quiver-setup", 2
Key = tuple[Number, Annotated[float, Meta(ge=AMOUNT.low, le=AMOUNT.high, description=AMOUNT.description)]]
Amount = Annotated[tuple[Key, ...], Meta(min_length=1, max_length=MOST_KEYS, description="Keys of frame and value, frames rising.")]


class ChainDocument(Strict):
    """A root with an optional end, or a list of picked joints."""

    root: Name = ""
    end: Name = ""
    picked: Annotated[tuple[Name, ...], Meta(max_length=MOST_CHAINS)] = ()
    branches: bool = False


class FormDocument(Strict):
    """A surface placed by hand in the rest pose; mesh is an own one, deflated (zlib)."""

    shape: Literal[tuple(FORMS)]
    place: Three
    size: Annotated[tuple[Annotated[float, Meta(gt=0.0, le=FAR)], ...], Meta(min_length=3, max_length=3)]
    turn: Turn = (0.0, 0.0, 0.0, 1.0)
    mesh: Packed = ""


class RegionDocument(Strict):
    """A named area of one mesh. values: one byte a vertex, deflated (zlib): 0..254 in with influence value / 254, 255 out."""

    id: Identifier
    mesh: Name
    vertices: Annotated[int, Meta(ge=1, le=MOST_VERTICES)]
    values: Packed
    name: Name | None = None
    is_final: Annotated[bool, Meta(description="Whether it is the mesh's final skin.")] = msgspec.field(name="final", default=False)


class OverrideDocument(Strict):
    """A dial of a layer that has another value on one clip."""

    clip: Name
    layer: Identifier
    dial: Name
    value: float | Name


class FollowerDocument(Strict):
    """A frame that rides on picked vertices of a mesh."""

    id: Identifier
    mesh: Name
    vertices: Annotated[tuple[Annotated[int, Meta(ge=0, lt=MOST_VERTICES)], ...], Meta(min_length=1, max_length=MOST_FOLLOWED)]
    name: Name | None = None


def _dials_document(name, dials):
    """The struct of some dials, each at its default where it is left out."""
    return msgspec.defstruct(name, map(_dial_field, dials), frozen=True, kw_only=True, forbid_unknown_fields=True)


def _dial_field(dial):
    if dial.is_choice:
        kind = Annotated[Literal[tuple(option for option, _ in dial.options)], Meta(description=dial.description)]
    else:
        kind = Annotated[float, Meta(ge=dial.low, le=dial.high, description=dial.description)]
    return dial.name, kind, dial.default


ColliderDials = _dials_document("ColliderDials", shapes.DIALS)


class ColliderDocument(Strict):
    """A shape in the rest pose of the world that rides on a joint, or stands still."""

    id: Identifier
    shape: Literal[tuple(SIZES)]
    size: Annotated[
        tuple[Annotated[float, Meta(ge=0.0, le=FAR)], ...],
        Meta(description="; ".join(f"{shape}: {', '.join(sizes) or 'none'}" for shape, sizes in SIZES.items())),
    ]
    name: Name | None = None
    joint: Name = ""
    is_on: bool = msgspec.field(name="on", default=True)
    place: Three = (0.0, 0.0, 0.0)
    turn: Turn = (0.0, 0.0, 0.0, 1.0)
    meets: Annotated[Ids, Meta(description="Layers that collide with it though they would not by default.")] = ()
    spares: Annotated[Ids, Meta(description="Layers that do not collide with it though they would by default.")] = ()
    mesh: Annotated[Name, Meta(description="The mesh of a skin, or of a simplified body.")] = ""
    dials: ColliderDials = msgspec.field(default_factory=ColliderDials)


_FIELD_TYPES = {
    "rides": (Annotated[Name, Meta(description=f"The id of a soft volume, or {FOLLOWER}: and a follower's id, that it follows.")], ""),
    "built": (Annotated[Packed, Meta(description="A conforming solid, deflated (zlib).")], ""),
    "other": (Annotated[Name, Meta(description="The region that it is kept from; without one, the rest of the mesh.")], ""),
    "form": (FormDocument | None, None),
    "bones": (Annotated[Ids, Meta(description="Meshes, each of which moves with one joint, that it keeps off.")], ()),
    "rests": (Annotated[tuple[Name, Number] | None, Meta(description="A clip and its frame, in which they rest.")], None),
    "fat": (Annotated[Name, Meta(description="The id of a region that says where it is thicker.")], ""),
    "clings": (Annotated[Name, Meta(description="The id of a region: little influence sticks, half slides, full is free.")], ""),
    "leaves_out": (Annotated[Name, Meta(description=f"A region that it leaves out, or {LAYER}: and the id of a layer.")], ""),
}


def _layer_document(kind):
    """The struct of a kind's layers, tagged by the kind's name."""
    made_of = ("chains", Annotated[tuple[ChainDocument, ...], Meta(min_length=1, max_length=MOST_CHAINS)])
    if kind.made_of == MUSCLES:
        made_of = ("muscles", Annotated[tuple[MuscleDocument, ...], Meta(max_length=MOST_MUSCLES)])
    elif kind.made_of != JOINTS:
        made_of = ("region", Annotated[Name, Meta(description="The id of the region that it is made of.")])
    words = "".join(part.capitalize() for part in kind.name.split("_"))
    dials = _dials_document(f"{words}Dials", kind.dials)
    declared = [
        ("id", Identifier),
        ("name", Name | None, None),
        ("on", bool, True),
        made_of,
        *((name, *_FIELD_TYPES[name]) for name in sorted(kind.fields)),
        ("dials", dials, msgspec.field(default_factory=dials)),
        ("amount", Amount, ((0.0, 1.0),)),
        ("group", Annotated[Name, Meta(description="Layers in a row with the same group stand together.")], ""),
        ("link", Annotated[Name, Meta(description="Layers with the same link share their dials, amount and switch.")], ""),
    ]
    options = {"tag_field": "kind", "tag": kind.name, "frozen": True, "kw_only": True, "forbid_unknown_fields": True}
    return msgspec.defstruct(f"{words}Layer", declared, **options, omit_defaults=True)


@lru_cache(maxsize=8)
def _setup_document(kinds):
    """The struct of a whole setup whose layers are of some kinds."""
    layer_types = Union[tuple(_layer_document(kind) for kind in kinds)]  # noqa: UP007 - the kinds are known at run time only
    several = Meta(max_length=MOST_LAYERS)
    declared = [
        ("format", Literal[FORMAT]),
        ("version", Literal[VERSION]),
        *map(_dial_field, SCENE_DIALS),
        ("watch_skin", Annotated[bool, Meta(description="Whether takes measure the penetration of the whole skin.")], False),
        ("cycles", Annotated[tuple[Name, ...], several, Meta(description="Clips that are run around until the motion repeats.")], ()),
        ("overrides", Annotated[tuple[OverrideDocument, ...], several, Meta(description="Dials with another value on one clip.")], ()),
        ("regions", Annotated[tuple[RegionDocument, ...], several], ()),
        ("colliders", Annotated[tuple[ColliderDocument, ...], several], ()),
        ("followers", Annotated[tuple[FollowerDocument, ...], several], ()),
        ("layers", Annotated[tuple[layer_types, ...], several]),
        ("schema", str, msgspec.field(name="$schema", default="")),
    ]
    return msgspec.defstruct("SetupDocument", declared, frozen=True, kw_only=True, forbid_unknown_fields=True)


def to_document(setup):
    """The setup as plain JSON values, every dial written out."""
    document = {"format": FORMAT, "version": VERSION, **{dial.name: getattr(setup, dial.name) for dial in SCENE_DIALS}}
    if setup.watches_skin:
        document["watch_skin"] = True
    known = {layer.id for layer in setup.layers}
    if any(each.layer in known for each in setup.overrides):
        document["overrides"] = [plain_of(OverrideDocument(**values_of_item(each))) for each in setup.overrides if each.layer in known]
    if setup.cycles:
        document["cycles"] = list(setup.cycles)
    document["regions"] = [plain_of(RegionDocument(**values_of_item(region))) for region in setup.regions]
    document["colliders"] = [plain_of(_collider_document(collider)) for collider in setup.colliders]
    if setup.followers:
        document["followers"] = [plain_of(FollowerDocument(**values_of_item(each))) for each in setup.followers]
    document["layers"] = [_layer_plain(layer) for layer in setup.layers]
    return document


def _read_override(plain, layers):
    kinds = {layer.id: type(layer).__struct_config__.tag for layer in layers}
    if plain.layer not in kinds:
        raise BadInput(f"overrides: expected the id of a layer, got “{plain.layer[:SHOWN]}”")
    return Override(plain.clip, plain.layer, plain.dial, registry.kind_of(kinds[plain.layer]).dial(plain.dial).checked(plain.value))


def _collider_document(collider):
    given = values_of_item(collider)
    return ColliderDocument(**given | {"dials": ColliderDials(**shapes.DEFAULTS | given.pop("values"))})


def _layer_plain(layer):
    kind = registry.kind_of(layer.kind)
    plain = {"kind": layer.kind, "id": layer.id, "name": layer.name, "on": layer.is_on}
    if kind.made_of == JOINTS:
        plain["chains"] = [plain_of(ChainDocument(**values_of_item(chain))) for chain in layer.chains]
    elif kind.made_of == MUSCLES:
        plain["muscles"] = [muscle_plain(muscle) for muscle in layer.muscles]
    else:
        plain["region"] = layer.region
    for name in sorted(kind.fields):
        value = getattr(layer, name)
        if value:
            plain[name] = (
                plain_of(FormDocument(**values_of_item(value))) if name == "form" else list(value) if isinstance(value, tuple) else value
            )
    plain |= {"dials": kind.defaults | layer.values, "amount": [list(key) for key in layer.amount]}
    return plain | {name: getattr(layer, name) for name in ("group", "link") if getattr(layer, name)}


def dumps(setup):
    """The setup as JSON text."""
    return json.dumps(to_document(setup), indent=2, ensure_ascii=False)


def loads(text):
    """Read a setup from JSON text or bytes. Raises BadInput."""
    if len(text) > LARGEST_DOCUMENT:
        raise BadInput(f"expected a setup of at most {LARGEST_DOCUMENT >> 20} MB, got {len(text) / 2**20:.1f} MB")
    try:
        plain = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadInput(f"expected a setup as JSON, could not read it: {str(error)[:SHOWN]}") from error
    return from_document(plain)


def from_document(plain):
    """Check plain JSON values and make a Setup of them. Raises BadInput with the place of the fault."""
    plain = upgraded(plain, VERSION)
    try:
        document = msgspec.convert(plain, _setup_document(registry.kinds()))
    except (msgspec.ValidationError, OverflowError) as error:
        raise BadInput(_in_words(str(error), plain)) from error
    setup = Setup(
        layers=tuple(_read_layer(layer, f"layers[{index}]") for index, layer in enumerate(document.layers)),
        **{dial.name: getattr(document, dial.name) for dial in SCENE_DIALS},
        watches_skin=document.watch_skin,
        cycles=document.cycles,
        overrides=tuple(_read_override(each, document.layers) for each in document.overrides),
        regions=tuple(_read_region(region) for region in document.regions),
        colliders=tuple(_read_collider(each, f"colliders[{index}]") for index, each in enumerate(document.colliders)),
        followers=tuple(Follower(each.id, each.name or each.id, each.mesh, each.vertices) for each in document.followers),
    )
    _check_whole(setup)
    return setup


def read_amount(keys, where="amount"):
    """Check amount keys ((frame, value), ...) in the order of frames. Raises BadInput."""
    try:
        read = msgspec.convert(keys, Amount)
    except msgspec.ValidationError as error:
        raise BadInput(f"{where}: {_in_words(str(error), keys, msgspec.json.schema(Amount))}") from error
    expect(all(a[0] < b[0] for a, b in itertools.pairwise(read)), where, "frames in rising order", keys)
    return read


def _read_layer(document, where):
    kind = registry.kind_of(document.__struct_config__.tag)
    muscles = tuple(read_muscle(each, kind, f"{where}.muscles[{at}]") for at, each in enumerate(getattr(document, "muscles", ())))
    chains = tuple(_read_chain(chain, f"{where}.chains[{at}]") for at, chain in enumerate(getattr(document, "chains", ())))
    form = getattr(document, "form", None)
    plain = {name: getattr(document, name) for name in kind.fields if name != "form"}
    return Layer(
        document.id,
        document.name or document.id,
        kind.name,
        document.on,
        chains,
        msgspec.structs.asdict(document.dials),
        read_amount(document.amount, f"{where}.amount"),
        region=getattr(document, "region", ""),
        group=document.group,
        link=document.link,
        form=_read_form(form, f"{where}.form") if form else None,
        muscles=muscles,
        **plain,
    )


def _read_chain(chain, where):
    expect(bool(chain.picked) != bool(chain.root), where, "either a root or picked joints", chain.picked)
    return ChainPick(chain.root, chain.end, chain.picked, chain.branches)


def _read_form(form, where):
    expect(bool(form.mesh) == (form.shape == "own"), f"{where}.mesh", "a mesh in an own one alone", form.shape)
    return Form(form.shape, form.place, _unit(form.turn, f"{where}.turn"), form.size, form.mesh)


def _read_region(region):
    levels.decode(region.values, region.vertices)
    return Region(region.id, region.name or region.id, region.mesh, region.vertices, region.values, region.is_final)


def _read_collider(each, where):
    expect(len(each.size) == len(SIZES[each.shape]), f"{where}.size", f"a list of {len(SIZES[each.shape])} numbers", each.size)
    given = {name: getattr(each, name) for name in ("shape", "joint", "place", "size", "is_on", "meets", "spares", "mesh")}
    turn, values = _unit(each.turn, f"{where}.turn"), msgspec.structs.asdict(each.dials)
    return Collider(each.id, each.name or each.id, turn=turn, values=values, **given)


def _unit(turn, where):
    length = math.sqrt(sum(number * number for number in turn))
    expect(length > 1e-6, where, "a quaternion that is not zero", turn)
    return tuple(number / length for number in turn)


def _check_whole(setup):
    """What concerns several parts of a setup: ids, and what refers to them. Raises BadInput."""
    for what in ("layers", "regions", "colliders", "followers"):
        ids = [each.id for each in getattr(setup, what)]
        expect(len(set(ids)) == len(ids), what, "a different id for each", ids)
    finals = [region.mesh for region in setup.regions if region.is_final]
    expect(len(set(finals)) == len(finals), "regions", "one final skin for a mesh", finals)
    carriers = [layer.id for layer in setup.layers if registry.kind_of(layer.kind).carries]
    carriers += [f"{FOLLOWER}:{follower.id}" for follower in setup.followers]
    for index, layer in enumerate(setup.layers):
        for identifier in layer.regions:
            setup.region(identifier)
        own = [muscle.id for muscle in layer.muscles]
        expect(len(set(own)) == len(own), f"layers[{index}].muscles", "a different id for each", own)
        if layer.leaves_out.startswith(f"{LAYER}:"):
            setup.layer(layer.leaves_out.removeprefix(f"{LAYER}:"))
        wanted = f"the id of a soft volume, or {FOLLOWER}: and the id of one"
        expect(not layer.rides or layer.rides in carriers, f"layers[{index}].rides", wanted, layer.rides)


def _in_words(text, plain, schema=None):
    """A message of the validation in words: the place, what its schema expects there, and what came."""
    message, _, place = text.partition(" - at `")
    where, got, node = place.rstrip("`").removeprefix("$").removeprefix("."), plain, schema or json_schema()
    root = node
    for index, name in re.findall(r"\[(\d+)\]|([^.\[\]`]+)", where):
        node = _below(root, node, got, int(index) if index else name)
        try:
            got = got[int(index)] if index else got[name]
        except (KeyError, IndexError, TypeError):
            got = None
    if "field `" in message:
        name, is_missing = message.split("`")[1], "missing" in message
        known = ", ".join(sorted(_resolved(root, node, got).get("properties", {})))
        words = f"expected “{name}”, it is missing" if is_missing else f"expected only {known}, got “{name}”"
        return f"{where or 'the setup'}: {words}"
    return f"{where or 'the setup'}: expected {_wanted(_resolved(root, node, got))}, got {str(got)[:SHOWN]!r}"


def _resolved(root, node, value):
    """A node of a schema, with references followed, and of several forms the one that a value claims to be."""
    while True:
        if "$ref" in node:
            node = root["$defs"][node["$ref"].rpartition("/")[2]]
        elif "discriminator" in node and isinstance(value, dict):
            chosen = node["discriminator"]["mapping"].get(value.get(node["discriminator"]["propertyName"]))
            if chosen is None:
                return {"enum": sorted(node["discriminator"]["mapping"])}
            node = {"$ref": chosen}
        elif "anyOf" in node and "discriminator" not in node:
            node = node["anyOf"][0]
        else:
            return node


def _below(root, node, value, key):
    """The schema of an item or a property."""
    node = _resolved(root, node, value)
    if isinstance(key, int):
        first = node.get("prefixItems", [])
        return first[key] if key < len(first) else node.get("items") or {}
    if key == node.get("discriminator", {}).get("propertyName") or (key == "kind" and "enum" in node):
        return {"enum": sorted(node.get("enum", node.get("discriminator", {}).get("mapping", {})))}
    return node.get("properties", {}).get(key, {})


def _wanted(node):
    """What a node of a schema expects, in words."""
    if "enum" in node or "const" in node:
        return f"one of {', '.join(map(str, node.get('enum', [node.get('const')])))}"
    low, high = (node.get(f"{end}imum", node.get(f"exclusive{end.capitalize()}imum")) for end in ("min", "max"))
    kind = {"number": "a number", "integer": "a whole number", "boolean": "true or false", "object": "an object", "string": "a text"}
    words = kind.get(node.get("type"), "a list")
    if node.get("type") in ("number", "integer"):
        return words + (f" from {low:g}" if low is not None else "") + (f" to {high:g}" if high is not None else "")
    if "pattern" in node:
        return node.get("description", words)
    if node.get("type") == "array":
        fewest, most = node.get("minItems", 0), node.get("maxItems")
        return f"a list of {fewest}" if fewest == most else f"a list of {fewest} to {most}" if most else f"a list of at least {fewest}"
    return f"{words} of at most {node['maxLength']} characters" if "maxLength" in node else words


def json_schema():
    """The published JSON Schema (draft 2020-12) of the setup document."""
    schema = msgspec.json.schema(_setup_document(registry.kinds()))
    parts = schema["$defs"]
    whole = parts.pop(schema["$ref"].rpartition("/")[2])
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **whole, "title": "Keen Quiver setup", "$defs": parts}
