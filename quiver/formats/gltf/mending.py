"""What a strict reader of glTF 2.0 refuses although it can be read: listed when a file comes in, mended in what is exported of it."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from quiver.errors import BadFormat
from quiver.formats.gltf.accessors import ARRAY_TARGET, append_accessor, read_accessor

WEIGHT_SLACK = 2e-7
"""How far the weights of a vertex may be from one in all, for each that is not zero."""
UNIT_SLACK = 5e-3
"""How far from one the length of a normal, a tangent or a rotation may be."""
HINT = "It is mended in exported files."


@dataclass(frozen=True)
class Fault:
    """One thing that is wrong in a document; ``mend()`` changes its tree so that it no longer is."""

    id: str
    message: str
    where: str
    mend: Callable[[], None]


def faults(document):
    """The Faults of a document whose parts were read, in its order."""
    return [fault for find in (_of_nodes, _of_skins, _of_primitives, _of_animations) for fault in find(document)]


def mend(document):
    """Mend all Faults in the document's tree; what is not at fault stays as it came, byte for byte. Returns how many there were."""
    found = faults(document)
    for fault in found:
        fault.mend()
    return len(found)


def are_off(weights):
    """Which vertices' weights (V, I) do not add up to one, bool (V,)."""
    return np.abs(weights.sum(1, dtype=float) - 1.0) > WEIGHT_SLACK * np.maximum((weights > 0.0).sum(1), 1)


def _off_unit(values):
    """Which vectors (N, W) are not of unit length, bool (N,)."""
    return np.abs(np.linalg.norm(values.astype(float), axis=1) - 1.0) > UNIT_SLACK


def _unit(values):
    """Vectors (N, W) at unit length; what has none looks up, or turns nothing."""
    lengths = np.linalg.norm(values, axis=1, keepdims=True)
    upright = np.zeros(values.shape[1])
    upright[-1 if values.shape[1] == 4 else 1] = 1.0
    return np.where(lengths > 1e-6, values / np.maximum(lengths, 1e-6), upright).astype(np.float32)


def _read(document, index, what, widths=None):
    """An accessor's array, None where it cannot be read: what is not used here is nobody's reason to refuse a file."""
    try:
        return read_accessor(document, index, what, widths)
    except BadFormat:
        return None


def _of_nodes(document):
    for index, node in enumerate(document.parts["nodes"]):
        if node.rotation is not None and _off_unit(np.array([node.rotation])).any():
            raw = document.tree["nodes"][index]
            whole = _unit(np.array([node.rotation]))[0].tolist()
            # The reader of joints has a word of its own for it.
            yield Fault("", "", f"nodes[{index}]", lambda raw=raw, whole=whole: raw.update(rotation=whole))


def _of_skins(document):
    last = np.array([0.0, 0.0, 0.0, 1.0])
    for index, skin in enumerate(document.parts["skins"]):
        where = f"skins[{index}]"
        matrices = None if skin.inverse_bind_matrices is None else _read(document, skin.inverse_bind_matrices, where, (16,))
        if matrices is None or (matrices[:, 3::4] == last).all():
            continue

        def mend(index=index, matrices=matrices):
            whole = matrices.astype(np.float32)
            whole[:, 3::4] = last
            document.tree["skins"][index]["inverseBindMatrices"] = append_accessor(document, whole, "MAT4")

        yield Fault("bind-matrices", "inverse bind matrices do not end in the row 0 0 0 1", where, mend)


def _of_primitives(document):
    known, skins = {}, document.parts["skins"]
    fewest = {}
    for node in document.parts["nodes"]:
        if node.mesh is not None and node.skin is not None and node.skin < len(skins):
            fewest[node.mesh] = min(fewest.get(node.mesh, 2**31), len(skins[node.skin].joints))
    for number, mesh in enumerate(document.parts["meshes"]):
        for part, primitive in enumerate(mesh.primitives):
            where = f"meshes[{number}].primitives[{part}]"
            attributes = document.tree["meshes"][number]["primitives"][part].get("attributes", {})
            yield from _of_bounds(document, primitive.attributes.get("POSITION"), "positions", where, known)
            for key, widths in (("NORMAL", (3,)), ("TANGENT", (4,))):
                yield from _of_directions(document, attributes, key, widths, where, known)
            yield from _of_influences(document, attributes, fewest.get(number, 2**31), where)


def _of_bounds(document, index, what, where, known):
    """The least and the greatest value that positions and the times of keys must state."""
    values = None if index is None or index in known else _read(document, index, what)
    if values is None or not len(values):
        return
    known[index] = True
    accessor = document.tree["accessors"][index]
    # In float32, as the values are; what was normalised is stated in its integers.
    low, high = values.min(0), values.max(0)
    stated = (accessor.get("min"), accessor.get("max"))
    if document.parts["accessors"][index].normalized or all(_is_stated(*pair) for pair in zip(stated, (low, high), strict=True)):
        return
    yield Fault(
        "bounds",
        f"the least and greatest of {what} are {'not stated' if None in stated else 'stated wrongly'}",
        where,
        lambda: accessor.update(min=low.tolist(), max=high.tolist()),
    )


def _is_stated(stated, true):
    try:
        return stated is not None and bool((np.array(stated, np.float32) == true.astype(np.float32)).all())
    except (TypeError, ValueError, OverflowError):
        return False


