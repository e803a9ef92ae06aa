"""Edits of a setup: pure functions from a Setup to a changed one. All raise BadInput, and then nothing has changed."""

import re
from dataclasses import replace

from quiver import colliders as shapes
from quiver import layers as registry
from quiver.colliders import SIZES, Collider
from quiver.errors import BadInput
from quiver.layers.kinds import JOINTS, REGION
from quiver.setup.model import (
    FOLLOWER,
    LAYER,
    MOST_FOLLOWED,
    SCENE_DIALS,
    ChainPick,
    Follower,
    Layer,
    Override,
    Region,
    between_keys,
    found,
)

LONGEST_NAME = 200
SEAM = 1e-3
"""So short before the next cycle of a clip begins, the last one ends [frames]."""


def new_layer(kind, identifier, name, values=None, **fields):
    """A Layer of a kind with all its dials: those given, the others at their default."""
    return Layer(identifier, name, kind, values=registry.kind_of(kind).defaults | _checked(kind, values or {}), **fields)


def _checked(kind, values):
    return {name: registry.kind_of(kind).dial(name).checked(value) for name, value in values.items()}


def complete(layer):
    """The layer with every dial of its kind."""
    defaults = registry.kind_of(layer.kind).defaults
    return layer if layer.values.keys() == defaults.keys() else replace(layer, values=defaults | layer.values)


# Regions


def with_region(setup, changed):
    """One region replaced, by its id."""
    return replace(setup, regions=_replaced(setup.regions, changed, "region"))


def with_new_region(setup, name, mesh, vertices, values, is_final=False):
    """One more region, the last one; a mesh has one final skin at most."""
    if is_final and setup.final_skin(mesh):
        raise BadInput(f"expected one final skin for “{mesh}”, it has “{setup.final_skin(mesh).name}”")
    identifier = free_id(name, "region", setup.regions)
    return replace(setup, regions=(*setup.regions, Region(identifier, name, mesh, vertices, values, is_final)))


def rename_region(setup, identifier, name):
    """Another name, trimmed; an empty one changes nothing."""
    region = setup.region(identifier)
    return with_region(setup, replace(region, name=name.strip()[:LONGEST_NAME] or region.name))


def set_levels(setup, identifier, values):
    """Other painted values, as mesh/regions.py encodes them."""
    return with_region(setup, replace(setup.region(identifier), values=values))


def without_region(setup, identifier):
    """One region less; refused where a layer is made of it."""
    region = setup.region(identifier)
    users = [layer.name for layer in setup.layers if identifier in layer.regions]
    if users:
        raise BadInput(f"“{region.name}” is used by {', '.join(f'“{name}”' for name in users)}; remove the layer first")
    return replace(setup, regions=tuple(each for each in setup.regions if each.id != identifier))


# Layers


def with_layer(setup, changed):
    """One layer replaced, by its id."""
    return replace(setup, layers=_replaced(setup.layers, changed, "layer"))


def with_new_layer(setup, layer):
    """One more layer on top; its id is made free."""
    return replace(setup, layers=(*setup.layers, replace(layer, id=free_id(layer.name, "layer", setup.layers))))


def with_new_chain(setup, pick, name="", kind="chain"):
    """One more layer of joints on top, of one pick."""
    if registry.kind_of(kind).made_of != JOINTS:
        raise BadInput(f"expected a kind of layer that is made of joints, got “{kind}”")
    return with_new_layer(setup, new_layer(kind, "", name or pick.root or pick.picked[0], chains=(pick,)))


def with_new_soft(setup, kind, region_id, name="", **values):
    """One more layer on top that is made of a region, with some dials."""
    region = setup.region(region_id)
    if registry.kind_of(kind).made_of != REGION:
        raise BadInput(f"expected a kind of layer that is made of a region, got “{kind}”")
    if region.is_final:
        raise BadInput(f"expected a region that is soft, “{region.name}” is a final skin")
    return with_new_layer(setup, new_layer(kind, "", name or region.name, values, region=region_id))


def with_new_skin_contact(setup, region_id, other=""):
    """One more skin contact on top: a region is kept from another, or from the rest of its mesh."""
    made = with_new_soft(setup, "skin_contact", region_id)
    if other:
        made.region(other)
    return with_layer(made, replace(made.layers[-1], other=other))


def with_copy(setup, layer, name, **changes):
    """A layer like ``layer`` on top, with a name of its own and some fields changed."""
    return with_new_layer(setup, replace(layer, name=name, **changes))


