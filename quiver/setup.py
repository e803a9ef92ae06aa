"""The setup of a character: one validated document with all its layers and dials."""

import itertools
import json
import re
from dataclasses import dataclass, field, replace

from quiver import dials
from quiver.errors import BadInput
from quiver.mesh import regions as levels

FORMAT = "keen-quiver-setup"
VERSION = 1
LARGEST_DOCUMENT = 16 * 2**20
MOST_LAYERS, MOST_CHAINS, MOST_VERTICES = 500, 5000, 5_000_000

FRAME_RATE = dials.Dial(
    "frame_rate", "Frame rate", "1/s", 1.0, 240.0, 24.0, 1.0, "Scene", "Frames in a second, for dials that count in frames."
)
METRES = dials.Dial("metres_per_unit", "Metres per unit", "m", 1e-4, 1e3, 1.0, 0.01, "Scene", "How long one unit of the file is.")
PREROLL = dials.Dial(
    "preroll_frames", "Pre-roll", "frames", 0.0, 480.0, 24.0, 1.0, "Scene", "Frames from the rest pose into the clip's first pose."
)
SCENE_DIALS = (FRAME_RATE, METRES, PREROLL)


@dataclass(frozen=True)
class ChainPick:
    """Which joints make a chain: from ``root`` down to ``end`` (or to the only tip), or exactly the ``picked`` ones."""

    root: str = ""
    end: str = ""
    picked: tuple = ()
    branches: bool = False

    @property
    def names(self):
        return [name for name in (self.root, self.end, *self.picked) if name]

    def __str__(self):
        if self.picked:
            return ", ".join(self.picked)
        return f"{self.root} → {self.end}" if self.end and self.end != self.root else self.root


@dataclass(frozen=True)
class Region:
    """A named area of one mesh: ``values`` are the levels of its ``vertices`` vertices as mesh/regions.py writes them."""

    id: str
    name: str
    mesh: str
    vertices: int
    values: str


@dataclass(frozen=True)
class Layer:
    """One piece of secondary motion. ``amount`` holds (frame, value) keys; one key is a constant.

    A chain layer has ``chains`` and may hang on a volume layer that it ``rides`` (its id); a volume layer has a ``region`` (its id).
    """

    id: str
    name: str
    kind: str = "chain"
    is_on: bool = True
    chains: tuple = ()
    values: dict = field(default_factory=dict)
    amount: tuple = ((0.0, 1.0),)
    region: str = ""
    rides: str = ""

    def value(self, name):
        """The value of a dial, or its default."""
        return self.values.get(name, dials.dial_of(self.kind, name).default)

    def amount_at(self, frame):
        """The amount 0..1 at a frame, linear between keys."""
        keys = self.amount
        if frame <= keys[0][0]:
            return keys[0][1]
        for (a, from_value), (b, to_value) in itertools.pairwise(keys):
            if frame < b:
                return from_value + (frame - a) / (b - a) * (to_value - from_value)
        return keys[-1][1]


