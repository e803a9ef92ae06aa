"""Adding to a glTF document without touching what is there."""

from dataclasses import replace

import numpy as np

from quiver.errors import BadInput
from quiver.formats.gltf.accessors import ARRAY_TARGET, INDEX_TARGET, append_accessor, append_bytes


def add_clip(document, name, tracks, skeleton, kept_from=()):
    """Add a clip as a new animation. ``tracks`` are baked Tracks (node, path, times [s], values); one LINEAR sampler each.

    ``kept_from`` names animations of the document whose other channels go along untouched (they share the old data).
    Nodes placed by a matrix are re-written as translation, rotation and scale, as the standard asks of animated nodes.
    """
    samplers, channels, inputs = [], [], {}
    baked = {(track.node, track.path) for track in tracks}
    for index in kept_from:
        animation = document.tree["animations"][index]
        for channel in animation["channels"]:
            if (channel["target"].get("node"), channel["target"]["path"]) not in baked:
                samplers.append(dict(animation["samplers"][channel["sampler"]]))
                channels.append({**channel, "sampler": len(samplers) - 1})
    for track in tracks:
        times = np.asarray(track.times, np.float32)
        key = times.tobytes()
        if key not in inputs:
            inputs[key] = append_accessor(document, times[:, None], "SCALAR", bounds=True)
        kind = "VEC4" if track.path == "rotation" else "VEC3"
        values = append_accessor(document, np.asarray(track.values, np.float32), kind)
        samplers.append({"input": inputs[key], "output": values, "interpolation": "LINEAR"})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": int(track.node), "path": track.path}})
        _place_by_parts(document.tree["nodes"][track.node], track.node, skeleton)
    document.tree.setdefault("animations", []).append({"name": name, "samplers": samplers, "channels": channels})


def add_meshes(document, meshes):
    """Add those of meshes that the document does not have, each at a node of its own below the one that it goes with.

    Returns all meshes as they are in the document then.
    """
    tree, out = document.tree, []
    for mesh in meshes:
        if mesh.primitive >= 0:
            out.append(mesh)
            continue
        points = append_accessor(document, mesh.positions, "VEC3", bounds=True, target=ARRAY_TARGET)
        corners = append_accessor(document, mesh.triangles.astype(np.uint32).reshape(-1, 1), "SCALAR", target=INDEX_TARGET)
        primitive = {"attributes": {"POSITION": points}, "indices": corners}
        tree.setdefault("meshes", []).append({"name": mesh.name, "primitives": [primitive]})
        tree["nodes"].append({"name": mesh.name, "mesh": len(tree["meshes"]) - 1})
        node = len(tree["nodes"]) - 1
        tree["nodes"][mesh.node].setdefault("children", []).append(node)
        out.append(replace(mesh, node=node, primitive=0))
    return out


def add_shapes(document, meshes, of_clips):
    """Add Shapes (quiver.bake.meshes) as morph targets, and their weights to the last animations: of_clips are (times [s], shapes) of each.

    A clip's own shapes are still in the others. ``meshes`` are the character's. Raises BadInput where a mesh has morph targets of its own.
    """
    animations = document.tree["animations"][-len(of_clips) :]
    by_node = {}
    for clip, (_, shapes) in enumerate(of_clips):
        for shape in shapes:
            by_node.setdefault(meshes[shape.mesh_index].node, []).append((clip, shape))
    seconds = [append_accessor(document, np.asarray(times, np.float32)[:, None], "SCALAR", bounds=True) for times, _ in of_clips]
    for node, group in by_node.items():
        mesh = document.tree["meshes"][document.tree["nodes"][node]["mesh"]]
        if any("targets" in primitive for primitive in mesh["primitives"]):
            raise BadInput(f"“{meshes[group[0][1].mesh_index].name}” has morph targets of its own; bake it as a point cache instead")
        for number, primitive in enumerate(mesh["primitives"]):
            primitive["targets"] = []
            for _, shape in group:
                is_own = meshes[shape.mesh_index].primitive == number
                primitive["targets"] += (
                    _targets(document, primitive, shape) if is_own else _still_targets(document, primitive, len(shape.deltas))
                )
        mesh["weights"] = [0.0] * sum(len(shape.deltas) for _, shape in group)
        for clip in sorted({clip for clip, _ in group}):
            _add_weights(document, animations[clip], seconds[clip], node, len(of_clips[clip][0]), clip, group)


def _add_weights(document, animation, seconds, node, frames, clip, group):
    """The weights of a node's morph targets in one clip; those of other clips are none."""
    own = [shape.weights if whose == clip else np.zeros((frames, len(shape.deltas)), np.float32) for whose, shape in group]
    output = append_accessor(document, np.ascontiguousarray(np.concatenate(own, 1).reshape(-1, 1), np.float32), "SCALAR")
    animation["samplers"].append({"input": seconds, "output": output, "interpolation": "LINEAR"})
    animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": {"node": int(node), "path": "weights"}})


def _targets(document, primitive, shape):
    """One morph target for each delta; all share one list of vertices and one block of values."""
    count = document.tree["accessors"][primitive["attributes"]["POSITION"]]["count"]
    order = np.argsort(shape.vertices)
    # Where they are in order already, no second copy of all deltas is made.
    deltas = shape.deltas if (order == np.arange(len(order))).all() else shape.deltas[:, order]
    indices = _append_view(document, np.asarray(shape.vertices)[order].astype("<u4"))
    values = _append_view(document, np.ascontiguousarray(deltas, "<f4"))
    targets = []
    for number, delta in enumerate(shape.deltas):
        # Vertices that are not named stay, so zero belongs to the range where there are any.
        ranged = delta if len(order) == count else np.vstack([delta, np.zeros(3, np.float32)])
        bounds = {"min": ranged.min(0).tolist(), "max": ranged.max(0).tolist()}
        sparse = {
            "count": len(order),
            "indices": {"bufferView": indices, "componentType": 5125},
            "values": {"bufferView": values, "byteOffset": number * delta.nbytes},
        }
        document.tree["accessors"].append({"componentType": 5126, "count": count, "type": "VEC3", **bounds, "sparse": sparse})
        targets.append({"POSITION": len(document.tree["accessors"]) - 1})
    return targets


def _still_targets(document, primitive, count):
    """Morph targets that move nothing: all primitives of a mesh must have as many."""
    vertices = document.tree["accessors"][primitive["attributes"]["POSITION"]]["count"]
    zero = {"componentType": 5126, "count": vertices, "type": "VEC3", "min": [0.0] * 3, "max": [0.0] * 3}
    document.tree["accessors"].append(zero)
    return [{"POSITION": len(document.tree["accessors"]) - 1}] * count


def _append_view(document, values):
    """Append bytes to the first buffer as a view; returns its number."""
    start = append_bytes(document, values)
    document.tree["bufferViews"].append({"buffer": 0, "byteOffset": start, "byteLength": values.nbytes})
    return len(document.tree["bufferViews"]) - 1


def _place_by_parts(node, index, skeleton):
    if node.pop("matrix", None) is None:
        return
    node["translation"] = skeleton.rest.translations[index].tolist()
    node["rotation"] = skeleton.rest.rotations[index].tolist()
    node["scale"] = skeleton.rest.scales[index].tolist()
