"""Edits of muscles: layers of closed pieces, what they are attached to, what pulls them; and what the stage draws of them."""

from dataclasses import replace

import numpy as np

from quiver import layers as registry
from quiver.bodies import attaching, muscle, picking, pieces
from quiver.bodies.inner import outer_meshes
from quiver.bodies.made import with_made
from quiver.errors import BadInput
from quiver.formats import muscles as looks
from quiver.layers.kinds import MUSCLES
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions
from quiver.run.parts.built_muscle import BuiltMuscle, piece_of, resting
from quiver.setup import edits as setup_edits
from quiver.setup import muscles as edits
from quiver.setup.model import AXES, CURVES, MOST_POINTS, MUSCLE_SHAPES, PULLED_BY, Attachment, Muscle, MuscleForm, PullDriver
from studio.characters.services import loaded
from studio.edits.services import checked_number, edit
from studio.numbers import whole_number

MOST_AT_ONCE, MIRRORED = 400, 0.15
SET_ASIDE = 12
"""So many pieces become muscles at once, at the most; how near to its mirror place the other side's is, against its length; and pieces that
cannot be muscles of which a message names so many."""


def meshes_of(row):
    """[(name of a mesh, pieces that can be muscles, pieces in all, whether it is under the skin)] of those that have any."""
    character, found = loaded(row.pk)[0], []
    outer = {index for index, _ in outer_meshes(character)}
    for index, mesh in enumerate(character.meshes):
        all_of_it = pieces.pieces_of(character, mesh.name, row.setup.metres_per_unit)
        good = sum(not piece.hinders for piece in all_of_it)
        if good:
            found.append((mesh.name, good, len(all_of_it), index not in outer))
    return found


def add_muscles(row, names, into=""):
    """A layer of all closed pieces of some meshes (names), each attached to what is near its ends; ``into`` puts them into a layer.

    Returns the Take or None, and the ids of the layers. Raises BadInput where no piece can be a muscle.
    """
    character, scale = loaded(row.pk)[0], row.setup.metres_per_unit
    made, aside = [], []
    taken = {(own.mesh, own.at) for layer in row.setup.layers for own in layer.muscles if not own.form}
    for name in names:
        found = pieces.pieces_of(character, name, scale)
        for number, piece in enumerate(found, 1):
            called = name if len(found) == 1 else f"{name} {number}"
            if piece.hinders:
                aside.append(f"{called} is {piece.problems[0]}")
            elif (name, piece.at) not in taken:
                shape = muscle.shape_of(piece.points, piece.triangles)
                made.append(Muscle("", called, name, piece.at, *attaching.proposed(character, piece, shape.line, scale)))
    if not made or len(made) > MOST_AT_ONCE:
        why = f": {'; '.join(aside[:SET_ASIDE])}" if aside else ""
        raise BadInput(f"expected 1 to {MOST_AT_ONCE} closed pieces that are no muscles yet, got {len(made)}{why}")
    bones = sorted({end.bone for own in made for end in (own.origin, own.insertion) if end.bone})
    label = names[0] if len(names) == 1 else "Muscles"

    def command(setup):
        if into:
            return edits.with_more_muscles(setup, into, made)
        return edits.with_new_muscles(setup, label, made, bones)

    done = edit(row, command, f"{len(made)} muscle{'s' if len(made) > 1 else ''} of {', '.join(names)}"[:200])
    return done.take, [into or done.setup.layers[-1].id]


def add_empty(row):
    """A layer of muscles without one, to make some by clicking. Returns the ids of the layers."""

    def command(setup):
        return setup_edits.with_new_layer(setup, setup_edits.new_layer("muscle", "", "Muscles"))

    return [edit(row, command, "Muscles").setup.layers[-1].id]


