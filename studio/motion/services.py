"""Edits of a setup's layers and dials."""

import base64
import io
from dataclasses import replace
from functools import partial

from PIL import Image

from quiver import layers as registry
from quiver.bodies import picking
from quiver.bodies.made import with_made
from quiver.errors import BadInput
from quiver.formats import lattice
from quiver.layers.kinds import JOINTS, MUSCLES
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.picture import marked
from quiver.run.plan import PlanContext
from quiver.setup import document as setup_document
from quiver.setup import edits
from quiver.setup import model as setups
from quiver.travel import travelled
from studio.characters.rights import readable
from studio.characters.services import loaded
from studio.edits.services import edit
from studio.motion.models import OwnPreset
from studio.numbers import whole_number

MAPS = ("fat", "clings")
"""Fields of a layer that name a painted map."""


def ride(row, layer_id, rides):
    """Attach a layer of joints to a soft volume (its id) or a follower, or, with "", to its joints alone. Raises BadInput."""
    kind, _, name = rides.rpartition(":")

    def command(setup):
        if rides:
            setup.follower(name) if kind == setups.FOLLOWER else edits.carrier(setup, rides)
        return edits.set_fields(setup, layer_id, rides=rides)

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: attached").take


def leave_out(row, layer_id, what):
    """Let skin contact leave out a region (its id), or what a layer carries ("layer:" and its id); "" nothing. Raises BadInput."""

    def command(setup):
        kind, _, name = what.rpartition(":")
        if what:
            setup.layer(name) if kind == setups.LAYER else setup.region(name)
        if "leaves_out" not in registry.kind_of(setup.layer(layer_id).kind).fields:
            raise BadInput(f"“{setup.layer(layer_id).name}” is no skin contact, so it leaves nothing out")
        return edits.set_fields(setup, layer_id, leaves_out=what)

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: leaves out").take


def set_maps(row, layer_id, sent):
    """Choose the painted maps (ids of regions) of a layer that has such: {field: id}. Raises BadInput."""
    maps = {name: sent[name] for name in MAPS if name in sent}

    def command(setup):
        layer = setup.layer(layer_id)
        for name, region in maps.items():
            if name not in registry.kind_of(layer.kind).fields:
                raise BadInput(f"a layer of the kind {registry.kind_of(layer.kind).label} has no such map")
            if region and setup.region(region).mesh != setup.region(layer.region).mesh:
                raise BadInput(f"expected a map of the mesh of “{layer.name}”, “{setup.region(region).name}” is of another")
        return edits.set_fields(setup, layer_id, **maps)

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: map").take


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


def mirror(row, layer_ids):
    """A copy of each layer on the other side of the character; returns the Take or None, and the ids of the copies.

    Raises BadInput where the other side has nothing for one, or has a layer already, see `other_sides`.
    """
    character, _ = loaded(row.pk)

    def command(setup):
        for layer_id in layer_ids:
            layer = setup.layer(layer_id)
            name = f"{layer.name}, other side"[:200]
            if registry.kind_of(layer.kind).made_of == MUSCLES:
                raise BadInput(f"“{layer.name}”: muscles are mirrored one by one: press Mirror all in its panel")
            if registry.kind_of(layer.kind).made_of == JOINTS:
                setup = edits.with_copy(setup, layer, name, link="", group="", chains=_mirrored(character, layer))
                continue
            region = setup.region(layer.region)
            mesh, levels = character.painted(region)
            values = regions.encode(regions.mirrored(levels, topology(mesh.positions, mesh.triangles)))
            setup = edits.with_new_region(setup, f"{region.name}, other side"[:200], region.mesh, region.vertices, values)
            form = layer.form and layer.form.mirrored()
            setup = edits.with_copy(setup, layer, name, link="", group="", region=setup.regions[-1].id, form=form)
        return setup

    made = edit(row, command, lambda setup: f"{_named(setup, layer_ids)}: mirrored")
    return made.take, [layer.id for layer in made.setup.layers[-len(layer_ids) :]]


