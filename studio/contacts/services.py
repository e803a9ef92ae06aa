"""Edits of a setup's colliders, and what the panel and the stage show of them."""

from dataclasses import replace

import numpy as np

from quiver import dials
from quiver.bodies import fitting, picking, simplified
from quiver.colliders import LABELS, SIZES, SURFACES
from quiver.errors import BadInput
from quiver.contact.contacts import Contacts, flesh_carriers, meets_skin
from quiver.mesh import regions
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from studio.characters.services import joint_names, loaded
from studio.takes.edits import checked_number, checked_place, edit

FIRST_SHARE = 0.08
"""A collider that is not fitted to anything begins as large as this share of the character's size."""

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
        return edit(row, lambda setup: setup.with_new_collider(shape, name, size=size, mesh=mesh.name), f"Collider: {name}")
    fields, name = _placed(character, shape, _joint(row, joint)), joint or LABELS.get(shape, "Collider")
    return edit(row, lambda setup: setup.with_new_collider(shape, name, **fields), f"Collider: {name}")


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


def fit_all(row, shape="capsule"):
    """Give every joint that moves enough skin a capsule, or a hull, but those that have one already, or that chains drive.

    Raises BadInput.
    """
    if shape not in ("capsule", "hull"):
        raise BadInput(f"expected capsules or hulls for all joints, got “{shape}”")
    character, _ = loaded(row.pk)
    skeleton, setup = character.skeleton, row.setup
    taken = {skeleton.index(each.joint) for each in setup.colliders if each.joint and each.joint in skeleton}
    found = fitting.fit_all(character, taken | picking.driven_nodes(character, setup.layers))
    if shape == "hull":
        found = {node: fitted for node, fitted in found.items() if _has_hull(character, skeleton.names[node])}
    if not found:
        raise BadInput("expected joints without a collider that move skin, but there are none left")

    def change(setup):
        for node, fitted in found.items():
            name, fields = skeleton.names[node], _as_shape(shape, *fitted) if shape == "capsule" else {"size": ()}
            setup = setup.with_new_collider(shape, name, joint=name, **fields)
        return setup

    return edit(row, change, f"{len(found)} {shape}s fitted")


def _has_hull(character, joint):
    """Whether what a joint moves has a volume."""
    try:
        simplified.hull_mesh(character, joint, rest_matrices(character.skeleton))
    except BadInput:
        return False
    return True


def change(row, collider_id, action, text):
    """Switch, rename, remove, mirror or fit a collider, or let it ride on another joint. Raises BadInput."""
    collider = row.setup.collider(collider_id)
    actions = {
        "switch": lambda: ("off" if collider.is_on else "on", replace(collider, is_on=not collider.is_on)),
        "rename": lambda: ("renamed", replace(collider, name=text.strip()[:200] or collider.name)),
        "ride": lambda: ("rides elsewhere", replace(collider, joint=_joint(row, text.strip()))),
        "fit": lambda: ("fitted", replace(collider, **_placed(loaded(row.pk)[0], collider.shape, collider.joint))),
    }
    if action == "remove":
        return edit(row, lambda setup: setup.without_collider(collider_id), f"{collider.name}: removed")
    if action == "mirror":
        fields = _mirrored(row, collider)
        return edit(row, lambda setup: setup.with_new_collider(collider.shape, **fields), f"{collider.name}: mirrored")
    if action not in actions:
        raise BadInput(f"expected one of {', '.join([*actions, 'remove', 'mirror'])}, got “{action}”")
    label, changed = actions[action]()
    return edit(row, lambda setup: setup.with_collider(changed), f"{collider.name}: {label}")


def add_touch(row, of, joints, against):
    """Keep an area of the skin from another, or, with "", from the rest of its mesh. Raises BadInput.

    ``of`` is a region's id, or "joints:" for what ``joints`` (names with commas between) and those below them move.
    """
    if of != "joints:":
        region = row.setup.region(of)
        return edit(row, lambda setup: setup.with_new_touch(of, against), f"{region.name} touches")
    character, _ = loaded(row.pk)
    mesh, levels = picking.moved_by(character, joint_names(row, joints.strip()))

    def change(setup):
        setup = setup.with_new_region(joints[:200], mesh.name, len(levels), regions.encode(levels))
        return setup.with_new_touch(setup.regions[-1].id, against)

    return edit(row, change, f"{joints} touches"[:200])