def without_layers(setup, identifiers):
    """Some layers less; what followed them follows its joints again."""
    gone = {setup.layer(identifier).id for identifier in identifiers}
    left = (layer for layer in setup.layers if layer.id not in gone)
    layers = tuple(replace(layer, rides="") if layer.rides in gone else layer for layer in left)
    layers = tuple(replace(layer, leaves_out="") if layer.leaves_out.removeprefix(f"{LAYER}:") in gone else layer for layer in layers)
    return replace(setup, layers=layers, colliders=tuple(_forgetting(collider, gone) for collider in setup.colliders))


def move_layers(setup, identifiers, before=""):
    """Some layers moved in front of another, or to the end; they keep their order, and join its group where it stands inside of one."""
    chosen = [layer for layer in setup.layers if layer.id in {setup.layer(each).id for each in identifiers}]
    others = [layer for layer in setup.layers if layer not in chosen]
    if before in {layer.id for layer in chosen}:
        # What the first one that stays is in front of.
        after = setup.layers[setup.layers.index(setup.layer(before)) :]
        before = next((layer.id for layer in after if layer not in chosen), "")
    at = others.index(setup.layer(before)) if before else len(others)
    around = {others[at - 1].group if at else "", others[at].group if at < len(others) else ""}
    group = around.pop() if len(around) == 1 else None
    placed = [layer if group is None else replace(layer, group=group) for layer in chosen]
    return replace(setup, layers=(*others[:at], *placed, *others[at:]))


def shift_layers(setup, identifiers, by):
    """Some layers moved together by one position up (-1) or down (1)."""
    order = [layer.id for layer in setup.layers]
    at = [order.index(setup.layer(identifier).id) for identifier in identifiers]
    if by < 0:
        return move_layers(setup, identifiers, order[max(min(at) - 1, 0)])
    return move_layers(setup, identifiers, order[max(at) + 2] if max(at) + 2 < len(order) else "")


def switch_layers(setup, identifiers, is_on=None):
    """Some layers on or off; without ``is_on`` all off where all are on, else all on."""
    chosen = [setup.layer(each) for each in with_links(setup, identifiers)]
    wanted = not all(layer.is_on for layer in chosen) if is_on is None else is_on
    return _changed_layers(setup, chosen, lambda layer: replace(layer, is_on=wanted))


def solo(setup, identifiers):
    """Only some layers on."""
    chosen = {setup.layer(identifier).id for identifier in identifiers}
    return replace(setup, layers=tuple(replace(layer, is_on=layer.id in chosen) for layer in setup.layers))


def duplicate(setup, identifiers):
    """A copy of each layer right after it; those of joints and of muscles are switched off, as two cannot move one."""
    for identifier in identifiers:
        layer = setup.layer(identifier)
        setup = with_copy(setup, layer, free_name(layer.name, setup.layers), link="", is_on=registry.kind_of(layer.kind).made_of == REGION)
        order = [each.id for each in setup.layers]
        after = order[order.index(identifier) + 1]
        setup = move_layers(setup, [setup.layers[-1].id], after) if after != setup.layers[-1].id else setup
    return setup


def group_layers(setup, identifiers, name):
    """Some layers in a group of that name, together where the first of them stands; "" takes them out of theirs."""
    name, chosen = name.strip()[:LONGEST_NAME], {setup.layer(identifier).id for identifier in identifiers}
    layers = [replace(layer, group=name) if layer.id in chosen else layer for layer in setup.layers]
    if name:
        first = next(at for at, layer in enumerate(layers) if layer.id in chosen)
        members, left = [layer for layer in layers if layer.id in chosen], [layer for layer in layers if layer.id not in chosen]
        layers = [*left[:first], *members, *left[first:]]
    return replace(setup, layers=tuple(layers))


def link_layers(setup, identifiers):
    """Let layers of one kind share their dials, amount and switch from now on; the others get those of the first."""
    first, *others = [setup.layer(identifier) for identifier in identifiers]
    for other in others:
        if other.kind != first.kind:
            raise BadInput(f"“{first.name}” and “{other.name}” are of different kinds, so they cannot be linked")
    shared = {"link": free_link(setup, first.id), "values": first.values, "amount": first.amount, "is_on": first.is_on}
    return _changed_layers(setup, [first, *others], lambda layer: replace(layer, **shared))


def unlink_layers(setup, identifiers):
    """Let layers, and those that are linked with them, go their own ways again."""
    chosen = [setup.layer(identifier) for identifier in with_links(setup, identifiers)]
    return _changed_layers(setup, chosen, lambda layer: replace(layer, link=""))