def make_muscle(row, layer_id, mesh_name, vertices, sent):
    """Make a muscle under the points that were clicked on the skin, from its origin to its insertion. Returns the Take or None.

    It lies as deep below them as it is thick, and is attached to the joints that move the first and the last of them most. Raises BadInput.
    """
    character, metres = loaded(row.pk)[0], row.setup.metres_per_unit
    numbers = [number for number in map(whole_number, vertices.split()) if number is not None]
    if not 2 <= len(numbers) <= MOST_POINTS:
        raise BadInput(
            f"expected 2 to {MOST_POINTS} points, origin first, insertion last, got {len(numbers)}: press “Pick points” and click"
        )
    mesh = character.mesh(mesh_name)
    if max(numbers) >= len(mesh.positions):
        raise BadInput(f"expected vertices of “{mesh_name}”, got number {max(numbers)}")
    width, thickness = (_number(sent, name, 0.0) / 1000.0 / metres for name in ("width", "thickness"))
    points, outwards = attaching.under_skin(character, mesh, numbers, 0.5 * thickness)
    length = float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())
    # Where nobody says how thick, as muscles of that length mostly are.
    width, thickness = width or 0.24 * length, thickness or 0.2 * length
    shape = sent.get("shape", "spindle")
    if shape not in MUSCLE_SHAPES or min(width, thickness) <= 0.0 or length <= 0.0:
        raise BadInput(f"expected a shape from {', '.join(MUSCLE_SHAPES.values())}, a width and a thickness, got “{shape}”")
    points, outwards = attaching.under_skin(character, mesh, numbers, 0.55 * thickness)
    form = MuscleForm(tuple(map(tuple, points.tolist())), shape, width, thickness, outwards=tuple(outwards.tolist()))
    heaviest = [character.skeleton.names[int(mesh.heaviest[number])] for number in (numbers[0], numbers[-1])]
    label = sent.get("name", "").strip()[:200] or _named_by(*heaviest)
    made = Muscle("", label, "", 0, Attachment(heaviest[0]), Attachment(heaviest[1]), form=form)
    return edit(row, lambda setup: edits.with_more_muscles(setup, layer_id, [made]), f"{label}: made").take


def _named_by(origin, insertion):
    return f"{origin} to {insertion}"


def mirror(row, layer_id, names):
    """Put the other side's muscle of each of some (ids) into their layer. Returns the Take or None. Raises BadInput."""
    setup = row.setup
    character, layer = with_made(loaded(row.pk)[0], setup), setup.layer(layer_id)
    taken = {(own.mesh, own.at) for own in layer.muscles if not own.form}
    made = [other for name in names if (other := _other_side(character, setup, layer, layer.muscle(name), taken)) is not None]
    if not made:
        raise BadInput("the other side has no piece for these muscles, or has them as muscles already")
    return edit(
        row, lambda now: edits.with_more_muscles(now, layer_id, made), f"{len(made)} muscle{'s' if len(made) > 1 else ''} mirrored"
    ).take


def _other_side(character, setup, layer, own, taken):
    """The Muscle on the other side, without an id; None where there is no piece for it, or one that is taken."""
    joints = [_mirrored_joint(character, end.joint) for end in (own.origin, own.insertion)]
    bones = [_mirrored_bone(character, end.bone) for end in (own.origin, own.insertion)]
    ends = [replace(end, joint=joint, bone=bone) for end, joint, bone in zip((own.origin, own.insertion), joints, bones, strict=True)]
    drivers = tuple(replace(each, of=_mirrored_joint(character, each.of)) if each.by == "angle" else each for each in own.drivers)
    is_named_by = own.name == _named_by(own.origin.joint, own.insertion.joint)
    name = _named_by(*joints) if is_named_by else f"{own.name}, other side"[:200]
    changed = replace(
        own, id="", name=name, origin=ends[0], insertion=ends[1], drivers=tuple(each for each in drivers if each.by != "muscle")
    )
    if own.form:
        return replace(changed, form=own.form.mirrored())
    mine = BuiltMuscle(character, setup, layer, own).piece
    wanted = mine.points.mean(0) * [-1.0, 1.0, 1.0]
    others = [
        piece for mesh in character.meshes for piece in pieces.pieces_of(character, mesh.name, setup.metres_per_unit) if not piece.hinders
    ]
    nearest = min(others, key=lambda piece: float(np.linalg.norm(piece.points.mean(0) - wanted)))
    is_there = float(np.linalg.norm(nearest.points.mean(0) - wanted)) < MIRRORED * mine.length and nearest is not mine
    return replace(changed, mesh=nearest.mesh, at=nearest.at) if is_there and (nearest.mesh, nearest.at) not in taken else None


def _mirrored_joint(character, name):
    return character.skeleton.names[picking.partner_of(character, character.skeleton.index(name))]


def _mirrored_bone(character, name):
    """The bone on the other side, itself where there is none."""
    if not name:
        return ""
    rest = rest_matrices(character.skeleton)
    middles = {each: skinned_positions(character.mesh(each), rest).mean(0) for each in attaching.bones_of(character)}
    wanted = middles[name] * [-1.0, 1.0, 1.0]
    return min(middles, key=lambda each: float(np.linalg.norm(middles[each] - wanted)))