@dataclass(frozen=True)
class Setup:
    """All layers in order, and the scene's own values."""

    layers: tuple = ()
    frame_rate: float = FRAME_RATE.default
    metres_per_unit: float = METRES.default
    preroll_frames: float = PREROLL.default
    regions: tuple = ()

    def region(self, identifier):
        """The region of that id. Raises BadInput."""
        for region in self.regions:
            if region.id == identifier:
                return region
        raise BadInput(f"expected the id of a region of this setup, got “{identifier}”")

    def with_region(self, changed):
        """This setup with one region replaced (by its id). Raises BadInput where there is none."""
        self.region(changed.id)
        return replace(self, regions=tuple(changed if region.id == changed.id else region for region in self.regions))

    def with_new_region(self, name, mesh, vertices, values):
        """This setup with one more region."""
        identifier = _free_id(name, "region", self.regions)
        return replace(self, regions=(*self.regions, Region(identifier, name, mesh, vertices, values)))

    def without_region(self, identifier):
        """This setup less one region. Raises BadInput where there is none, or where a layer is made of it."""
        region = self.region(identifier)
        users = [layer.name for layer in self.layers if layer.region == identifier]
        if users:
            raise BadInput(f"“{region.name}” is what {', '.join(f'“{name}”' for name in users)} is made of; remove the layer first")
        return replace(self, regions=tuple(each for each in self.regions if each.id != identifier))

    def with_new_volume(self, region_id):
        """This setup with one more volume layer on top, made of a region. Raises BadInput where there is no such region."""
        name = self.region(region_id).name
        layer = Layer(_free_id(name, "layer", self.layers), name, "volume", True, (), dials.defaults("volume"), region=region_id)
        return replace(self, layers=(*self.layers, layer))

    def layer(self, identifier):
        """The layer of that id. Raises BadInput."""
        for layer in self.layers:
            if layer.id == identifier:
                return layer
        raise BadInput(f"expected the id of a layer of this setup, got “{identifier}”")

    def with_layer(self, changed):
        """This setup with one layer replaced (by its id). Raises BadInput where there is none."""
        self.layer(changed.id)
        return replace(self, layers=tuple(changed if layer.id == changed.id else layer for layer in self.layers))

    def without_layer(self, identifier):
        """This setup less one layer. Raises BadInput where there is none."""
        self.layer(identifier)
        left = (layer for layer in self.layers if layer.id != identifier)
        return replace(self, layers=tuple(replace(layer, rides="") if layer.rides == identifier else layer for layer in left))

    def moved(self, identifier, by):
        """This setup with one layer moved by some places in the order. Raises BadInput where there is none."""
        layers = list(self.layers)
        at = layers.index(self.layer(identifier))
        layers.insert(max(0, min(len(layers) - 1, at + by)), layers.pop(at))
        return replace(self, layers=tuple(layers))

    def with_new_chain(self, pick, name=""):
        """This setup with one more chain layer on top. Raises BadInput where the name is no name."""
        name = name or (pick.root or pick.picked[0])
        layer = Layer(_free_id(name, "layer", self.layers), name, "chain", True, (pick,), dials.defaults("chain"))
        return replace(self, layers=(*self.layers, layer))

    def with_chain(self, identifier, pick):
        """This setup with one more chain in a layer. Raises BadInput where there is no such layer."""
        layer = self.layer(identifier)
        return self.with_layer(replace(layer, chains=(*layer.chains, pick)))

    def without_chain(self, identifier, index):
        """This setup less one chain of a layer. Raises BadInput where it is not there or is the layer's last."""
        layer = self.layer(identifier)
        if not 0 <= index < len(layer.chains) or len(layer.chains) == 1:
            raise BadInput(
                f"{layer.name}: expected a chain to take away that is not its last, got number {index + 1} of {len(layer.chains)}"
            )
        return self.with_layer(replace(layer, chains=layer.chains[:index] + layer.chains[index + 1 :]))

    def moves_like(self, other):
        """Whether both setups give the same motion: names and regions that no layer is made of do not matter."""
        return self._motion() == other._motion()

    def _motion(self):
        layers = [replace(layer, name="") for layer in self.layers if layer.is_on]
        used = {layer.region for layer in layers}
        return (
            layers,
            [replace(region, name="") for region in self.regions if region.id in used],
            *(getattr(self, d.name) for d in SCENE_DIALS),
        )

    def unknown_names(self, skeleton):
        """The joint names used here that the skeleton does not have, sorted."""
        used = {name for layer in self.layers for chain in layer.chains for name in chain.names}
        return sorted(name for name in used if name not in skeleton)


def _free_id(name, fallback, others):
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:80] or fallback
    taken = {other.id for other in others}
    identifier, number = base, 2
    while identifier in taken:
        identifier, number = f"{base}-{number}", number + 1
    return identifier


