"""Edits of a setup's layers and dials."""

from functools import partial

import numpy as np

from quiver import layers as registry
from quiver.bodies import picking
from quiver.errors import BadInput
from quiver.formats import lattice
from quiver.layers.kinds import JOINTS
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.run.parts.sheet import Sheet
from quiver.run.plan import PlanContext
from quiver.setup import document as setup_document
from quiver.setup import edits
from quiver.setup import model as setups
from studio.characters.services import joint_names, loaded, refresh_clip_lengths
from studio.edits.services import edit, follow_change
from studio.motion.models import OwnPreset
from studio.numbers import whole_number


def kinds_of(made_of):
    """The kinds of layers that are made of joints, or of a region."""
    return [kind for kind in registry.kinds() if kind.made_of == made_of]


def add_on_joints(row, kind, where, end, branches, layer_id):
    """Add a layer on a joint: a chain from it down, or along several named one after another with commas; other kinds on one joint.

    It goes into the layer ``layer_id`` if that is not "". Raises BadInput with the reason where the joints make none.
    """
    if kind not in [each.name for each in kinds_of(JOINTS)]:
        raise BadInput(f"expected one of {', '.join(each.label for each in kinds_of(JOINTS))}, got “{kind}”")
    where, label = where.strip(), registry.kind_of(kind).label
    is_one = not registry.kind_of(kind).picks_many
    pick = edits.joint_pick(where) if is_one and where else _pick(row, where, end.strip(), branches)

    def command(setup):
        if not layer_id:
            return edits.with_new_chain(setup, pick, kind=kind)
        layer = setup.layer(layer_id)
        if layer.kind != kind:
            own = registry.kind_of(layer.kind).label
            raise BadInput(f"expected a layer of the kind {label} to put it into, “{layer.name}” is of the kind {own}")
        return edits.with_chain(setup, layer_id, pick)

    return edit(row, command, f"{label} on {pick}").take


def _pick(row, where, end, branches):
    if not where:
        raise BadInput("no joint is chosen: click one on the stage, or type its name")
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
    soft = [each.name for each in registry.kinds() if each.is_soft]
    if kind not in soft:
        raise BadInput(f"expected one of {', '.join(soft)}, got “{kind}”")
    label = registry.kind_of(kind).label
    if source == "region":
        return edit(row, lambda setup: edits.with_new_soft(setup, kind, value), lambda setup: f"{label} of {setup.region(value).name}").take
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
        raise BadInput(f"expected a region, joints or a mesh, got “{source}”")

    def command(setup):
        setup = edits.with_new_region(setup, name[:200], mesh.name, len(levels), regions.encode(levels))
        return edits.with_new_soft(setup, kind, setup.regions[-1].id, **options)

    return edit(row, command, f"{label} of {name}"[:200]).take


def make_proxies(row, wanted):
    """Make a sheet by a proxy of each wanted region: {region id: (triangles, preset)}; one run for all, one version.

    A region that has one already only gets another proxy: what was tuned by hand stays. Returns the Take or None, and {region's name: why
    it could not be made}.
    """
    setup, character, failed, good = row.setup, loaded(row.pk)[0], {}, {}
    for region_id, (triangles, preset) in wanted.items():
        try:
            changed = _with_proxy(setup, region_id, triangles, preset)
            layer = next(layer for layer in changed.layers if _is_proxy_of(layer, region_id))
            Sheet(character, layer, changed, [])
        except BadInput as error:
            name = next((region.name for region in setup.regions if region.id == region_id), region_id)
            failed[name] = str(error)
        else:
            good[region_id] = triangles, preset
    if not good:
        return None, failed

    def command(setup):
        for region_id, how in good.items():
            setup = _with_proxy(setup, region_id, *how)
        return setup

    return edit(row, command, f"{len(good)} prox{'y' if len(good) == 1 else 'ies'}").take, failed


def proxies_of(setup):
    """(region, its proxy's triangles, whether it has a proxy) for each region that can have one."""
    usual = registry.kind_of("sheet").dial("proxy_triangles").default
    rows = []
    for region in setup.regions:
        known = next((layer for layer in setup.layers if _is_proxy_of(layer, region.id)), None)
        if not region.is_final:
            rows.append((region, known.value("proxy_triangles") if known else usual, known is not None))
    return rows


def _is_proxy_of(layer, region_id):
    return layer.kind == "sheet" and layer.region == region_id and layer.value("made_of") in ("proxy", "shell")


def _with_proxy(setup, region_id, triangles, preset):
    region, kind = setup.region(region_id), registry.kind_of("sheet")
    count = kind.dial("proxy_triangles").checked(triangles)
    known = next((layer for layer in setup.layers if _is_proxy_of(layer, region_id)), None)
    if known:
        return edits.set_dial(setup, known.id, "proxy_triangles", count)
    values = kind.preset(preset) if preset else kind.defaults
    return edits.with_new_soft(
        setup, "sheet", region_id, f"{region.name}, proxy"[:200], **values | {"made_of": "proxy", "proxy_triangles": count}
    )


