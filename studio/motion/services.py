"""Edits of a setup's layers and dials."""

from dataclasses import replace

import numpy as np

from quiver import dials, presets, setup_document
from quiver.setup import model as setups
from quiver.bodies import picking
from quiver.errors import BadInput
from quiver.formats import lattice
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.run.parts.sheet import Sheet
from quiver.run.parts.soft_volume import Solid
from studio.characters.services import joint_names, loaded, refresh_clip_lengths
from studio.motion.models import OwnPreset
from studio.takes.edits import after_change, edit

HUNG = {"chain": "Chain", "prop": "Prop", "limb": "Limb"}
"""Kinds of layers that hang on joints."""


def add_hung(row, kind, where, end, branches, layer_id):
    """Hang a chain on a joint, or on several named one after another with commas, or a prop or a limb on one joint.

    It makes a new layer where ``layer_id`` is "". Raises BadInput with the reason where the joints make none.
    """
    if kind not in HUNG:
        raise BadInput(f"expected one of {', '.join(HUNG)} to hang on a joint, got “{kind}”")
    if layer_id and row.setup.layer(layer_id).kind != kind:
        raise BadInput(f"expected a {kind} layer to take it in, “{row.setup.layer(layer_id).name}” is a {row.setup.layer(layer_id).kind}")
    where = where.strip()
    pick = setups.ChainPick(where, where) if kind != "chain" and where else _pick(row, where, end.strip(), branches)
    if layer_id:
        return edit(row, lambda setup: setup.with_chain(layer_id, pick), f"{row.setup.layer(layer_id).name}: {kind} on {pick}")
    return edit(row, lambda setup: setup.with_new_chain(pick, kind=kind), f"{HUNG[kind]} on {pick}")


def _pick(row, where, end, branches):
    if not where:
        raise BadInput("expected the joint to hang the chain on: click one on the stage, or type its name")
    names = joint_names(row, where)
    if len(names) < 2:
        return setups.ChainPick(where, end, (), branches)
    if end or branches:
        raise BadInput(f"expected either a root with an end or the {len(names)} joints of the chain themselves, got both")
    return setups.ChainPick(picked=tuple(names))


def add_soft(row, kind, source, value):
    """Make a layer of a soft kind of a region (its id), of what joints move (their names), or of a whole mesh (its name).

    A volume of a mesh is a body for each of its closed pieces. Raises BadInput.
    """
    if kind not in dials.SOFT_KINDS:
        raise BadInput(f"expected one of {', '.join(dials.SOFT_KINDS)}, got “{kind}”")
    label = kind.capitalize()
    if source == "region":
        return edit(row, lambda setup: setup.with_new_soft(kind, value), f"{label} of {row.setup.region(value).name}")
    character, _ = loaded(row.pk)
    if source == "joints":
        mesh, levels = picking.moved_by(character, joint_names(row, value.strip()))
        name, options = value, {}
    elif source == "mesh":
        mesh = character.mesh(value)
        levels, name, options = np.full(len(mesh.positions), regions.IN_FULL, np.uint8), mesh.name, {}
        if kind == "volume":
            levels = regions.closed_pieces(topology(mesh.positions, mesh.triangles))
            name, options = f"Pieces of {mesh.name}", {"pieces": "apart"}
        if not regions.is_in(levels).any():
            raise BadInput(f"expected a mesh with closed pieces, “{mesh.name}” is open everywhere")
    else:
        raise BadInput(f"expected a region, joints or a mesh to make a {kind} of, got “{source}”")

    def change(setup):
        setup = setup.with_new_region(name[:200], mesh.name, len(levels), regions.encode(levels))
        return setup.with_new_soft(kind, setup.regions[-1].id, **options)

    return edit(row, change, f"{label} of {name}"[:200])


def make_proxies(row, wanted):
    """Make a sheet by a proxy of each wanted region: {region id: (triangles, preset)}; one run for all, one version.

    A region that has one already only gets another proxy: what was tuned by hand stays. Returns the Take or None, and {region's name: why
    it could not be made}.
    """
    setup, character, failed = row.setup, loaded(row.pk)[0], {}
    for region_id, (triangles, preset) in wanted.items():
        try:
            changed = _with_proxy(setup, region_id, triangles, preset)
            layer = next(layer for layer in changed.layers if _is_proxy_of(layer, region_id))
            Sheet(character, layer, changed, [])
        except BadInput as error:
            name = next((region.name for region in setup.regions if region.id == region_id), region_id)
            failed[name] = str(error)
        else:
            setup = changed
    if setup == row.setup:
        return None, failed
    count = len(wanted) - len(failed)
    return edit(row, lambda _: setup, f"{count} prox{'y' if count == 1 else 'ies'}"), failed


