"""Edits of a setup's colliders, and what the panel and the stage show of them."""

import warnings
from dataclasses import replace
from functools import partial

import numpy as np
from scipy.spatial.transform import Rotation

from quiver import layers as registry
from quiver.bodies import fitting, picking, simplified
from quiver.colliders import DIALS, LABELS, SIZES, SURFACES, dial_of
from quiver.contact.contacts import Contacts, flesh_carriers, meets_skin
from quiver.contact.roots import clear_place, inner_roots
from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.setup import edits
from studio.characters.services import joint_names, loaded
from studio.edits.services import checked_number, checked_place, edit
from studio.numbers import whole_number

FIRST_SHARE = 0.08
"""A collider that is not fitted to anything begins as large as this share of the character's size."""

SMALL_SHARE, LEAST_SHARE = 0.12, 0.3
"""What is shorter than that share of the character is small beside the body; a capsule is made no thinner than that share of itself."""
MOST_DOTS = 900
"""Dots that show a surface on the stage."""


def add(row, shape, joint):
    """Add a collider, fitted to what a joint moves; without a joint it stands in the middle of the character. Raises BadInput.

    ``shape`` is one of those that there are, or skin:mesh, or body:mesh
    """
    character, _ = loaded(row.pk)
    shape, _, mesh = shape.partition(":")
    if shape in ("skin", "body"):
        mesh = character.mesh(mesh)
        size = () if shape == "skin" else (simplified.usual_bridge(mesh, rest_matrices(character.skeleton)),)
        name = mesh.name if shape == "skin" else f"{mesh.name}, simplified"
        return edit(row, lambda setup: edits.with_new_collider(setup, shape, name, size=size, mesh=mesh.name), f"Collider: {name}").take
    fields, name = _placed(character, shape, _joint(row, joint)), joint or LABELS.get(shape, "Collider")
    return edit(row, lambda setup: edits.with_new_collider(setup, shape, name, **fields), f"Collider: {name}").take


def _placed(character, shape, joint):
    """Where a new collider is and how large, as fields of one."""
    if shape == "ground":
        return {"size": ()}
    if shape == "hull":
        if not joint:
            raise BadInput("expected the joint whose skin the hull goes around: click one on the stage, or type its name")
        return {"joint": joint, "size": ()}
    if joint:
        node = character.skeleton.index(joint)
        fitted = fitting.fit_capsule(character, node)
        if fitted:
            return {"joint": joint, **_as_shape(shape, *fitted)}
    world = rest_matrices(character.skeleton)
    size = FIRST_SHARE * max(float(np.ptp(world[:, :, 3], axis=0).max()), 1e-3)
    place = world[character.skeleton.index(joint), :, 3] if joint else world[:, :, 3].mean(0)
    return {"joint": joint, **_as_shape(shape, place, (0.0, 0.0, 0.0, 1.0), size, size)}


def _as_shape(shape, place, turn, radius, length):
    """Place, turn and size of a shape as large as a capsule."""
    sizes = {
        "ball": (radius,),
        "capsule": (radius, length),
        "box": (2.0 * radius, length + 2.0 * radius, 2.0 * radius, 0.4 * radius),
    }
    if shape not in sizes:
        raise BadInput(f"expected a collider of the shape {', '.join(SIZES)}, got “{shape}”")
    plain = [tuple(float(value) for value in values) for values in (place, turn, sizes[shape])]
    return dict(zip(("place", "turn", "size"), plain, strict=True))