def touches(row):
    """The touch layers: (layer, its region's name, the other region's name or "")."""
    setup = row.setup
    layers = [layer for layer in setup.layers if layer.kind == "touch"]
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
    collider = row.setup.collider(collider_id)
    kind, _, which = name.partition(" ")
    if kind not in ("size", "place", "turn"):
        changed = replace(collider, values=collider.values | {name: dials.dial_of("collider", name).checked(value)})
        return edit(row, lambda setup: setup.with_collider(changed), f"{collider.name}: {dials.dial_of('collider', name).label}")
    numbers = list(_degrees(collider.turn) if kind == "turn" else getattr(collider, kind))
    number = checked_number(value)
    if not which.isdecimal() or int(which) >= len(numbers):
        raise BadInput(f"expected one of {len(numbers)} numbers of its {kind}, got “{name}”")
    numbers[int(which)] = number if kind == "turn" else number / (1000.0 * row.setup.metres_per_unit)
    if kind == "size" and number < 0.0:
        raise BadInput(f"expected a size of 0 mm or more, got “{value}”")
    changed = replace(collider, **{kind: _turn_of(numbers) if kind == "turn" else tuple(numbers)})
    return edit(row, lambda setup: setup.with_collider(changed), f"{collider.name}: {kind}")


def move(row, collider_id, place, turn, size):
    """Put a collider where the stage dragged it: a place and a turn (x y z w) in the rest pose, and sizes [file units]. Raises BadInput."""
    collider = row.setup.collider(collider_id)
    place, turn, size = checked_place(place, turn, size, len(collider.size))
    changed = replace(collider, place=place, turn=turn, size=size)
    return edit(row, lambda setup: setup.with_collider(changed), f"{collider.name}: moved")


def meet(row, collider_id, layer_id, is_met):
    """Let a layer meet a collider, or spare it. Raises BadInput."""
    layer, collider = row.setup.layer(layer_id), row.setup.collider(collider_id)
    if layer.kind not in dials.MEETING_KINDS:
        raise BadInput(f"expected a layer that is simulated to meet a collider, “{layer.name}” is a {layer.kind}")
    without = {name: tuple(each for each in getattr(collider, name) if each != layer_id) for name in ("meets", "spares")}
    plain = replace(collider, **without)
    if _meets(row, plain)[layer_id] != is_met:
        name = "meets" if is_met else "spares"
        plain = replace(plain, **{name: (*getattr(plain, name), layer_id)})
    words = "meets" if is_met else "spares"
    return edit(row, lambda setup: setup.with_collider(plain), f"{layer.name} {words} {collider.name}")


def watch_skin(row, is_watched):
    """Let takes tell how deep all of the skin gets into the colliders, or not."""
    words = "Whole skin watched" if is_watched else "Whole skin not watched"
    return edit(row, lambda setup: replace(setup, watches_skin=is_watched), words)


def _meets(row, collider):
    """{layer id: whether it meets a collider}."""
    return {layer.id: met for layer, met in matrix(row, [collider])[0][1]}


def matrix(row, colliders=None):
    """Who meets whom: (collider, [(layer, whether it meets it, None where it never could)]) for each collider."""
    character, _ = loaded(row.pk)
    colliders = row.setup.colliders if colliders is None else colliders
    setup = replace(row.setup, colliders=tuple(replace(each, is_on=True) for each in colliders))
    contacts, driven = Contacts(character, setup), picking.driven_nodes(character, setup.layers)
    layers = [layer for layer in setup.layers if layer.kind in dials.MEETING_KINDS]
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
    mesh, places = surface.mesh, surface.rest / surface.scale
    some = np.unique(np.linspace(0, len(places) - 1, MOST_DOTS).astype(int))
    nodes = np.full(len(places), mesh.node)
    if mesh.skin >= 0:
        nodes = mesh.joints[np.arange(len(places)), mesh.weights.argmax(1)]
    world = rest_matrices(skeleton)[nodes[some]]
    own = np.linalg.solve(world[:, :, :3], (places[some] - world[:, :, 3])[..., None])[..., 0]
    return {"nodes": nodes[some].tolist(), "places": np.round(own, 5).ravel().tolist()}


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
        "dials": [(dial, collider.value(dial.name), hasattr(dial, "options")) for dial in dials.COLLIDER_DIALS],
    }


def _degrees(turn):
    """Angles about X, then Y, then Z that make a turn, in degrees."""
    x, y, z, w = turn
    pitch = np.arcsin(np.clip(2.0 * (w * y - z * x), -1.0, 1.0))
    roll = np.arctan2(2.0 * (w * x + y * z), 1.0 - 2.0 * (x * x + y * y))
    yaw = np.arctan2(2.0 * (w * z + x * y), 1.0 - 2.0 * (y * y + z * z))
    return tuple(float(round(value, 4)) for value in np.degrees([roll, pitch, yaw]))


def _turn_of(degrees):
    """The turn of angles about X, then Y, then Z."""
    turn = transforms.IDENTITY
    for axis, angle in zip(np.eye(3), np.radians(degrees), strict=True):
        turn = transforms.multiply(transforms.from_axis_angle(axis, angle), turn)
    return tuple(float(value) for value in turn)