def other_sides(row, layer_ids):
    """{layer id: the Layer of its kind that drives the joints on the other side}, of the layers that have one. Raises BadInput."""
    character, _ = loaded(row.pk)
    setup, found = row.setup, {}
    for layer_id in layer_ids:
        layer = setup.layer(layer_id)
        if registry.kind_of(layer.kind).made_of != JOINTS:
            continue
        own, wanted = _driven(character, layer.chains), _driven(character, _mirrored(character, layer))
        for other in setup.layers:
            driven = _driven(character, other.chains) if other.kind == layer.kind else set()
            # What drives this side too is no other side of it.
            if wanted & driven and not own & driven:
                found[layer_id] = other
                break
    return found


def copy_over(row, layer_ids, is_linked):
    """Give the layers of the other side the dials and amounts of these; ``is_linked`` lets both sides share them from now on."""
    pairs = other_sides(row, layer_ids)

    def command(setup):
        for layer_id, other in pairs.items():
            layer = setup.layer(layer_id)
            if is_linked:
                setup = edits.link_layers(setup, [layer_id, other.id])
            else:
                setup = edits.set_amount(edits.set_dials(setup, [other.id], layer.values), [other.id], layer.amount)
        return setup

    return edit(row, command, f"{_named(row.setup, layer_ids)}: {'linked with' if is_linked else 'copied to'} the other side").take


def _mirrored(character, layer):
    return tuple(picking.mirrored(character, pick) for pick in layer.chains)


def _driven(character, picks):
    return {node for pick in picks for nodes in picking.resolve(character, pick) for node in nodes}


def _named(setup, layer_ids):
    """What a change of some layers is said to be of."""
    return setup.layer(layer_ids[0]).name if len(layer_ids) == 1 else f"{len(layer_ids)} layers"


def _soft_body(row, setup, layer, notes):
    """The soft body of a layer as a run would build it."""
    kind = registry.kind_of(layer.kind)
    if not kind.is_soft:
        raise BadInput(f"expected a soft layer, “{layer.name}” is of the kind {kind.label}")
    character, _ = loaded(row.pk)
    character = with_made(character, setup)
    context = PlanContext(character, setup, character.clip_or_still(""), notes)
    for below in kind.follows:
        context.units_so_far += registry.kind_of(below).build(context, [each for each in setup.layers if each.kind == below and each.is_on])
    (body,) = kind.build(context, [layer])
    return body


def volume_facts(row, layer_id, cell_size=None):
    """What the panel says of a volume as it would be built, with another size of its cells if given [mm]. Raises BadInput."""
    setup = row.setup if cell_size is None else edits.set_dial(row.setup, [layer_id], "cell_size", cell_size)
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
    if not hasattr(soft.part, "carried"):
        raise BadInput(f"“{soft.layer.name}” has no inside that could be shown")
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


def set_dial(row, layer_ids, dial_name, value):
    """Set one dial of some layers and of those linked with them; None sets the default. Raises BadInput."""

    def label(setup):
        return f"{_named(setup, layer_ids)}: {registry.kind_of(setup.layer(layer_ids[0]).kind).dial(dial_name).label}"

    return edit(row, lambda setup: edits.set_dial(setup, layer_ids, dial_name, value), label).take


def set_override(row, layer_ids, dial_name, value):
    """Give a dial of some layers another value on the active clip alone; None takes that back. Raises BadInput. Returns the Take."""
    words = f"“{row.active_clip}” only: {{}}"

    def label(setup):
        dial = registry.kind_of(setup.layer(layer_ids[0]).kind).dial(dial_name)
        return words.format(f"{_named(setup, layer_ids)}: {dial.label}")[:200]

    return edit(row, lambda setup: edits.set_override(setup, row.active_clip, layer_ids, dial_name, value), label).take


def overrides_of(row, layer):
    """[(Dial, value)] of a layer that have another value on the active clip."""
    kind = registry.kind_of(layer.kind)
    own = [each for each in row.setup.overrides if (each.clip, each.layer) == (row.active_clip, layer.id)]
    return [(kind.dial(each.dial), each.value) for each in own]


