"""The setup as a document: JSON out, JSON in with the place of every fault, and its schema."""

import itertools
import json
import math
import re

from quiver import dials
from quiver.colliders import SIZES, Collider
from quiver.errors import BadInput
from quiver.mesh import regions as levels
from quiver.setup import FOLLOWER, FORMS, MOST_FOLLOWED, SCENE_DIALS, ChainPick, Follower, Form, Layer, Region, Setup

FORMAT = "keen-quiver-setup"
VERSION = 1
LARGEST_DOCUMENT = 16 * 2**20
MOST_LAYERS, MOST_CHAINS, MOST_VERTICES = 500, 5000, 5_000_000
FAR = 1e7
"""No place or size in a document is larger than that [file units]."""


def to_document(setup):
    """The setup as plain JSON values."""
    return {
        "format": FORMAT,
        "version": VERSION,
        **{dial.name: getattr(setup, dial.name) for dial in SCENE_DIALS},
        **({"watch_skin": True} if setup.watches_skin else {}),
        "regions": [_region_document(region) for region in setup.regions],
        "colliders": [_collider_document(collider) for collider in setup.colliders],
        **({"followers": [{**vars(each), "vertices": list(each.vertices)} for each in setup.followers]} if setup.followers else {}),
        "layers": [_layer_document(layer) for layer in setup.layers],
    }


def _collider_document(collider):
    lists = {name: list(getattr(collider, name)) for name in ("place", "turn", "size", "meets", "spares")}
    values = {dial.name: collider.value(dial.name) for dial in dials.DIALS_OF_KIND["collider"]}
    plain = {"id": collider.id, "name": collider.name, "shape": collider.shape, "joint": collider.joint, "on": collider.is_on}
    return {**plain, **lists, **({"mesh": collider.mesh} if collider.mesh else {}), "dials": values}


def _region_document(region):
    fields = dict(vars(region))
    return fields | {"final": True} if fields.pop("is_final") else fields


def _layer_document(layer):
    def chain_document(chain):
        document = {"picked": list(chain.picked)} if chain.picked else {"root": chain.root}
        if chain.end:
            document["end"] = chain.end
        return document | ({"branches": True} if chain.branches else {})

    return {
        "id": layer.id,
        "name": layer.name,
        "kind": layer.kind,
        "on": layer.is_on,
        **({"rides": layer.rides} if layer.rides else {}),
        **({"built": layer.built} if layer.built else {}),
        **({"other": layer.other} if layer.other else {}),
        **({"form": _form_document(layer.form)} if layer.form else {}),
        **({"region": layer.region} if layer.kind in dials.REGION_KINDS else {"chains": [chain_document(chain) for chain in layer.chains]}),
        "dials": {dial.name: layer.value(dial.name) for dial in dials.DIALS_OF_KIND[layer.kind]},
        "amount": [list(key) for key in layer.amount],
    }


def _form_document(form):
    placed = {name: list(getattr(form, name)) for name in ("place", "turn", "size")}
    return {"shape": form.shape, **placed, **({"mesh": form.mesh} if form.mesh else {})}


def dumps(setup):
    """The setup as JSON text."""
    return json.dumps(to_document(setup), indent=2, ensure_ascii=False)


def loads(text):
    """Read a setup from JSON text or bytes. Raises BadInput."""
    if len(text) > LARGEST_DOCUMENT:
        raise BadInput(f"expected a setup of at most {LARGEST_DOCUMENT >> 20} MB, got {len(text) / 2**20:.1f} MB")
    try:
        return from_document(json.loads(text))
    except (ValueError, RecursionError) as error:
        raise BadInput(f"expected a setup as JSON, could not read it: {error}") from error