def proxies_of(setup):
    """(region, its proxy's triangles, whether it has a proxy) for each region that can have one."""
    usual = dials.dial_of("sheet", "proxy_triangles").default
    rows = []
    for region in setup.regions:
        known = next((layer for layer in setup.layers if _is_proxy_of(layer, region.id)), None)
        if not region.is_final:
            rows.append((region, known.value("proxy_triangles") if known else usual, known is not None))
    return rows


def _is_proxy_of(layer, region_id):
    return layer.kind == "sheet" and layer.region == region_id and layer.value("made_of") in ("proxy", "shell")


def _with_proxy(setup, region_id, triangles, preset):
    region, count = setup.region(region_id), dials.dial_of("sheet", "proxy_triangles").checked(triangles)
    known = next((layer for layer in setup.layers if _is_proxy_of(layer, region_id)), None)
    if known:
        return setup.with_layer(replace(known, values=known.values | {"proxy_triangles": count}))
    values = presets.values_of("sheet", preset) if preset else dials.defaults("sheet")
    return setup.with_new_soft("sheet", region_id, f"{region.name}, proxy"[:200], **values | {"made_of": "proxy", "proxy_triangles": count})


def ride(row, layer_id, rides):
    """Let a layer of chains or props hang on a volume (its id) or a follower, or, with "", on its joints alone. Raises BadInput."""
    layer, setup = row.setup.layer(layer_id), row.setup
    kind, _, name = rides.rpartition(":")
    carrier = "its joints"
    if rides:
        carrier = setup.follower(name).name if kind == setups.FOLLOWER else setup.volume(rides).name
    return edit(row, lambda setup: setup.with_layer(replace(layer, rides=rides)), f"{layer.name}: hangs on {carrier}")


def follow(row, layer_id, mesh, vertices):
    """Let a layer hang on a new follower over some vertices of a mesh (numbers with spaces between). Raises BadInput."""
    layer = row.setup.layer(layer_id)
    if layer.kind not in ("chain", "prop"):
        raise BadInput(f"expected a chain or a prop to hang on points, “{layer.name}” is a {layer.kind}")
    numbers = [int(word) for word in vertices.split() if word.isdecimal()]
    if not numbers:
        raise BadInput("expected points to follow: press “Pick points”, then click on the skin")

    def change(setup):
        setup = setup.with_new_follower(f"Points of {mesh}"[:200], mesh, numbers)
        return setup.with_layer(replace(layer, rides=f"{setups.FOLLOWER}:{setup.followers[-1].id}"))

    return edit(row, change, f"{layer.name}: hangs on {len(numbers)} points of {mesh}"[:200])


def forget_follower(row, follower_id):
    """Remove a follower; what hung on it hangs on its joints again. Raises BadInput."""
    name = row.setup.follower(follower_id).name
    return edit(row, lambda setup: setup.without_follower(follower_id), f"{name}: removed")


def mirror(row, layer_id):
    """A copy of a layer on the other side of the character. Raises BadInput where the other side has nothing for it."""
    layer = row.setup.layer(layer_id)
    character, _ = loaded(row.pk)
    name = f"{layer.name}, other side"[:200]
    if layer.kind in HUNG:
        chains = tuple(picking.mirrored(character, pick) for pick in layer.chains)
        return edit(row, lambda setup: setup.with_copy(layer, name, chains=chains), f"{layer.name}: mirrored")
    region = row.setup.region(layer.region)
    mesh, levels = character.painted(region)
    values = regions.encode(regions.mirrored(levels, topology(mesh.positions, mesh.triangles)))

    def change(setup):
        setup = setup.with_new_region(f"{region.name}, other side"[:200], region.mesh, region.vertices, values)
        form = layer.form and layer.form.mirrored()
        return setup.with_copy(layer, name, region=setup.regions[-1].id, form=form)

    return edit(row, change, f"{layer.name}: mirrored")