def with_links(setup, identifiers):
    """The ids of some layers and of those that are linked with them, in the setup's order."""
    chosen = [setup.layer(identifier) for identifier in identifiers]
    links, ids = {layer.link for layer in chosen if layer.link}, {layer.id for layer in chosen}
    return [layer.id for layer in setup.layers if layer.id in ids or layer.link in links]


def free_link(setup, base):
    """A name for a link that no layer has yet."""
    taken, number = {layer.link for layer in setup.layers}, 1
    while f"{base}:{number}" in taken:
        number += 1
    return f"{base}:{number}"


def free_name(name, others):
    """The name with a number that none of the others has."""
    base, taken, number = re.sub(r" \d+$", "", name)[: LONGEST_NAME - 6], {other.name for other in others}, 2
    while f"{base} {number}" in taken:
        number += 1
    return f"{base} {number}"


def rename_layer(setup, identifier, name):
    """Another name, trimmed; an empty one changes nothing."""
    layer = setup.layer(identifier)
    return with_layer(setup, replace(layer, name=name.strip()[:LONGEST_NAME] or layer.name))


def set_dial(setup, identifiers, name, value):
    """One dial of some layers and of those linked with them; None sets its default."""
    chosen = [setup.layer(each) for each in with_links(setup, identifiers)]

    def changed(layer):
        dial = registry.kind_of(layer.kind).dial(name)
        return replace(layer, values=layer.values | {name: dial.default if value is None else dial.checked(value)})

    return _changed_layers(setup, chosen, changed)


def set_dials(setup, identifiers, values):
    """Several dials of some layers of one kind and of those linked with them."""
    chosen = [setup.layer(each) for each in with_links(setup, identifiers)]
    return _changed_layers(setup, chosen, lambda layer: replace(layer, values=layer.values | _checked(layer.kind, values)))


def set_amount(setup, identifiers, keys):
    """The amount keys of some layers and of those linked with them, ((frame, value), ...) with frames rising."""
    chosen = [setup.layer(each) for each in with_links(setup, identifiers)]
    return _changed_layers(setup, chosen, lambda layer: replace(layer, amount=keys))


def _changed_layers(setup, chosen, change):
    """The setup with ``change`` made to some of its layers."""
    ids = {layer.id for layer in chosen}
    return replace(setup, layers=tuple(change(layer) if layer.id in ids else layer for layer in setup.layers))


def set_fields(setup, identifier, **fields):
    """Some fields of a layer, such as what it rides on, or its form."""
    return with_layer(setup, replace(setup.layer(identifier), **fields))


def with_chain(setup, identifier, pick):
    """One more pick in a layer of joints."""
    layer = setup.layer(identifier)
    return with_layer(setup, replace(layer, chains=(*layer.chains, pick)))


def without_chain(setup, identifier, index):
    """One pick less in a layer; its last one stays."""
    layer = setup.layer(identifier)
    if not 0 <= index < len(layer.chains) or len(layer.chains) == 1:
        raise BadInput(f"{layer.name}: expected a chain to remove that is not its last, got number {index + 1} of {len(layer.chains)}")
    return with_layer(setup, replace(layer, chains=layer.chains[:index] + layer.chains[index + 1 :]))


def carrier(setup, identifier):
    """The layer of that id, if others can ride on it."""
    layer = setup.layer(identifier)
    if not registry.kind_of(layer.kind).carries:
        carriers = " or ".join(f"“{kind.label}”" for kind in registry.kinds() if kind.carries)
        raise BadInput(f"expected a layer of the kind {carriers}, “{layer.name}” is a {registry.kind_of(layer.kind).label}")
    return layer


# Colliders


def with_collider(setup, changed):
    """One collider replaced, by its id."""
    return replace(setup, colliders=_replaced(setup.colliders, changed, "collider"))


def with_new_collider(setup, shape, name, **fields):
    """One more collider."""
    if shape not in SIZES:
        raise BadInput(f"expected a collider of the shape {', '.join(SIZES)}, got “{shape}”")
    fields = {"size": (0.1,) * len(SIZES[shape])} | fields
    made = Collider(free_id(name, "collider", setup.colliders), name, shape, values=dict(shapes.DEFAULTS), **fields)
    return replace(setup, colliders=(*setup.colliders, made))


def set_collider(setup, identifier, **fields):
    """Some fields of a collider."""
    return with_collider(setup, replace(setup.collider(identifier), **fields))


def set_collider_dial(setup, identifier, name, value):
    """One dial of a collider."""
    collider = setup.collider(identifier)
    return with_collider(setup, replace(collider, values=collider.values | {name: shapes.dial_of(name).checked(value)}))


