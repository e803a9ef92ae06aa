"""Documents of earlier versions, brought up to the one that is written now."""

from quiver.errors import BadInput

KINDS = {"touch": "skin_contact", "limb": "limb_clearance"}
"""What version 1 called some kinds of layers."""
SELF_COLLISION = {"through": "off", "apart": "on"}
PROP_COLLISION = {"no": "off", "yes": "on"}


def upgraded(plain, version):
    """The document as of ``version``; what is no object, or of an unknown version, is left to the checks. Raises BadInput for no object."""
    if not isinstance(plain, dict):
        raise BadInput(f"expected a setup as an object, got {type(plain).__name__}")
    if plain.get("version") == 1 and version == 2:
        return _second(plain)
    return plain


def _second(plain):
    """Version 1 → 2: names of kinds and of two dials."""
    layers = plain.get("layers")
    if isinstance(layers, list):
        layers = [_second_layer(layer) if isinstance(layer, dict) else layer for layer in layers]
    return plain | {"version": 2, "layers": layers}


def _second_layer(layer):
    kind, dials = layer.get("kind"), layer.get("dials", {})
    if isinstance(dials, dict):
        dials = {name: value for name, value in dials.items() if name not in ("folds", "knocks")}
        for old, new, values in (("folds", "self_collision", SELF_COLLISION), ("knocks", "prop_collision", PROP_COLLISION)):
            if old in layer.get("dials", {}):
                value = layer["dials"][old]
                dials[new] = values.get(value, value) if isinstance(value, str) else value
    changed = {"dials": dials, "kind": KINDS.get(kind, kind) if isinstance(kind, str) else kind}
    # An empty list of chains beside a region said nothing.
    return {key: value for key, value in (layer | changed).items() if not (key == "chains" and value == [])}
