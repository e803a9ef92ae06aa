"""Edits of a setup: pure functions from a Setup to a changed one. All raise BadInput, and then nothing has changed."""

import re
from dataclasses import replace

from quiver import colliders as shapes
from quiver import layers as registry
from quiver.colliders import SIZES, Collider
from quiver.errors import BadInput
from quiver.layers.kinds import JOINTS, REGION
from quiver.setup.model import FOLLOWER, MOST_FOLLOWED, SCENE_DIALS, ChainPick, Follower, Layer, Region, found

LONGEST_NAME = 200


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
    users = [layer.name for layer in setup.layers if identifier in (layer.region, layer.other)]
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


def without_layer(setup, identifier):
    """One layer less; what followed it follows its joints again."""
    setup.layer(identifier)
    left = (layer for layer in setup.layers if layer.id != identifier)
    layers = tuple(replace(layer, rides="") if layer.rides == identifier else layer for layer in left)
    return replace(setup, layers=layers, colliders=tuple(_forgetting(collider, identifier) for collider in setup.colliders))


def move_layer(setup, identifier, by):
    """One layer moved by some positions in the order."""
    layers = list(setup.layers)
    at = layers.index(setup.layer(identifier))
    layers.insert(max(0, min(len(layers) - 1, at + by)), layers.pop(at))
    return replace(setup, layers=tuple(layers))


def switch_layer(setup, identifier, is_on=None):
    """A layer on or off; without ``is_on`` the other way round."""
    layer = setup.layer(identifier)
    return with_layer(setup, replace(layer, is_on=not layer.is_on if is_on is None else is_on))


def rename_layer(setup, identifier, name):
    """Another name, trimmed; an empty one changes nothing."""
    layer = setup.layer(identifier)
    return with_layer(setup, replace(layer, name=name.strip()[:LONGEST_NAME] or layer.name))


def set_dial(setup, identifier, name, value):
    """One dial of a layer; None sets its default."""
    layer = setup.layer(identifier)
    dial = registry.kind_of(layer.kind).dial(name)
    return with_layer(setup, replace(layer, values=layer.values | {name: dial.default if value is None else dial.checked(value)}))


def set_dials(setup, identifier, values):
    """Several dials of a layer."""
    layer = setup.layer(identifier)
    return with_layer(setup, replace(layer, values=layer.values | _checked(layer.kind, values)))


def set_amount(setup, identifier, keys):
    """The amount keys of a layer, ((frame, value), ...) with frames rising."""
    return with_layer(setup, replace(setup.layer(identifier), amount=keys))


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


def joint_pick(name):
    """The pick of one joint alone."""
    return ChainPick(name, name)


def _replaced(items, changed, what):
    found(items, changed.id, what)
    return tuple(changed if item.id == changed.id else item for item in items)


def _forgetting(collider, layer_id):
    """A collider that no longer names a layer."""
    kept = (tuple(each for each in ids if each != layer_id) for ids in (collider.meets, collider.spares))
    return replace(collider, **dict(zip(("meets", "spares"), kept, strict=True)))


def free_id(name, fallback, others):
    """An id made of a name that none of the others has."""
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:80] or fallback
    taken = {other.id for other in others}
    identifier, number = base, 2
    while identifier in taken:
        identifier, number = f"{base}-{number}", number + 1
    return identifier