def _of_directions(document, attributes, key, widths, where, known):
    index = attributes.get(key)
    values = None if index is None else _read(document, index, key, widths)
    if values is None:
        return
    bad = _off_unit(values[:, :3])
    signs = np.abs(values[:, 3]) != 1.0 if key == "TANGENT" else np.zeros(len(values), bool)
    if not (bad | signs).any():
        return

    def mend():
        if index not in known:
            whole = values.astype(np.float32)
            whole[bad, :3] = _unit(values[bad, :3])
            if key == "TANGENT":
                whole[signs, 3] = np.where(values[signs, 3] < 0.0, -1.0, 1.0)
            known[index] = append_accessor(document, whole, f"VEC{values.shape[1]}", target=ARRAY_TARGET)
        attributes[key] = known[index]

    yield Fault("unit", f"{int((bad | signs).sum())} {key.lower()}s are not of unit length", where, mend)


def _of_influences(document, attributes, joint_count, where):
    """Weights that do not add up, joints named twice at a vertex, and joints that are not there where the weight is zero."""
    sets = []
    while f"JOINTS_{len(sets)}" in attributes and f"WEIGHTS_{len(sets)}" in attributes:
        sets.append([_read(document, attributes[f"{name}_{len(sets)}"], where, (4,)) for name in ("JOINTS", "WEIGHTS")])
    if not sets or any(each is None for pair in sets for each in pair) or len({len(each) for pair in sets for each in pair}) > 1:
        return
    joints, weights = np.concatenate([pair[0] for pair in sets], 1), np.concatenate([pair[1] for pair in sets], 1).astype(float)
    beyond, twice = (joints >= joint_count) & (weights <= 0.0), _named_twice(joints, weights)
    off = are_off(weights) | (weights < 0.0).any(1)
    if not (beyond.any() or twice.any() or off.any()):
        return

    def repaired():
        own, share = np.where(beyond, 0, joints), np.maximum(weights, 0.0)
        for first in range(own.shape[1]):
            for second in range(first + 1, own.shape[1]):
                same = twice & (own[:, first] == own[:, second])
                share[same, first] += share[same, second]
                share[same, second] = 0.0
        own[twice[:, None] & (share <= 0.0)] = 0
        bare = share.sum(1) <= 1e-6
        share[bare, 0] = 1.0
        scaled = np.where(off[:, None] | twice[:, None], share / share.sum(1, keepdims=True), share)
        return own, scaled.astype(np.float32)

    def mend():
        own, share = repaired()
        for number in range(len(sets)):
            columns = slice(4 * number, 4 * number + 4)
            if off.any() or twice.any():
                attributes[f"WEIGHTS_{number}"] = append_accessor(document, share[:, columns], "VEC4", target=ARRAY_TARGET)
            if beyond.any() or twice.any():
                named = own[:, columns].astype(np.uint16)
                attributes[f"JOINTS_{number}"] = append_accessor(document, named, "VEC4", target=ARRAY_TARGET)

    words = [f"{int(twice.sum())} vertices name a joint twice"] if twice.any() else []
    words += [f"{int(beyond.any(1).sum())} vertices name joints that are not there, with no weight"] if beyond.any() else []
    # The reader of meshes has a word of its own for weights that do not add up.
    yield Fault("influences" if words else "", "; ".join(words), where, mend)


def _named_twice(joints, weights):
    """Which vertices give weight to one joint in two places, bool (V,)."""
    used = np.where(weights > 0.0, joints.astype(np.int64), -1 - np.arange(joints.shape[1]))
    ordered = np.sort(used, axis=1)
    return (ordered[:, 1:] == ordered[:, :-1]).any(1)


def _of_animations(document):
    known = {}
    for number, animation in enumerate(document.parts["animations"]):
        where = f"animations[{number}]"
        samplers = document.tree["animations"][number].get("samplers", [])
        inputs = {sampler.input: _read(document, sampler.input, where, (1,)) for sampler in animation.samplers}
        times = {index: values[:, 0].astype(np.float32) for index, values in inputs.items() if values is not None and len(values)}
        early = min((float(values.min()) for values in times.values()), default=0.0)
        stuck = {index for index, values in times.items() if (np.diff(values) <= 0.0).any()}
        for index in times:
            if early >= 0.0 and index not in stuck:
                yield from _of_bounds(document, index, "key times", where, known)
        if early < 0.0:
            yield Fault("early", f"keys begin {-early:.3g} s before zero", where, _retimed(document, samplers, times, -early))
        elif stuck:
            chosen = {index: times[index] for index in stuck}
            yield Fault("same-time", f"keys of {len(stuck)} samplers stand at one time", where, _retimed(document, samplers, chosen, 0.0))
        yield from _of_rotations(document, animation, samplers, where)


def _retimed(document, samplers, times, shift):
    """Mends the times of keys: later by ``shift`` [s], each after the one before it."""

    def mend():
        new = {}
        for index, values in times.items():
            later = values + np.float32(shift)
            for k in range(1, len(later)):
                later[k] = max(later[k], np.nextafter(later[k - 1], np.float32(np.inf)))
            new[index] = append_accessor(document, later[:, None], "SCALAR", bounds=True)
        for sampler in samplers:
            sampler["input"] = new.get(sampler["input"], sampler["input"])

    return mend


def _of_rotations(document, animation, samplers, where):
    turning = {channel.sampler for channel in animation.channels if channel.target.path == "rotation"}
    for number in sorted(turning):
        sampler = animation.samplers[number] if number < len(animation.samplers) else None
        # What a cubic spline goes through in between need not be of unit length.
        values = None if sampler is None or sampler.interpolation == "CUBICSPLINE" else _read(document, sampler.output, where, (4,))
        if values is None or not _off_unit(values).any():
            continue

        def mend(number=number, values=values):
            samplers[number]["output"] = append_accessor(document, _unit(values), "VEC4")

        yield Fault("unit", f"{int(_off_unit(values).sum())} rotations of keys are not of unit length", f"{where}.samplers[{number}]", mend)