def change(row, layer_id, name, command, sent):
    """Change one muscle (its id) as a form says: its ``command``, and what it sent. Returns the Take or None. Raises BadInput."""
    if command not in _COMMANDS:
        raise BadInput(f"expected one of {', '.join(_COMMANDS)}, got “{command}”")
    function, words = _COMMANDS[command]

    def named(setup):
        return f"{setup.layer(layer_id).muscle(name).name}: {words}"

    return edit(row, lambda setup: function(setup, layer_id, name, sent, row), named).take


def drive_all(row, layer_id, sent):
    """Let one driver pull all muscles of a layer. Returns the Take or None. Raises BadInput."""
    driver = _driver(sent)

    def command(setup):
        return edits.set_drivers(setup, layer_id, [own.id for own in setup.layer(layer_id).muscles], (driver,))

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: pulled by {PULLED_BY[driver.by]}").take


def set_rest(row, layer_id, clip, frame):
    """In which frame of which clip the muscles of a layer rest; without a clip, in the rig's rest pose. Returns the Take or None.

    Raises BadInput.
    """

    def command(setup):
        changed = replace(setup.layer(layer_id), rests=(clip, checked_number(frame or "0")) if clip else None)
        resting(loaded(row.pk)[0], changed, setup)
        return edits.with_layer(setup, changed)

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: rest pose").take


def set_bones(row, layer_id, names):
    """Which meshes the muscles of a layer keep off. Returns the Take or None. Raises BadInput."""
    known = attaching.bones_of(loaded(row.pk)[0])
    unknown = [name for name in names if name not in known]
    if unknown:
        raise BadInput(f"expected meshes that move with one joint, got “{unknown[0]}”")

    def command(setup):
        return edits.with_layer(setup, replace(setup.layer(layer_id), bones=tuple(sorted(set(names)))))

    return edit(row, command, lambda setup: f"{setup.layer(layer_id).name}: bones").take


def facts_of(row, layer):
    """What the panel says of a layer's muscles: rows, which say ``where`` on the stage, a mesh and a vertex of it, each is; pieces of their
    meshes that are set aside; and the bones that there are with whether they are kept off."""
    setup = row.setup
    character = with_made(loaded(row.pk)[0], setup)
    rows = []
    for own in layer.muscles:
        made = {"own": own, "length": None, "where": ""}
        rows.append(made)
        try:
            piece = piece_of(resting(character, layer, setup), setup, layer, own)
            made["where"] = _where(character, piece.mesh, piece.spot)
            built = BuiltMuscle(character, setup, layer, own)
        except BadInput as error:
            made["problems"] = [str(error)]
        else:
            made["problems"] = [*built.piece.problems, *built.notes]
            made |= {"length": 1000.0 * built.piece.length, "where": _where(character, piece.mesh, built.spot)}
    own_meshes = {own.mesh for own in layer.muscles if own.mesh}
    aside = [
        (f"{mesh} {number}", piece.problems[0], _where(character, mesh, piece.spot))
        for mesh in sorted(own_meshes)
        for number, piece in enumerate(pieces.pieces_of(character, mesh, setup.metres_per_unit), 1)
        if piece.hinders
    ]
    bones = [(name, name in layer.bones) for name in attaching.bones_of(character) if name not in own_meshes]
    return {
        "rows": rows,
        "aside": aside,
        "bones": bones,
        "rests": [clip.name for clip in character.clips] if layer.muscles and not any(own.form for own in layer.muscles) else [],
        "shapes": MUSCLE_SHAPES.items(),
        "meshes": [each for each in meshes_of(row) if each[0] not in own_meshes],
    }


def _where(character, mesh, vertex):
    return f"{character.mesh_index(mesh)} {vertex}"


def one(row, layer_id, name):
    """What the form of one muscle shows. Raises BadInput."""
    setup = row.setup
    character = with_made(loaded(row.pk)[0], setup)
    layer = setup.layer(layer_id)
    own, kind = layer.muscle(name), registry.kind_of(layer.kind)
    dials = [(kind.dial(each), own.values.get(each), layer.value(each)) for each in kind.own_dials]
    skeleton = character.skeleton
    joints = [name for name, is_joint in zip(skeleton.names, skeleton.is_joint, strict=True) if is_joint or not skeleton.is_joint.any()]
    return {
        "layer": layer,
        "own": own,
        "ends": [(end, getattr(own, end)) for end in edits.ENDS],
        "dials": dials,
        "joints": joints,
        "bones": [each for each in attaching.bones_of(character) if each != own.mesh],
        "regions": [region for region in setup.regions if own.mesh and region.mesh == own.mesh and not region.is_final],
        "others": [other for other in layer.muscles if other.id != own.id],
        "pulled_by": PULLED_BY.items(),
        "curves": CURVES.items(),
        "axes": AXES.items(),
    }