def take_dials(row, layer_ids, preset="", other="", own=""):
    """Set the dials of layers of one kind as a preset does, or an own one (its number), or as another layer has them. Raises BadInput."""
    saved = OwnPreset.objects.filter(pk=whole_number(own), owner=row.person).first()

    def command(setup):
        layers = [setup.layer(layer_id) for layer_id in layer_ids]
        layer, kind = layers[0], registry.kind_of(layers[0].kind)
        if any(each.kind != layer.kind for each in layers):
            raise BadInput("the chosen layers are of several kinds; a preset is for one kind")
        if own:
            if saved is None or saved.kind != layer.kind:
                raise BadInput("this preset of your own is not there any more")
            values = {name: value for name, value in saved.values.items() if name in kind.defaults}
        elif preset:
            values = {
                name: value for name, value in kind.preset(preset).items() if name in kind.presets[preset] or name not in kind.kept_dials
            }
        else:
            model = setup.layer(other)
            if model.kind != layer.kind:
                raise BadInput(f"expected another layer of the kind {kind.label} to copy from, “{model.name}” is none")
            values = {name: model.value(name) for name in kind.defaults if name not in kind.kept_dials}
        return edits.set_dials(setup, layer_ids, values)

    source = preset or (saved.name if saved else "")
    return edit(row, command, lambda setup: f"{_named(setup, layer_ids)}: like {source or setup.layer(other).name}").take


def own_presets(row, kind):
    """The own presets of whoever looks at a character, for a kind of layer."""
    return OwnPreset.objects.filter(kind=kind, owner=row.person)


def save_preset(row, layer_id, name):
    """Keep how a layer feels as a preset of the artist's own; one of that name is replaced. Raises BadInput."""
    layer, name = row.setup.layer(layer_id), name.strip()[:100]
    if not name:
        raise BadInput("the preset has no name yet: type one, such as what it feels like")
    kept = registry.kind_of(layer.kind).kept_dials
    values = {dial: value for dial, value in layer.values.items() if dial not in kept}
    OwnPreset.objects.update_or_create(owner=row.person, kind=layer.kind, name=name, defaults={"values": values})


def forget_preset(row, layer_id, own):
    """Delete one of the artist's own presets."""
    own_presets(row, row.setup.layer(layer_id).kind).filter(pk=own).delete()


def set_scene_dial(row, dial_name, value):
    """Set one of the values of the whole setup. Raises BadInput."""
    return edit(row, lambda setup: edits.set_scene(setup, dial_name, value), edits.scene_dial(dial_name).label).take


def change_layers(row, layer_ids, action, value=""):
    """Switch, move, rename, duplicate, group, link or remove layers; ``value`` is a name, or the layer in front of which they go.

    Returns the Take or None, and the ids of the layers that are chosen now. Raises BadInput.
    """
    if action not in CHANGES:
        raise BadInput(f"expected one of {', '.join(CHANGES)}, got “{action}”")
    change, words, runs = CHANGES[action]
    setup = row.setup
    if action == "rename" and not value.strip():
        raise BadInput(f"a layer needs a name; “{setup.layer(layer_ids[0]).name}” keeps its own")

    def label(before):
        chosen = [before.layer(each) for each in layer_ids]
        if action == "switch":
            return f"{_named(before, layer_ids)}: {'off' if all(layer.is_on for layer in chosen) else 'on'}"
        return f"{_named(before, layer_ids)}: {words}"

    made = edit(row, lambda before: change(before, layer_ids, value), label, runs=runs)
    known = {layer.id for layer in setup.layers}
    new = [layer.id for layer in made.setup.layers if layer.id not in known] if action == "duplicate" else []
    return made.take, new or [each for each in layer_ids if any(layer.id == each for layer in made.setup.layers)]


def switch_all(row, is_on):
    """All layers on or off. Raises BadInput."""
    ids = [layer.id for layer in row.setup.layers]
    return edit(row, lambda setup: edits.switch_layers(setup, ids, is_on), "All layers on" if is_on else "All layers off").take


