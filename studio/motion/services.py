"""Edits of a setup's layers and dials."""

from dataclasses import replace

from quiver import dials, presets, setup_document
from quiver import setup as setups
from quiver.errors import BadInput
from quiver.formats import lattice
from quiver.solids import Solid
from studio.characters.services import loaded, refresh_clip_lengths
from studio.takes.edits import after_change, edit


def add_chain(row, where, end, branches, layer_id):
    """Hang a chain on a joint, or on several named one after another with commas; as a new layer where ``layer_id`` is "".

    Raises BadInput with the reason where the joints make no chain.
    """
    pick = _pick(row, where.strip(), end.strip(), branches)
    if layer_id:
        return edit(row, lambda setup: setup.with_chain(layer_id, pick), f"{row.setup.layer(layer_id).name}: chain on {pick}")
    return edit(row, lambda setup: setup.with_new_chain(pick), f"Chain on {pick}")


def _pick(row, where, end, branches):
    if not where:
        raise BadInput("expected the joint to hang the chain on: click one on the stage, or type its name")
    names = [name.strip() for name in where.split(",") if name.strip()]
    # A joint's own name may have a comma in it.
    if len(names) < 2 or any(node["name"] == where for node in row.facts["nodes"]):
        return setups.ChainPick(where, end, (), branches)
    if end or branches:
        raise BadInput(f"expected either a root with an end or the {len(names)} joints of the chain themselves, got both")
    return setups.ChainPick(picked=tuple(names))


def add_volume(row, region_id):
    """Make a volume layer of a region. Raises BadInput."""
    return edit(row, lambda setup: setup.with_new_volume(region_id), f"Volume of {row.setup.region(region_id).name}")


def lattice_of(row, layer_id):
    """The lattice of a volume layer, as the stage draws it. Raises BadInput."""
    layer = row.setup.layer(layer_id)
    if layer.kind != "volume":
        raise BadInput(f"expected a volume, “{layer.name}” is a {layer.kind}")
    character, _ = loaded(row.pk)
    part = Solid(character, layer, row.setup, [])
    carried, fixed = part.part.carried, int((~part.body.is_free).sum())
    return lattice.message(carried.positions, part.body.holds, fixed, carried.joints, carried.weights, part.part.lattice.tets)


def remove_chain(row, layer_id, index):
    """Take one chain out of a layer."""
    layer = row.setup.layer(layer_id)
    return edit(row, lambda setup: setup.without_chain(layer_id, index), f"{layer.name}: one chain less")


def set_dial(row, layer_id, dial_name, value):
    """Set one dial of one layer; None sets the default. Raises BadInput."""
    layer = row.setup.layer(layer_id)
    dial = dials.dial_of(layer.kind, dial_name)
    value = dial.default if value is None else dial.checked(value)
    if value == layer.value(dial_name):
        return None
    changed = replace(layer, values=layer.values | {dial_name: value})
    return edit(row, lambda setup: setup.with_layer(changed), f"{layer.name}: {dial.label}")


BUILT = ("cell_size", "loose", "hold_gain", "hold_offset")
"""Dials that belong to one region; copying feel from another layer leaves them."""


def take_dials(row, layer_id, preset, other):
    """Set a layer's dials as a preset does, or as another layer of its kind has them. Raises BadInput."""
    layer = row.setup.layer(layer_id)
    if preset:
        values, source = presets.values_of(layer.kind, preset), preset
        values |= {name: layer.value(name) for name in BUILT if name in values and name not in presets.PRESETS[layer.kind][preset]}
    else:
        model = row.setup.layer(other)
        if model.kind != layer.kind:
            raise BadInput(f"expected another {layer.kind} to copy from, “{model.name}” is a {model.kind}")
        values, source = layer.values | {name: model.value(name) for name in dials.defaults(model.kind) if name not in BUILT}, model.name
    changed = replace(layer, values=values)
    return edit(row, lambda setup: setup.with_layer(changed), f"{layer.name}: like {source}")


def set_scene_dial(row, dial_name, value):
    """Set one of the values of the whole setup."""
    dial = next((dial for dial in setups.SCENE_DIALS if dial.name == dial_name), None)
    if dial is None:
        raise BadInput(f"expected a value of the scene, got “{dial_name}”")
    take = edit(row, lambda setup: replace(setup, **{dial.name: dial.checked(value)}), dial.label)
    if dial is setups.FRAME_RATE:
        refresh_clip_lengths(row)
        take = after_change(row)
    return take


def change_layer(row, layer_id, action, name):
    """Switch, move, rename or remove a layer. Raises BadInput."""
    layer = row.setup.layer(layer_id)
    changes = {
        "switch": lambda setup: setup.with_layer(replace(layer, is_on=not layer.is_on)),
        "up": lambda setup: setup.moved(layer_id, -1),
        "down": lambda setup: setup.moved(layer_id, 1),
        "rename": lambda setup: setup.with_layer(replace(layer, name=name.strip()[:400] or layer.name)),
        "remove": lambda setup: setup.without_layer(layer_id),
    }
    if action not in changes:
        raise BadInput(f"expected one of {', '.join(changes)}, got “{action}”")
    labels = {"switch": "off" if layer.is_on else "on", "up": "earlier", "down": "later", "rename": "renamed", "remove": "removed"}
    return edit(row, changes[action], f"{layer.name}: {labels[action]}")


def set_amount(row, layer_id, keys):
    """Set the amount keys of a layer, {frame: value}."""
    layer = row.setup.layer(layer_id)
    changed = replace(layer, amount=setup_document.read_amount(sorted(keys.items())))
    return edit(row, lambda setup: setup.with_layer(changed), f"{layer.name}: amount")


def import_setup(row, text):
    """Replace the setup by an imported one; names that this character does not have are listed and refused."""
    setup = setup_document.loads(text)
    character, _ = loaded(row.pk)
    unknown = setup.unknown_names(character.skeleton)
    if unknown:
        raise BadInput(f"this character has no joints called {', '.join(unknown[:20])}{' and more' if len(unknown) > 20 else ''}")
    sizes = {mesh.name: len(mesh.positions) for mesh in reversed(character.meshes)}
    unfit = [f"{area.name} (on {area.mesh})" for area in setup.regions if sizes.get(area.mesh) != area.vertices]
    if unfit:
        raise BadInput(f"this character has no mesh of that name and so many vertices for the regions {', '.join(unfit[:20])}")
    return edit(row, lambda _: setup, "Imported setup")