def looks_of(row):
    """What the stage draws of all muscles and bones of the layers that are on, as plain values."""
    setup = row.setup
    character = with_made(loaded(row.pk)[0], setup)
    found, bones = [], set()
    for layer in setup.layers:
        if registry.kind_of(layer.kind).made_of != MUSCLES or not layer.is_on:
            continue
        bones |= {character.mesh_index(name) for name in layer.bones}
        for own in layer.muscles:
            try:
                built = BuiltMuscle(character, setup, layer, own)
                found.append({"layer": layer.id, "muscle": own.id} | looks.look(character, built))
            except BadInput:
                # The panel says what is wrong with it.
                continue
    count = len(loaded(row.pk)[0].meshes)
    made = [
        {
            "name": mesh.name,
            "mesh": count + at,
            "node": mesh.node,
            "positions": mesh.positions.ravel().tolist(),
            "triangles": mesh.triangles.ravel().tolist(),
        }
        for at, mesh in enumerate(character.meshes[count:])
    ]
    return {"muscles": found, "bones": sorted(bones), "made": made}


def _number(sent, name, otherwise=0.0):
    text = sent.get(name, "").strip()
    return checked_number(text) if text else otherwise


def _driver(sent):
    by = sent.get("by", "")
    return PullDriver(
        by,
        sent.get("muscle" if by == "muscle" else "joint", "") if by in ("angle", "muscle") else "",
        _number(sent, "low"),
        _number(sent, "high", 1.0),
        sent.get("axis", "any"),
        sent.get("curve", "soft"),
        _number(sent, "share", 1.0),
    )


def _attach(setup, layer, name, sent, row):
    end, _, to = sent.get("to", "").partition(":")
    character = loaded(row.pk)[0]
    joint = to
    if end == "bone":
        bones = attaching.bones_of(character)
        if to not in bones:
            raise BadInput(f"expected a mesh that moves with one joint, got “{to}”")
        joint = character.skeleton.names[bones[to]]
    elif to not in character.skeleton:
        raise BadInput(f"expected a joint or a bone to attach to, got “{to}”")
    made = Attachment(joint, to if end == "bone" else "", _number(sent, "reach"), _number(sent, "firmness"), sent.get("region", ""))
    return edits.attach(setup, layer, name, sent.get("end", ""), made)


def _keys(setup, layer, name, sent, _row):
    frames, values = sent.getlist("frame"), sent.getlist("value")
    if "add" in sent:
        frames, values = [*frames, sent.get("new_frame", "")], [*values, sent.get("new_value", "")]
    removed = sent.get("remove")
    keys = {checked_number(frame): checked_number(value) for frame, value in zip(frames, values, strict=False) if frame != removed}
    return edits.set_pull(setup, layer, name, keys)


def _add_driver(setup, layer, name, sent, row):
    own, driver = setup.layer(layer).muscle(name), _driver(sent)
    if driver.by == "angle" and driver.of not in loaded(row.pk)[0].skeleton:
        raise BadInput(f"expected a joint whose angle pulls, got “{driver.of}”")
    return edits.set_drivers(setup, layer, [name], (*own.drivers, driver))


def _remove_driver(setup, layer, name, sent, _row):
    own, number = setup.layer(layer).muscle(name), sent.get("number", "")
    return edits.set_drivers(setup, layer, [name], tuple(each for at, each in enumerate(own.drivers) if str(at) != number))


def _dial(setup, layer, name, sent, _row):
    text = sent.get("value", "").strip()
    return edits.set_own_dial(setup, layer, name, sent.get("dial", ""), text or None)


_COMMANDS = {
    "rename": (lambda setup, layer, name, sent, row: edits.rename_muscle(setup, layer, name, sent.get("value", "")), "renamed"),
    "attach": (_attach, "attached"),
    "swap": (lambda setup, layer, name, sent, row: edits.swap_ends(setup, layer, name), "ends swapped"),
    "keys": (_keys, "pull keys"),
    "smooth": (lambda setup, layer, name, sent, row: edits.set_smoothing(setup, layer, name, _number(sent, "value")), "smoothing"),
    "drive": (_add_driver, "pulled"),
    "undrive": (_remove_driver, "pulled no longer"),
    "dial": (_dial, "own dial"),
    "remove": (lambda setup, layer, name, sent, row: edits.without_muscles(setup, layer, [name]), "removed"),
}