CHANGES = {
    "switch": (lambda setup, ids, value: edits.switch_layers(setup, ids), "switched", True),
    "solo": (lambda setup, ids, value: edits.solo(setup, ids), "only these on", True),
    "up": (lambda setup, ids, value: edits.shift_layers(setup, ids, -1), "earlier", True),
    "down": (lambda setup, ids, value: edits.shift_layers(setup, ids, 1), "later", True),
    "before": (lambda setup, ids, value: edits.move_layers(setup, ids, value), "moved", True),
    "rename": (lambda setup, ids, value: edits.rename_layer(setup, ids[0], value), "renamed", False),
    "duplicate": (lambda setup, ids, value: edits.duplicate(setup, ids), "duplicated", True),
    "group": (lambda setup, ids, value: edits.group_layers(setup, ids, value), "grouped", True),
    "link": (lambda setup, ids, value: edits.link_layers(setup, ids), "linked", True),
    "unlink": (lambda setup, ids, value: edits.unlink_layers(setup, ids), "unlinked", False),
    "remove": (lambda setup, ids, value: edits.without_layers(setup, ids), "removed", True),
}
"""{action: (setup, ids, value → changed setup), words for the history, whether a simulation feels it}."""


def set_amount(row, layer_ids, keys):
    """Set the amount keys of layers, {frame: value}; keys that another page set meanwhile stay."""
    setup_document.read_amount(sorted(keys.items()))
    seen = dict(_seen(row).layer(layer_ids[0]).amount)

    def command(setup):
        now = dict(setup.layer(layer_ids[0]).amount)
        changed = {frame: value for frame, value in keys.items() if seen.get(frame) != value}
        kept = {frame: value for frame, value in now.items() if frame in keys or frame not in seen}
        return edits.set_amount(setup, layer_ids, setup_document.read_amount(sorted((kept | changed).items())))

    return edit(row, command, lambda setup: f"{_named(setup, layer_ids)}: amount").take


def _seen(row):
    """The setup that the page shows which an edit comes from."""
    seen = row.versions.filter(pk=row.seen_version).first() if getattr(row, "seen_version", None) else None
    return seen.setup if seen else row.setup


def others_of(row):
    """The other characters in the library, whose setups may come over."""
    return readable(row.person).exclude(pk=row.pk).defer("picture", "facts", "findings")


def bring_over(row, other_pk, by_hand):
    """Replace the setup by that of another character, brought over; by_hand are {joint there: joint here}. Size and rate stay as they are;
    where no layer finds its place, all does.

    Returns (Journey, the Take that follows). Raises BadInput.
    """
    other = readable(row.person).filter(pk=other_pk).first()
    if other is None or other.pk == row.pk:
        raise BadInput("expected another character of the library")
    source, target = loaded(other.pk)[0], loaded(row.pk)[0]
    journey = travelled(other.setup, source, target, by_hand)

    def brought(setup):
        if not journey.setup.layers:
            return setup
        return replace(journey.setup, metres_per_unit=setup.metres_per_unit, frame_rate=setup.frame_rate)

    return journey, edit(row, brought, f"Setup of {other.name}"[:200]).take


def unsure_picture(row, journey):
    """Where regions that came over are unsure, as a PNG in a data URI; "" where none is."""
    character, _ = loaded(row.pk)
    meshes, marks = {mesh.name: index for index, mesh in enumerate(character.meshes)}, {}
    for region in journey.setup.regions:
        if region.id in journey.unsure:
            index = meshes[region.mesh]
            marks[index] = marks.get(index, False) | journey.unsure[region.id]
    if not marks:
        return ""
    image = io.BytesIO()
    Image.fromarray(marked(character, marks)).save(image, "PNG")
    return f"data:image/png;base64,{base64.b64encode(image.getvalue()).decode()}"


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
    absent = sorted({own.mesh for layer in setup.layers for own in layer.muscles if own.mesh and own.at >= sizes.get(own.mesh, 0)})
    if absent:
        raise BadInput(f"this character has no meshes for muscles called {', '.join(absent[:20])}")
    return edit(row, lambda _: setup, "Imported setup").take