def from_document(document):
    """Check plain JSON values and make a Setup of them. Raises BadInput with the place of the fault."""
    _expect(isinstance(document, dict), "the setup", "an object", document)
    _expect(document.get("format") == FORMAT, "format", FORMAT, document.get("format"))
    _expect(document.get("version") == VERSION, "version", VERSION, document.get("version"))
    known = {"format", "version", "regions", "colliders", "followers", "layers", "watch_skin", "$schema"}
    _known(document, known | {dial.name for dial in SCENE_DIALS}, "the setup")
    layers = document.get("layers", [])
    _expect(isinstance(layers, list) and len(layers) <= MOST_LAYERS, "layers", f"a list of at most {MOST_LAYERS}", layers)
    read = tuple(_read_layer(layer, f"layers[{index}]") for index, layer in enumerate(layers))
    ids = [layer.id for layer in read]
    _expect(len(set(ids)) == len(ids), "layers", "a different id for each layer", ids)
    scene = {dial.name: dial.checked(document.get(dial.name, dial.default)) for dial in SCENE_DIALS}
    watches = document.get("watch_skin", False)
    _expect(isinstance(watches, bool), "watch_skin", "true or false", watches)
    areas = document.get("regions", [])
    _expect(isinstance(areas, list) and len(areas) <= MOST_LAYERS, "regions", f"a list of at most {MOST_LAYERS}", areas)
    shapes = document.get("colliders", [])
    _expect(isinstance(shapes, list) and len(shapes) <= MOST_LAYERS, "colliders", f"a list of at most {MOST_LAYERS}", shapes)
    followers = document.get("followers", [])
    _expect(isinstance(followers, list) and len(followers) <= MOST_LAYERS, "followers", f"a list of at most {MOST_LAYERS}", followers)
    setup = Setup(
        read,
        **scene,
        watches_skin=watches,
        regions=tuple(_read_region(area, f"regions[{index}]") for index, area in enumerate(areas)),
        colliders=tuple(_read_collider(shape, f"colliders[{index}]") for index, shape in enumerate(shapes)),
        followers=tuple(_read_follower(each, f"followers[{index}]") for index, each in enumerate(followers)),
    )
    ridden = [follower.id for follower in setup.followers]
    _expect(len(set(ridden)) == len(ridden), "followers", "a different id for each follower", ridden)
    named = [collider.id for collider in setup.colliders]
    _expect(len(set(named)) == len(named), "colliders", "a different id for each collider", named)
    names = [region.id for region in setup.regions]
    _expect(len(set(names)) == len(names), "regions", "a different id for each region", names)
    finals = [region.mesh for region in setup.regions if region.is_final]
    _expect(len(set(finals)) == len(finals), "regions", "one final skin for a mesh", finals)
    for index, layer in enumerate(read):
        if layer.kind in dials.REGION_KINDS:
            setup.region(layer.region)
        if layer.other:
            _expect(layer.kind == "touch", f"layers[{index}].other", "another region in a touch only", layer.kind)
            setup.region(layer.other)
        if layer.form:
            _expect(layer.kind == "sheet", f"layers[{index}].form", "a form in a sheet only", layer.kind)
        if layer.rides:
            carriers = [other.id for other in read if other.kind == "volume"] + [f"{FOLLOWER}:{each}" for each in ridden]
            where, wanted = f"layers[{index}].rides", f"the id of a volume, or {FOLLOWER}: and the id of one, in a chain or a prop"
            _expect(layer.kind in ("chain", "prop") and layer.rides in carriers, where, wanted, layer.rides)
    return setup


def _read_form(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"shape", "place", "turn", "size", "mesh"}, where)
    shape, mesh = document.get("shape"), document.get("mesh", "")
    _expect(isinstance(shape, str) and shape in FORMS, f"{where}.shape", f"one of {', '.join(FORMS)}", shape)
    _expect(isinstance(mesh, str) and bool(mesh) == (shape == "own"), f"{where}.mesh", "text, for an own mesh alone", shape)
    place, size = (_numbers(document.get(name), 3, f"{where}.{name}") for name in ("place", "size"))
    _expect(all(number > 0.0 for number in size), f"{where}.size", "three sizes above zero", size)
    return Form(shape, place, _turn(document.get("turn", [0, 0, 0, 1]), f"{where}.turn"), size, mesh)


def _turn(numbers, where):
    turn = _numbers(numbers, 4, where)
    length = math.sqrt(sum(number * number for number in turn))
    _expect(length > 1e-6, where, "a quaternion that is not zero", turn)
    return tuple(number / length for number in turn)