def ride(row, layer_id, rides):
    """Attach a layer of joints to a soft volume (its id) or a follower, or, with "", to its joints alone. Raises BadInput."""
    kind, _, name = rides.rpartition(":")

    def command(setup):
        if rides:
            setup.follower(name) if kind == setups.FOLLOWER else edits.carrier(setup, rides)
        return edits.set_fields(setup, layer_id, rides=rides)

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: attached").take


def follow(row, layer_id, mesh, vertices):
    """Attach a layer to a new follower over some vertices of a mesh (numbers with spaces between). Raises BadInput."""
    numbers = [number for number in map(whole_number, vertices.split()) if number is not None]
    if not numbers:
        raise BadInput("no points are picked: press “Pick points”, then click on the skin")

    def command(setup):
        layer = setup.layer(layer_id)
        if "rides" not in registry.kind_of(layer.kind).fields:
            raise BadInput(f"a layer of the kind {registry.kind_of(layer.kind).label} cannot be attached to points")
        setup = edits.with_new_follower(setup, f"Points of {mesh}"[:200], mesh, numbers)
        return edits.set_fields(setup, layer_id, rides=f"{setups.FOLLOWER}:{setup.followers[-1].id}")

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: attached to {len(numbers)} points of {mesh}"[:200]).take


def forget_follower(row, follower_id):
    """Remove a follower; what was attached to it is attached to its joints again. Raises BadInput."""
    return edit(
        row, lambda setup: edits.without_follower(setup, follower_id), lambda setup: f"{setup.follower(follower_id).name}: removed"
    ).take


def mirror(row, layer_id):
    """A copy of a layer on the other side of the character. Raises BadInput where the other side has nothing for it."""
    character, _ = loaded(row.pk)

    def command(setup):
        layer = setup.layer(layer_id)
        name = f"{layer.name}, other side"[:200]
        if registry.kind_of(layer.kind).made_of == JOINTS:
            return edits.with_copy(setup, layer, name, chains=tuple(picking.mirrored(character, pick) for pick in layer.chains))
        region = setup.region(layer.region)
        mesh, levels = character.painted(region)
        values = regions.encode(regions.mirrored(levels, topology(mesh.positions, mesh.triangles)))
        setup = edits.with_new_region(setup, f"{region.name}, other side"[:200], region.mesh, region.vertices, values)
        return edits.with_copy(setup, layer, name, region=setup.regions[-1].id, form=layer.form and layer.form.mirrored())

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: mirrored").take


def _soft_body(row, setup, layer, notes):
    """The soft body of a layer as a run would build it."""
    kind = registry.kind_of(layer.kind)
    if not kind.is_soft:
        raise BadInput(f"expected a soft layer, “{layer.name}” is of the kind {kind.label}")
    character, _ = loaded(row.pk)
    (body,) = kind.build(PlanContext(character, setup, character.clip_or_still(""), notes), [layer])
    return body


def volume_facts(row, layer_id, cell_size=None):
    """What the panel says of a volume as it would be built, with another size of its cells if given [mm]. Raises BadInput."""
    setup = row.setup if cell_size is None else edits.set_dial(row.setup, layer_id, "cell_size", cell_size)
    layer, notes = edits.carrier(setup, layer_id), []
    body = _soft_body(row, setup, layer, notes)
    litres = 1000.0 * float(body.body.volumes.sum())
    return {
        "tets": len(body.part.lattice.tets),
        "edge": 1000.0 * body.part.edge,
        "litres": litres,
        "kilograms": litres * body.body.density / 1000.0,
        "findings": [*body.part.findings(), *(note.split(": ", 1)[-1] for note in notes)],
        "is_built": bool(layer.built),
    }


def unbuild(row, layer_id):
    """Go back from a conforming solid to a lattice."""
    command = partial(edits.set_fields, identifier=layer_id, built="")
    return edit(row, command, lambda setup: f"{edits.carrier(setup, layer_id).name}: lattice").take


def lattice_of(row, layer_id):
    """What a soft layer is simulated as, lattice or sheet, as the stage draws it. Raises BadInput."""
    setup = row.setup
    soft = _soft_body(row, setup, setup.layer(layer_id), [])
    carried, fixed, made = soft.part.carried, int((~soft.body.is_free).sum()), soft.part.lattice
    nodes = (carried.positions, soft.body.holds, fixed, carried.joints, carried.weights)
    # A triangle is drawn as a tetrahedron whose last two corners are one.
    tets = soft.part.triangles[:, [0, 1, 2, 2]] if hasattr(soft.part, "triangles") else made.tets
    return lattice.message(*nodes, tets, made.corners, made.corner_weights)