def without_collider(setup, identifier):
    """One collider less."""
    setup.collider(identifier)
    return replace(setup, colliders=tuple(each for each in setup.colliders if each.id != identifier))


# Followers and the scene


def with_new_follower(setup, name, mesh, vertices):
    """One more follower over some vertices of a mesh."""
    if not 0 < len(vertices) <= MOST_FOLLOWED:
        raise BadInput(f"expected 1 to {MOST_FOLLOWED} points to follow, got {len(vertices)}")
    made = Follower(free_id(name, "follower", setup.followers), name, mesh, tuple(int(vertex) for vertex in vertices))
    return replace(setup, followers=(*setup.followers, made))


def without_follower(setup, identifier):
    """One follower less; what rides on it follows its joints again."""
    setup.follower(identifier)
    layers = tuple(replace(layer, rides="") if layer.rides == f"{FOLLOWER}:{identifier}" else layer for layer in setup.layers)
    return replace(setup, layers=layers, followers=tuple(each for each in setup.followers if each.id != identifier))


def scene_dial(name):
    """The value of the whole setup of that name."""
    for dial in SCENE_DIALS:
        if dial.name == name:
            return dial
    raise BadInput(f"expected one of {', '.join(dial.name for dial in SCENE_DIALS)}, got “{name}”")


def set_scene(setup, name, value):
    """One value of the whole setup."""
    return replace(setup, **{name: scene_dial(name).checked(value)})


def set_override(setup, clip_name, identifiers, dial_name, value):
    """Another value of a dial of some layers, and of those linked with them, on one clip; None leaves them as on all. Raises BadInput."""
    chosen = [setup.layer(each) for each in with_links(setup, identifiers)]
    if value is not None and not clip_name:
        raise BadInput("expected a clip to have a dial of its own, got the rest pose")
    ids = {layer.id for layer in chosen}
    kept = [each for each in setup.overrides if (each.clip, each.dial) != (clip_name, dial_name) or each.layer not in ids]
    for layer in chosen if value is not None else ():
        kept.append(Override(clip_name, layer.id, dial_name, registry.kind_of(layer.kind).dial(dial_name).checked(value)))
    return replace(setup, overrides=tuple(sorted(kept, key=lambda each: (each.clip, each.layer, each.dial))))


def set_dial_on(setup, clip_name, identifiers, name, value):
    """A dial as it is to be on one clip: that clip's own where it has one for any of the layers, else that of all. Raises BadInput."""
    ids = set(with_links(setup, identifiers))
    if any((each.clip, each.dial) == (clip_name, name) and each.layer in ids for each in setup.overrides):
        return set_override(setup, clip_name, identifiers, name, value)
    return set_dial(setup, identifiers, name, value)


def set_cycle(setup, clip_name, is_one):
    """Whether takes of a clip run around until the motion repeats. Raises BadInput for the rest pose."""
    if not clip_name:
        raise BadInput("expected a clip to run around, got the rest pose")
    others = [name for name in setup.cycles if name != clip_name]
    return replace(setup, cycles=tuple(sorted([*others, clip_name] if is_one else others)))


def around(setup, frames, times):
    """The setup for a clip of so many frames that is run around so many times: keys of amounts and pulls come again and again."""

    def repeated(keys):
        if len(keys) < 2:
            return keys
        inside = [(frame, value) for frame, value in keys if 0.0 <= frame < frames]
        # As in the clip itself until just before the next one begins.
        ends = [(0.0, between_keys(keys, 0.0)), (frames - SEAM, between_keys(keys, frames - SEAM))]
        once = sorted(dict([*ends, *inside]).items())
        return tuple((frame + turn * frames, value) for turn in range(times) for frame, value in once)

    layers = tuple(
        replace(layer, amount=repeated(layer.amount), muscles=tuple(replace(own, keys=repeated(own.keys)) for own in layer.muscles))
        for layer in setup.layers
    )
    return replace(setup, layers=layers)


def joint_pick(name):
    """The pick of one joint alone."""
    return ChainPick(name, name)


def _replaced(items, changed, what):
    found(items, changed.id, what)
    return tuple(changed if item.id == changed.id else item for item in items)


def _forgetting(collider, layer_ids):
    """A collider that no longer names some layers."""
    kept = (tuple(each for each in ids if each not in layer_ids) for ids in (collider.meets, collider.spares))
    return replace(collider, **dict(zip(("meets", "spares"), kept, strict=True)))


def free_id(name, fallback, others):
    """An id made of a name that none of the others has."""
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:80] or fallback
    taken = {other.id for other in others}
    identifier, number = base, 2
    while identifier in taken:
        identifier, number = f"{base}-{number}", number + 1
    return identifier