def _read_collider(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"id", "name", "shape", "joint", "on", "place", "turn", "size", "meets", "spares", "mesh", "dials"}, where)
    identifier, shape, is_on = _identifier(document.get("id"), where), document.get("shape"), document.get("on", True)
    _expect(isinstance(shape, str) and shape in SIZES, f"{where}.shape", f"one of {', '.join(SIZES)}", shape)
    _expect(isinstance(is_on, bool), f"{where}.on", "true or false", is_on)
    turn = _turn(document.get("turn", [0, 0, 0, 1]), f"{where}.turn")
    size = _numbers(document.get("size"), len(SIZES[shape]), f"{where}.size")
    _expect(all(number >= 0.0 for number in size), f"{where}.size", f"{', '.join(SIZES[shape])}, not negative", size)
    values = document.get("dials", {})
    _expect(isinstance(values, dict), f"{where}.dials", "an object", values)
    layers = {}
    for name in ("meets", "spares"):
        layers[name] = document.get(name, [])
        _expect(isinstance(layers[name], list) and len(layers[name]) <= MOST_LAYERS, f"{where}.{name}", "a list of layers", layers[name])
    return Collider(
        identifier,
        _text(document.get("name", identifier), f"{where}.name"),
        shape,
        _text(document.get("joint", ""), f"{where}.joint"),
        _numbers(document.get("place", [0, 0, 0]), 3, f"{where}.place"),
        turn,
        size,
        is_on,
        dials.defaults("collider") | {name: dials.dial_of("collider", name).checked(value) for name, value in values.items()},
        **{name: tuple(_text(each, f"{where}.{name}") for each in ids) for name, ids in layers.items()},
        mesh=_text(document.get("mesh", ""), f"{where}.mesh"),
    )


def _read_follower(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"id", "name", "mesh", "vertices"}, where)
    identifier, vertices = _identifier(document.get("id"), where), document.get("vertices")
    is_right = isinstance(vertices, list) and 0 < len(vertices) <= MOST_FOLLOWED
    is_right = is_right and all(isinstance(v, int) and not isinstance(v, bool) and 0 <= v < MOST_VERTICES for v in vertices)
    _expect(is_right, f"{where}.vertices", f"a list of 1 to {MOST_FOLLOWED} vertices", vertices)
    name = _text(document.get("name", identifier), f"{where}.name")
    return Follower(identifier, name, _text(document.get("mesh", ""), f"{where}.mesh"), tuple(vertices))


def _numbers(values, count, where):
    is_right = isinstance(values, list) and len(values) == count
    is_right = is_right and all(isinstance(v, int | float) and not isinstance(v, bool) and abs(v) <= FAR for v in values)
    _expect(is_right, where, f"a list of {count} numbers up to {FAR:g}", values)
    return tuple(float(value) for value in values)


def _read_region(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"id", "name", "mesh", "vertices", "values", "final"}, where)
    identifier, count = _identifier(document.get("id"), where), document.get("vertices")
    is_count = isinstance(count, int) and not isinstance(count, bool) and 0 < count <= MOST_VERTICES
    _expect(is_count, f"{where}.vertices", f"a number from 1 to {MOST_VERTICES}", count)
    values = document.get("values")
    _expect(isinstance(values, str), f"{where}.values", "a text", values)
    levels.decode(values, count)
    name = _text(document.get("name", identifier), f"{where}.name")
    is_final = document.get("final", False)
    _expect(isinstance(is_final, bool), f"{where}.final", "true or false", is_final)
    return Region(identifier, name, _text(document.get("mesh", ""), f"{where}.mesh"), count, values, is_final)


def _identifier(value, where):
    _expect(isinstance(value, str) and re.fullmatch(r"[a-z0-9][a-z0-9-]{0,99}", value), f"{where}.id", "a-z, 0-9 and -", value)
    return value


def _read_layer(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"id", "name", "kind", "on", "chains", "region", "other", "rides", "built", "form", "dials", "amount"}, where)
    kind = document.get("kind")
    _expect(isinstance(kind, str) and kind in dials.LAYER_KINDS, f"{where}.kind", f"one of {', '.join(dials.LAYER_KINDS)}", kind)
    identifier, is_on = _identifier(document.get("id"), where), document.get("on", True)
    _expect(isinstance(is_on, bool), f"{where}.on", "true or false", is_on)
    chains = document.get("chains", [])
    if kind in dials.REGION_KINDS:
        _expect(not chains, f"{where}.chains", f"no chains in a {kind}", chains)
    else:
        _expect(isinstance(chains, list) and 0 < len(chains) <= MOST_CHAINS, f"{where}.chains", "a list with at least one chain", chains)
    values = document.get("dials", {})
    _expect(isinstance(values, dict), f"{where}.dials", "an object", values)
    return Layer(
        identifier,
        _text(document.get("name", identifier), f"{where}.name"),
        kind,
        is_on,
        tuple(_read_chain(chain, f"{where}.chains[{index}]") for index, chain in enumerate(chains)),
        dials.defaults(kind) | {name: dials.dial_of(kind, name).checked(value) for name, value in values.items()},
        read_amount(document.get("amount", [[0, 1]]), f"{where}.amount"),
        _text(document.get("region", ""), f"{where}.region"),
        _text(document.get("rides", ""), f"{where}.rides"),
        _built(document.get("built", ""), f"{where}.built"),
        _text(document.get("other", ""), f"{where}.other"),
        _read_form(document["form"], f"{where}.form") if "form" in document else None,
    )