def fit_all(row, shape="capsule", with_small=False):
    """Give every joint that moves enough skin a capsule, or a hull, but those that have one already, or that chains drive.

    Eyes, teeth and fingers, what is small beside the body, are left out unless ``with_small``. A capsule that would hold joints of a chain
    at rest is made thinner. Raises BadInput.
    """
    if shape not in ("capsule", "hull"):
        raise BadInput(f"expected capsules or hulls for all joints, got “{shape}”")
    character, _ = loaded(row.pk)
    skeleton, made = character.skeleton, []

    def command(setup):
        taken = {skeleton.index(each.joint) for each in setup.colliders if each.joint and each.joint in skeleton}
        least = 0.0 if with_small else SMALL_SHARE
        found = fitting.fit_all(character, taken | picking.driven_nodes(character, setup.layers), least)
        if shape == "hull":
            found = {node: fitted for node, fitted in found.items() if _has_hull(character, skeleton.names[node])}
        if not found:
            raise BadInput("every joint that moves skin has a collider already, or is driven by a layer")
        for node, fitted in found.items():
            name, fields = skeleton.names[node], _as_shape(shape, *fitted) if shape == "capsule" else {"size": ()}
            setup = edits.with_new_collider(setup, shape, name, joint=name, **fields)
        made[:] = [each.id for each in setup.colliders[-len(found) :]]
        return _thinned(character, setup, made) if shape == "capsule" else setup

    return edit(row, command, lambda _: f"{len(made)} {shape}s fitted").take


def _thinned(character, setup, new):
    """Capsules that hold joints of a chain in the rest pose, made so thin that they do not, or as thin as may be."""
    contacts, driven = Contacts(character, setup), picking.driven_nodes(character, setup.layers)
    world, scale = rest_matrices(character.skeleton), setup.metres_per_unit
    for layer in setup.layers:
        nodes = sorted(picking.driven_nodes(character, [layer])) if layer.is_on and layer.chains else []
        if not nodes:
            continue
        away = contacts.distances(world[nodes, :, 3] * scale).min(0)
        for index in contacts.met_by(layer, driven, flesh_carriers(character, setup, layer)):
            collider = setup.collider(contacts.colliders[index].id)
            room = float(away[index] - collider.value("margin") / 1000.0) / scale
            if collider.id in new and room < collider.radius:
                radius, length = collider.size
                setup = edits.set_collider(setup, collider.id, size=(max(room, LEAST_SHARE * radius), length))
    return setup


def _has_hull(character, joint):
    """Whether what a joint moves has a volume."""
    try:
        simplified.hull_mesh(character, joint, rest_matrices(character.skeleton))
    except BadInput:
        return False
    return True


def change(row, collider_id, action, text):
    """Switch, rename, remove, mirror or fit a collider, move it clear of roots, or let it ride on another joint. Raises BadInput."""
    text = text.strip()

    def switched(setup):
        return edits.set_collider(setup, collider_id, is_on=not setup.collider(collider_id).is_on)

    def renamed(setup):
        return edits.set_collider(setup, collider_id, name=text[:200] or setup.collider(collider_id).name)

    def fitted(setup):
        collider = setup.collider(collider_id)
        return edits.set_collider(setup, collider_id, **_placed(loaded(row.pk)[0], collider.shape, collider.joint))

    def mirrored(setup):
        collider = setup.collider(collider_id)
        return edits.with_new_collider(setup, collider.shape, **_mirrored(row, collider))

    def cleared(setup):
        return edits.set_collider(setup, collider_id, place=clear_place(loaded(row.pk)[0], setup, collider_id))

    commands = {
        "switch": (switched, "switched"),
        "clear": (cleared, "moved clear of roots"),
        "rename": (renamed, "renamed"),
        "ride": (lambda setup: edits.set_collider(setup, collider_id, joint=_joint(row, text)), "on another joint"),
        "fit": (fitted, "fitted"),
        "remove": (lambda setup: edits.without_collider(setup, collider_id), "removed"),
        "mirror": (mirrored, "mirrored"),
    }
    if action not in commands:
        raise BadInput(f"expected one of {', '.join(commands)}, got “{action}”")
    command, words = commands[action]
    return edit(row, command, lambda setup: f"{setup.collider(collider_id).name}: {words}", runs=action != "rename").take