def volume_facts(row, layer_id, cell_size=None):
    """What the panel says of a volume as it would be built, with another size of its cells if given [mm]. Raises BadInput."""
    layer = row.setup.volume(layer_id)
    if cell_size is not None:
        layer = replace(layer, values=layer.values | {"cell_size": dials.dial_of("volume", "cell_size").checked(cell_size)})
    character, _ = loaded(row.pk)
    notes = []
    solid = Solid(character, layer, row.setup, notes)
    litres = 1000.0 * float(solid.body.volumes.sum())
    return {
        "tets": len(solid.part.lattice.tets),
        "edge": 1000.0 * solid.part.edge,
        "litres": litres,
        "kilograms": litres * solid.body.density / 1000.0,
        "findings": [*solid.part.findings(), *(note.split(": ", 1)[-1] for note in notes)],
        "is_built": bool(layer.built),
    }


def unbuild(row, layer_id):
    """Go back from a conforming solid to a lattice."""
    layer = row.setup.volume(layer_id)
    return edit(row, lambda setup: setup.with_layer(replace(layer, built="")), f"{layer.name}: lattice")


def lattice_of(row, layer_id):
    """What a soft layer is simulated as, lattice or sheet, as the stage draws it. Raises BadInput."""
    layer, setup = row.setup.layer(layer_id), row.setup
    if layer.kind not in dials.SOFT_KINDS:
        raise BadInput(f"expected a volume or a sheet, “{layer.name}” is a {layer.kind}")
    character, _ = loaded(row.pk)
    soft = (Solid if layer.kind == "volume" else Sheet)(character, layer, setup, [])
    carried, fixed, made = soft.part.carried, int((~soft.body.is_free).sum()), soft.part.lattice
    nodes = (carried.positions, soft.body.holds, fixed, carried.joints, carried.weights)
    # A triangle is drawn as a tetrahedron whose last two corners are one.
    tets = made.tets if layer.kind == "volume" else soft.part.triangles[:, [0, 1, 2, 2]]
    return lattice.message(*nodes, tets, made.corners, made.shares)


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


BUILT = ("cell_size", "pieces", *dials.PROXY_DIALS, "loose", "hold_gain", "hold_offset")
"""Dials that belong to one region; copying feel from another layer leaves them."""


def take_dials(row, layer_id, preset="", other="", own=""):
    """Set a layer's dials as a preset does, or an own one (its number), or as another layer of its kind has them. Raises BadInput."""
    layer = row.setup.layer(layer_id)
    if own:
        saved = own_presets(layer.kind).filter(pk=own).first()
        if saved is None:
            raise BadInput("expected one of your own presets for this kind of layer, it is not there any more")
        known = {name: dials.dial_of(layer.kind, name).checked(value) for name, value in saved.values.items() if name in layer.values}
        values, source = layer.values | known, saved.name
    elif preset:
        values, source = presets.values_of(layer.kind, preset), preset
        values |= {name: layer.value(name) for name in BUILT if name in values and name not in presets.PRESETS[layer.kind][preset]}
    else:
        model = row.setup.layer(other)
        if model.kind != layer.kind:
            raise BadInput(f"expected another {layer.kind} to copy from, “{model.name}” is a {model.kind}")
        values, source = layer.values | {name: model.value(name) for name in dials.defaults(model.kind) if name not in BUILT}, model.name
    changed = replace(layer, values=values)
    return edit(row, lambda setup: setup.with_layer(changed), f"{layer.name}: like {source}")


def own_presets(kind):
    """The artist's own presets for a kind of layer."""
    return OwnPreset.objects.filter(kind=kind)


def save_preset(row, layer_id, name):
    """Keep how a layer feels as a preset of the artist's own; one of that name is replaced. Raises BadInput."""
    layer, name = row.setup.layer(layer_id), name.strip()[:100]
    if not name:
        raise BadInput("expected a name for the preset, such as what it feels like")
    values = {dial.name: layer.value(dial.name) for dial in dials.DIALS_OF_KIND[layer.kind] if dial.name not in BUILT}
    OwnPreset.objects.update_or_create(kind=layer.kind, name=name, defaults={"values": values})


def forget_preset(row, layer_id, own):
    """Delete one of the artist's own presets."""
    own_presets(row.setup.layer(layer_id).kind).filter(pk=own).delete()


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