def _built(text, where):
    _expect(isinstance(text, str) and len(text) <= LARGEST_DOCUMENT, where, "a text", type(text).__name__)
    return text


def _read_chain(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"root", "end", "picked", "branches"}, where)
    picked = document.get("picked", [])
    _expect(isinstance(picked, list), f"{where}.picked", "a list of joint names", picked)
    root, branches = document.get("root", ""), document.get("branches", False)
    _expect(bool(picked) != bool(root), where, "either a root or picked joints", document)
    _expect(isinstance(branches, bool), f"{where}.branches", "true or false", branches)
    names = [_text(name, f"{where}.picked") for name in picked]
    return ChainPick(_text(root, f"{where}.root"), _text(document.get("end", ""), f"{where}.end"), tuple(names), branches)


def read_amount(keys, where="amount"):
    """Check amount keys [[frame, value], ...] in the order of frames. Raises BadInput."""
    _expect(isinstance(keys, list | tuple) and 0 < len(keys) <= 10_000, where, "a list of [frame, value] keys", keys)
    read = []
    for key in keys:
        _expect(isinstance(key, list | tuple) and len(key) == 2, where, "[frame, value]", key)
        frame = key[0]
        _expect(isinstance(frame, int | float) and not isinstance(frame, bool) and abs(frame) < 1e7, where, "a frame number", frame)
        read.append((float(frame), dials.AMOUNT.checked(key[1])))
    _expect(all(a[0] < b[0] for a, b in itertools.pairwise(read)), where, "frames in rising order", keys)
    return tuple(read)


def _text(value, where):
    _expect(isinstance(value, str) and len(value) <= 400, where, "a text", value)
    return value


def _known(document, keys, where):
    unknown = sorted(set(document) - keys)
    _expect(not unknown, where, f"only {', '.join(sorted(keys))}", ", ".join(map(str, unknown)))


def _expect(is_right, where, expected, got):
    if not is_right:
        raise BadInput(f"{where}: expected {expected}, got {str(got)[:80]!r}")