def add_skin_contact(row, of, joints, against):
    """Keep an area of the skin from another, or, with "", from the rest of its mesh. Raises BadInput.

    ``of`` is a region's id, or "joints:" for what ``joints`` (names with commas between) and those below them move.
    """
    if of != "joints:":
        command = partial(edits.with_new_skin_contact, region_id=of, other=against)
        return edit(row, command, lambda setup: f"Skin contact of {setup.region(of).name}").take
    character, _ = loaded(row.pk)
    mesh, levels = picking.moved_by(character, joint_names(row, joints.strip()))

    def command(setup):
        setup = edits.with_new_region(setup, joints[:200], mesh.name, len(levels), regions.encode(levels))
        return edits.with_new_skin_contact(setup, setup.regions[-1].id, against)

    return edit(row, command, f"Skin contact of {joints}").take


def skin_contacts(row):
    """The layers of skin contact: (layer, its region's name, the other region's name or "")."""
    setup = row.setup
    layers = [layer for layer in setup.layers if layer.kind == "skin_contact"]
    return [(layer, setup.region(layer.region).name, setup.region(layer.other).name if layer.other else "") for layer in layers]


def _joint(row, name):
    if name and not any(node["name"] == name for node in row.facts["nodes"]):
        raise BadInput(f"expected a joint of this character, or nothing for the world, got “{name}”")
    return name


def _mirrored(row, collider):
    """The fields of a collider on the other side of the character."""
    character, _ = loaded(row.pk)
    joint = collider.joint
    if joint:
        names = character.skeleton.names
        joint = names[picking.partner_of(character, character.skeleton.index(joint))]
    x, y, z = collider.place
    a, b, c, w = collider.turn
    return {
        "name": f"{collider.name}, other side"[:200] if joint == collider.joint else joint,
        "joint": joint,
        "place": (-x, y, z),
        "turn": (a, -b, -c, w),
        "size": collider.size,
        "is_on": collider.is_on,
        "meets": collider.meets,
        "spares": collider.spares,
        "mesh": collider.mesh,
    }


def set_field(row, collider_id, name, value):
    """Set a dial of a collider, or one of its numbers: size, place [mm] or turn [degrees] and which, such as "place 1". Raises BadInput."""
    kind, _, which = name.partition(" ")
    if kind not in ("size", "place", "turn"):
        command = partial(edits.set_collider_dial, identifier=collider_id, name=name, value=value)
        return edit(row, command, lambda setup: f"{setup.collider(collider_id).name}: {dial_of(name).label}").take
    number = checked_number(value)
    if kind == "size" and number < 0.0:
        raise BadInput(f"expected a size of 0 mm or more, got “{value}”")

    def command(setup):
        collider = setup.collider(collider_id)
        numbers = list(_degrees(collider.turn) if kind == "turn" else getattr(collider, kind))
        index = whole_number(which)
        if index is None or index >= len(numbers):
            raise BadInput(f"expected one of {len(numbers)} numbers of its {kind}, got “{name}”")
        numbers[index] = number if kind == "turn" else number / (1000.0 * setup.metres_per_unit)
        return edits.set_collider(setup, collider_id, **{kind: _turn_of(numbers) if kind == "turn" else tuple(numbers)})

    return edit(row, command, lambda setup: f"{setup.collider(collider_id).name}: {kind}").take


def move(row, collider_id, place, turn, size):
    """Put a collider where the stage dragged it: a place and a turn (x y z w) in the rest pose, and sizes [file units]. Raises BadInput."""

    def command(setup):
        placed = checked_place(place, turn, size, len(setup.collider(collider_id).size))
        return edits.set_collider(setup, collider_id, **dict(zip(("place", "turn", "size"), placed, strict=True)))

    return edit(row, command, lambda setup: f"{setup.collider(collider_id).name}: moved").take