def to_document(setup):
    """The setup as plain JSON values."""
    return {
        "format": FORMAT,
        "version": VERSION,
        **{dial.name: getattr(setup, dial.name) for dial in SCENE_DIALS},
        "regions": [vars(region) for region in setup.regions],
        "layers": [_layer_document(layer) for layer in setup.layers],
    }


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
        **({"region": layer.region} if layer.kind == "volume" else {"chains": [chain_document(chain) for chain in layer.chains]}),
        "dials": {dial.name: layer.value(dial.name) for dial in dials.DIALS_OF_KIND[layer.kind]},
        "amount": [list(key) for key in layer.amount],
    }


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
    _known(document, {"format", "version", "regions", "layers", "$schema", *(dial.name for dial in SCENE_DIALS)}, "the setup")
    layers = document.get("layers", [])
    _expect(isinstance(layers, list) and len(layers) <= MOST_LAYERS, "layers", f"a list of at most {MOST_LAYERS}", layers)
    read = tuple(_read_layer(layer, f"layers[{index}]") for index, layer in enumerate(layers))
    ids = [layer.id for layer in read]
    _expect(len(set(ids)) == len(ids), "layers", "a different id for each layer", ids)
    scene = {dial.name: dial.checked(document.get(dial.name, dial.default)) for dial in SCENE_DIALS}
    areas = document.get("regions", [])
    _expect(isinstance(areas, list) and len(areas) <= MOST_LAYERS, "regions", f"a list of at most {MOST_LAYERS}", areas)
    setup = Setup(read, **scene, regions=tuple(_read_region(area, f"regions[{index}]") for index, area in enumerate(areas)))
    names = [region.id for region in setup.regions]
    _expect(len(set(names)) == len(names), "regions", "a different id for each region", names)
    for index, layer in enumerate(read):
        if layer.kind == "volume":
            setup.region(layer.region)
        if layer.rides:
            carriers = [other.id for other in read if other.kind == "volume"]
            _expect(
                layer.kind == "chain" and layer.rides in carriers, f"layers[{index}].rides", "the id of a volume, in a chain", layer.rides
            )
    return setup


def _read_region(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"id", "name", "mesh", "vertices", "values"}, where)
    identifier, count = _identifier(document.get("id"), where), document.get("vertices")
    is_count = isinstance(count, int) and not isinstance(count, bool) and 0 < count <= MOST_VERTICES
    _expect(is_count, f"{where}.vertices", f"a number from 1 to {MOST_VERTICES}", count)
    values = document.get("values")
    _expect(isinstance(values, str), f"{where}.values", "a text", values)
    levels.decode(values, count)
    name = _text(document.get("name", identifier), f"{where}.name")
    return Region(identifier, name, _text(document.get("mesh", ""), f"{where}.mesh"), count, values)


def _identifier(value, where):
    _expect(isinstance(value, str) and re.fullmatch(r"[a-z0-9][a-z0-9-]{0,99}", value), f"{where}.id", "a-z, 0-9 and -", value)
    return value


def _read_layer(document, where):
    _expect(isinstance(document, dict), where, "an object", document)
    _known(document, {"id", "name", "kind", "on", "chains", "region", "rides", "dials", "amount"}, where)
    kind = document.get("kind")
    _expect(isinstance(kind, str) and kind in dials.DIALS_OF_KIND, f"{where}.kind", f"one of {', '.join(dials.DIALS_OF_KIND)}", kind)
    identifier, is_on = _identifier(document.get("id"), where), document.get("on", True)
    _expect(isinstance(is_on, bool), f"{where}.on", "true or false", is_on)
    chains = document.get("chains", [])
    if kind == "volume":
        _expect(not chains, f"{where}.chains", "no chains in a volume", chains)
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
    )


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
    layer = {
        "type": "object",
        "properties": {
            "id": {"type": "string", "pattern": "^[a-z0-9][a-z0-9-]{0,99}$"},
            "name": name,
            "kind": {"enum": list(dials.DIALS_OF_KIND)},
            "on": {"type": "boolean", "default": True},
            "chains": {"type": "array", "minItems": 1, "maxItems": MOST_CHAINS, "items": chain},
            "region": {**name, "description": "The id of the region that a volume is made of."},
            "dials": {"anyOf": [_dials_schema(kind) for kind in dials.DIALS_OF_KIND]},
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
        },
        "required": ["id", "mesh", "vertices", "values"],
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
            "regions": {"type": "array", "maxItems": MOST_LAYERS, "items": region},
            "layers": {"type": "array", "maxItems": MOST_LAYERS, "items": layer},
        },
        "required": ["format", "version", "layers"],
        "additionalProperties": False,
    }


def _dials_schema(kind):
    properties = {dial.name: dial.schema() for dial in dials.DIALS_OF_KIND[kind]}
    return {"title": f"Dials of a {kind}", "type": "object", "properties": properties, "additionalProperties": False}