def remove_chain(row, layer_id, index):
    """Take one chain out of a layer."""
    return edit(
        row, lambda setup: edits.without_chain(setup, layer_id, index), lambda setup: f"{setup.layer(layer_id).name}: one chain less"
    ).take


def set_dial(row, layer_id, dial_name, value):
    """Set one dial of one layer; None sets the default. Raises BadInput."""

    def label(setup):
        layer = setup.layer(layer_id)
        return f"{layer.name}: {registry.kind_of(layer.kind).dial(dial_name).label}"

    return edit(row, lambda setup: edits.set_dial(setup, layer_id, dial_name, value), label).take


def take_dials(row, layer_id, preset="", other="", own=""):
    """Set a layer's dials as a preset does, or an own one (its number), or as another layer of its kind has them. Raises BadInput."""
    saved = OwnPreset.objects.filter(pk=whole_number(own)).first()

    def command(setup):
        layer = setup.layer(layer_id)
        kind = registry.kind_of(layer.kind)
        if own:
            if saved is None or saved.kind != layer.kind:
                raise BadInput("this preset of your own is not there any more")
            values = {name: value for name, value in saved.values.items() if name in layer.values}
        elif preset:
            values = {
                name: value for name, value in kind.preset(preset).items() if name in kind.presets[preset] or name not in kind.kept_dials
            }
        else:
            model = setup.layer(other)
            if model.kind != layer.kind:
                raise BadInput(f"expected another layer of the kind {kind.label} to copy from, “{model.name}” is none")
            values = {name: model.value(name) for name in kind.defaults if name not in kind.kept_dials}
        return edits.set_dials(setup, layer_id, values)

    source = preset or (saved.name if saved else "")
    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: like {source or setup.layer(other).name}").take


def own_presets(kind):
    """The artist's own presets for a kind of layer."""
    return OwnPreset.objects.filter(kind=kind)


def save_preset(row, layer_id, name):
    """Keep how a layer feels as a preset of the artist's own; one of that name is replaced. Raises BadInput."""
    layer, name = row.setup.layer(layer_id), name.strip()[:100]
    if not name:
        raise BadInput("the preset has no name yet: type one, such as what it feels like")
    kept = registry.kind_of(layer.kind).kept_dials
    values = {dial: value for dial, value in layer.values.items() if dial not in kept}
    OwnPreset.objects.update_or_create(kind=layer.kind, name=name, defaults={"values": values})


def forget_preset(row, layer_id, own):
    """Delete one of the artist's own presets."""
    own_presets(row.setup.layer(layer_id).kind).filter(pk=own).delete()


def set_scene_dial(row, dial_name, value):
    """Set one of the values of the whole setup."""
    dial, is_rate = edits.scene_dial(dial_name), dial_name == setups.FRAME_RATE.name
    made = edit(row, lambda setup: edits.set_scene(setup, dial_name, value), dial.label, runs=not is_rate)
    if not is_rate:
        return made.take
    refresh_clip_lengths(row)
    return follow_change(row) if made.version else None


def change_layer(row, layer_id, action, name):
    """Switch, move, rename or remove a layer. Raises BadInput."""
    commands = {
        "switch": lambda setup: edits.switch_layer(setup, layer_id),
        "up": lambda setup: edits.move_layer(setup, layer_id, -1),
        "down": lambda setup: edits.move_layer(setup, layer_id, 1),
        "rename": lambda setup: edits.rename_layer(setup, layer_id, name),
        "remove": lambda setup: edits.without_layer(setup, layer_id),
    }
    if action not in commands:
        raise BadInput(f"expected one of {', '.join(commands)}, got “{action}”")

    def label(setup):
        layer = setup.layer(layer_id)
        words = {"switch": "off" if layer.is_on else "on", "up": "earlier", "down": "later", "rename": "renamed", "remove": "removed"}
        return f"{layer.name}: {words[action]}"

    return edit(row, commands[action], label, runs=action != "rename").take


def set_amount(row, layer_id, keys):
    """Set the amount keys of a layer, {frame: value}; keys that another page set meanwhile stay."""
    setup_document.read_amount(sorted(keys.items()))
    seen = dict(_seen(row).layer(layer_id).amount)

    def command(setup):
        now = dict(setup.layer(layer_id).amount)
        changed = {frame: value for frame, value in keys.items() if seen.get(frame) != value}
        kept = {frame: value for frame, value in now.items() if frame in keys or frame not in seen}
        return edits.set_amount(setup, layer_id, setup_document.read_amount(sorted((kept | changed).items())))

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: amount").take


def _seen(row):
    """The setup that the page shows which an edit comes from."""
    seen = row.versions.filter(pk=row.seen_version).first() if getattr(row, "seen_version", None) else None
    return seen.setup if seen else row.setup


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
    return edit(row, lambda _: setup, "Imported setup").take