def meet(row, collider_id, layer_id, is_met):
    """Let a layer collide with a collider, or not. Raises BadInput."""
    words = "collides with" if is_met else "does not collide with"
    return edit(
        row,
        lambda setup: _meeting(row, setup, collider_id, layer_id, is_met),
        lambda setup: f"{setup.layer(layer_id).name} {words} {setup.collider(collider_id).name}",
    ).take


def _meeting(row, setup, collider_id, layer_id, is_met):
    """The setup in which a layer collides with a collider, or not; it says so only where that is not so by itself."""
    layer, collider = setup.layer(layer_id), setup.collider(collider_id)
    if not registry.kind_of(layer.kind).meets:
        raise BadInput(f"a layer of the kind {registry.kind_of(layer.kind).label} does not collide")
    plain = {each: tuple(other for other in getattr(collider, each) if other != layer_id) for each in ("meets", "spares")}
    if _meets(row, setup, replace(collider, **plain))[layer_id] != is_met:
        name = "meets" if is_met else "spares"
        plain[name] = (*plain[name], layer_id)
    return edits.set_collider(setup, collider_id, **plain)


def meet_many(row, collider_ids, layer_ids, is_met):
    """Let layers collide with colliders, or not: each pair that can. Raises BadInput."""

    def command(setup):
        for collider_id in collider_ids:
            for layer_id in layer_ids:
                setup = _meeting(row, setup, collider_id, layer_id, is_met)
        return setup

    words = "collide" if is_met else "do not collide"
    return edit(row, command, f"{len(collider_ids)} colliders and {len(layer_ids)} layers {words}").take


def change_many(row, collider_ids, action):
    """Switch colliders on or off, or remove them. Raises BadInput."""
    if not collider_ids:
        raise BadInput("no collider is ticked: tick those that the command is for")

    def command(setup):
        for collider_id in collider_ids:
            if action == "remove":
                setup = edits.without_collider(setup, collider_id)
            elif action in ("on", "off"):
                setup = edits.set_collider(setup, collider_id, is_on=action == "on")
            else:
                raise BadInput(f"expected on, off or remove, got “{action}”")
        return setup

    words = {"on": "on", "off": "off"}.get(action, "removed")
    return edit(row, command, f"{len(collider_ids)} collider{'s' if len(collider_ids) > 1 else ''} {words}").take


def watch_skin(row, is_watched):
    """Let takes tell how deep all of the skin gets into the colliders, or not."""
    words = f"Penetration of the whole skin {'measured' if is_watched else 'not measured'}"
    return edit(row, lambda setup: replace(setup, watches_skin=is_watched), words).take


def _meets(row, setup, collider):
    """{layer id: whether it meets a collider}."""
    return {layer.id: met for layer, met in matrix(row, setup, [collider])[0][1]}


def matrix(row, setup, colliders=None):
    """The collision table: (collider, [(layer, whether it meets it, None where it never could)]) for each collider."""
    character, _ = loaded(row.pk)
    colliders = setup.colliders if colliders is None else colliders
    setup = replace(setup, colliders=tuple(replace(each, is_on=True) for each in colliders))
    contacts, driven = Contacts(character, setup), picking.driven_nodes(character, setup.layers)
    layers = [layer for layer in setup.layers if registry.kind_of(layer.kind).meets]
    met = {}
    for layer in layers:
        indices = contacts.met_by(layer, driven, flesh_carriers(character, setup, layer))
        met[layer.id] = {contacts.colliders[index].id for index in indices}

    def meets(layer, collider):
        return meets_skin(setup, layer, collider) if collider.shape in SURFACES else collider.id in met[layer.id]

    return [(collider, [(layer, meets(layer, collider)) for layer in layers]) for collider in colliders]