def json_schema():
    """The published JSON Schema (draft 2020-12) of the setup document, made from the dials."""
    name = {"type": "string", "maxLength": 400}
    chain = {
        "type": "object",
        "description": "A root with an optional end, or a list of picked joints.",
        "properties": {"root": name, "end": name, "picked": {"type": "array", "items": name}, "branches": {"type": "boolean"}},
        "oneOf": [{"required": ["root"]}, {"required": ["picked"]}],
        "additionalProperties": False,
    }
    three = {"type": "array", "items": {"type": "number"}, "minItems": 3, "maxItems": 3}
    form = {
        "type": "object",
        "description": "A surface placed by hand in the rest pose, that a sheet is made of; mesh is an own one, deflated (zlib).",
        "properties": {
            "shape": {"enum": list(FORMS)},
            "place": three,
            "turn": {"type": "array", "items": {"type": "number"}, "minItems": 4, "maxItems": 4},
            "size": three,
            "mesh": {"type": "string", "contentEncoding": "base64"},
        },
        "required": ["shape", "place", "size"],
        "additionalProperties": False,
    }
    layer = {
        "type": "object",
        "properties": {
            "form": form,
            "id": {"type": "string", "pattern": "^[a-z0-9][a-z0-9-]{0,99}$"},
            "name": name,
            "kind": {"enum": list(dials.LAYER_KINDS)},
            "on": {"type": "boolean", "default": True},
            "chains": {"type": "array", "minItems": 1, "maxItems": MOST_CHAINS, "items": chain},
            "region": {**name, "description": "The id of the region that a volume, a sheet or a touch is made of."},
            "other": {**name, "description": "The id of the region that a touch keeps its own from; the rest of the mesh without one."},
            "rides": {**name, "description": f"What a chain or a prop hangs on: a volume's id, or {FOLLOWER}: and a follower's id."},
            "built": {
                "type": "string",
                "contentEncoding": "base64",
                "description": "A conforming solid, deflated (zlib).",
            },
            "dials": {"anyOf": [_dials_schema(kind) for kind in dials.LAYER_KINDS]},
            "amount": {
                "type": "array",
                "minItems": 1,
                "description": "Keys of frame and value 0..1, frames rising.",
                "items": {"type": "array", "prefixItems": [{"type": "number"}, dials.AMOUNT.schema()], "minItems": 2, "maxItems": 2},
            },
        },
        "required": ["id", "kind"],
        "oneOf": [{"required": ["chains"]}, {"required": ["region"]}],
        "additionalProperties": False,
    }
    region = {
        "type": "object",
        "properties": {
            "id": layer["properties"]["id"],
            "name": name,
            "mesh": name,
            "vertices": {"type": "integer", "minimum": 1, "maximum": MOST_VERTICES},
            "values": {
                "type": "string",
                "contentEncoding": "base64",
                "description": "One byte a vertex, deflated (zlib): 0..254 in with influence value / 254, 255 out.",
            },
            "final": {
                "type": "boolean",
                "default": False,
                "description": "How much of it all the final skin shows, not where it is soft.",
            },
        },
        "required": ["id", "mesh", "vertices", "values"],
        "additionalProperties": False,
    }
    numbers = {"type": "array", "items": {"type": "number", "minimum": -FAR, "maximum": FAR}}
    ids = {"type": "array", "maxItems": MOST_LAYERS, "items": name}
    collider = {
        "type": "object",
        "description": "A shape in the rest pose of the world that rides on a joint, or stands still.",
        "properties": {
            "id": layer["properties"]["id"],
            "name": name,
            "shape": {"enum": list(SIZES)},
            "joint": name,
            "on": {"type": "boolean", "default": True},
            "place": {**numbers, "minItems": 3, "maxItems": 3},
            "turn": {**numbers, "minItems": 4, "maxItems": 4, "description": "A quaternion x y z w."},
            "size": {**numbers, "description": "; ".join(f"{shape}: {', '.join(sizes) or 'none'}" for shape, sizes in SIZES.items())},
            "meets": {**ids, "description": "Layers that meet it though they would not by themselves."},
            "spares": {**ids, "description": "Layers that do not meet it though they would by themselves."},
            "mesh": {**name, "description": "The mesh that a skin is."},
            "dials": _dials_schema("collider"),
        },
        "required": ["id", "shape", "size"],
        "additionalProperties": False,
    }
    follower = {
        "type": "object",
        "description": "A frame that rides on picked vertices of a mesh.",
        "properties": {
            **{"id": layer["properties"]["id"], "name": name, "mesh": name},
            "vertices": {"type": "array", "minItems": 1, "maxItems": MOST_FOLLOWED, "items": {"type": "integer", "minimum": 0}},
        },
        "required": ["id", "mesh", "vertices"],
        "additionalProperties": False,
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Quiver setup",
        "type": "object",
        "properties": {
            "$schema": {"type": "string"},
            "format": {"const": FORMAT},
            "version": {"const": VERSION},
            **{dial.name: dial.schema() for dial in SCENE_DIALS},
            "watch_skin": {"type": "boolean", "description": "Whether takes tell how deep all of the skin gets into the colliders."},
            "regions": {"type": "array", "maxItems": MOST_LAYERS, "items": region},
            "colliders": {"type": "array", "maxItems": MOST_LAYERS, "items": collider},
            "followers": {"type": "array", "maxItems": MOST_LAYERS, "items": follower},
            "layers": {"type": "array", "maxItems": MOST_LAYERS, "items": layer},
        },
        "required": ["format", "version", "layers"],
        "additionalProperties": False,
    }


def _dials_schema(kind):
    properties = {dial.name: dial.schema() for dial in dials.DIALS_OF_KIND[kind]}
    return {"title": f"Dials of a {kind}", "type": "object", "properties": properties, "additionalProperties": False}