def shapes(row):
    """What the stage draws: each collider's joint (a node's number or -1), place and turn there, core and radius [file units]."""
    character, _ = loaded(row.pk)
    contacts = Contacts(character, replace(row.setup, colliders=tuple(replace(each, is_on=True) for each in row.setup.colliders)))
    scale = row.setup.metres_per_unit
    rest = contacts.placements(rest_matrices(character.skeleton)[None])[0]
    simple = [collider for collider in row.setup.colliders if collider.shape not in SURFACES]
    surfaces = [
        {"id": skin.collider.id, "name": skin.collider.name, "isOn": skin.collider.is_on, "dots": _dots_of(skin, character.skeleton)}
        for skin in contacts.skins
        if skin.collider.shape != "skin"
    ]
    return surfaces + [
        {
            "id": each.id,
            "name": each.name,
            "shape": each.shape,
            "node": int(node),
            "isOn": each.is_on,
            "place": (placed[:, 3] / scale).tolist(),
            "turn": transforms.from_matrices(placed[:, :3]).tolist(),
            "core": [min(value, 1e6) for value in each.core],
            "radius": each.radius,
            "size": list(each.size),
        }
        for each, node, placed in zip(simple, contacts.nodes, rest, strict=True)
    ]


def _dots_of(skin, skeleton):
    """What the stage draws of a surface: for some of its vertices the node that carries each most, and where it is from there."""
    surface = skin.surface
    mesh, positions = surface.mesh, surface.rest / surface.scale
    some = np.unique(np.linspace(0, len(positions) - 1, MOST_DOTS).astype(int))
    nodes = np.full(len(positions), mesh.node)
    if mesh.skin >= 0:
        nodes = mesh.joints[np.arange(len(positions)), mesh.weights.argmax(1)]
    world = rest_matrices(skeleton)[nodes[some]]
    own = np.linalg.solve(world[:, :, :3], (positions[some] - world[:, :, 3])[..., None])[..., 0]
    return {"nodes": nodes[some].tolist(), "positions": np.round(own, 5).ravel().tolist()}


def facts_of(row, collider):
    """What the panel shows of a collider: labelled numbers as it takes them, [mm] and degrees."""
    scale = 1000.0 * row.setup.metres_per_unit
    rows = [(f"size {k}", name.capitalize(), collider.size[k] * scale, "mm", 0.0) for k, name in enumerate(SIZES[collider.shape])]
    axes = ("to the left", "up", "ahead")
    if collider.shape in SURFACES:
        axes = ()
    rows += [(f"place {k}", f"Place {axes[k]}", collider.place[k] * scale, "mm", None) for k in range(len(axes))]
    if collider.shape not in ("ball", *SURFACES):
        rows += [(f"turn {k}", f"Turned about {'XYZ'[k]}", angle, "°", None) for k, angle in enumerate(_degrees(collider.turn))]
    return {
        "collider": collider,
        "shape": LABELS[collider.shape],
        "numbers": [{"name": name, "label": label, "value": value, "unit": unit, "low": low} for name, label, value, unit, low in rows],
        "dials": [(dial, collider.value(dial.name), dial.is_choice) for dial in DIALS],
        "roots": _roots_inside(row, collider),
    }


def _roots_inside(row, collider):
    """The fixed roots near enough to the surface inside of a collider to move it off them: layer, joint and how deep [mm]."""
    character, _ = loaded(row.pk)
    inside = [root for root in inner_roots(character, row.setup) if root.collider.id == collider.id]
    if not all(root.is_shallow for root in inside):
        return []
    return [{"layer": root.layer.name, "joint": character.skeleton.names[root.node], "depth": 1000.0 * root.depth} for root in inside]


def _degrees(turn):
    """Angles about X, then Y, then Z that make a turn, in degrees."""
    with warnings.catch_warnings():
        # Where two of them turn about the same axis, one is zero.
        warnings.simplefilter("ignore", UserWarning)
        return tuple(float(angle) for angle in Rotation.from_quat(turn).as_euler("xyz", degrees=True).round(4))


def _turn_of(degrees):
    """The turn of angles about X, then Y, then Z."""
    return tuple(float(value) for value in Rotation.from_euler("xyz", degrees, degrees=True).as_quat())
